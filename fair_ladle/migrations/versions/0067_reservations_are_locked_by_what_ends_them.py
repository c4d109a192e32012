"""A reservation is written where it ends; nothing counts its locks."""

from alembic import op

revision = "0067"
down_revision = "0066"


def upgrade() -> None:
    """One column less."""
    op.drop_column("storage_reservations", "touched")
