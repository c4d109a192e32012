"""The newest notices of a whole installation are found by an index."""

from alembic import op

revision = "0065"
down_revision = "0064"


def upgrade() -> None:
    """Also what is older than is shown is passed over."""
    op.create_index("ix_notices_at", "notices", ["at"])
