"""The migrations make the tables that the code knows."""

from __future__ import annotations

import re

from alembic.autogenerate import compare_metadata
from alembic.migration import MigrationContext

from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.schema import metadata, migrate


def test_the_migrations_end_where_the_tables_are(database: Database) -> None:
    assert migrate(database.engine) is False, "nothing left to migrate"
    with database.engine.connect() as connection:
        differences = compare_metadata(MigrationContext.configure(connection, opts={"compare_type": True}), metadata)
    assert [each for each in differences if not re.search("lock_order", str(each))] == []
