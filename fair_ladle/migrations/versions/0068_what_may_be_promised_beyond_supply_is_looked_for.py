"""Pools that may promise more than there is were held to be backed until their promises came to more."""

from alembic import op

revision = "0068"
down_revision = "0067"


def upgrade() -> None:
    """Counters are made anew before they are next gone by, and say of their pools what is so."""
    op.execute("UPDATE pools SET fresh_until = NULL")
