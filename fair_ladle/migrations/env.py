"""Alembic's entry: migrates the database whose connection it is handed."""

from alembic import context

from fair_ladle.app.plumbing.schema import metadata

context.configure(connection=context.config.attributes["connection"], target_metadata=metadata, compare_type=True)
with context.begin_transaction():
    context.run_migrations()
