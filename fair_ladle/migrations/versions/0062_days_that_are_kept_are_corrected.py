"""Kept days say which late facts they have, and late facts whether they are of use alone, so that a late correction
goes through the accounts above it and no others."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0062"
down_revision = "0061"


def upgrade() -> None:
    """Days that are kept by now are settled whole once more before they can be corrected."""
    op.add_column(
        "kept_days",
        sa.Column("late", mysql.MEDIUMTEXT, comment="the late facts it has, as JSON; NULL = it cannot be corrected"),
    )
    op.add_column("kept_days", sa.Column("base_made_of", sa.String(80), comment="what that day was made of"))
    of_use = sa.Column(
        "of_use",
        sa.Boolean,
        nullable=False,
        server_default=sa.false(),
        comment="what is in use, and nothing else of them",
    )
    op.add_column("late_accounts", of_use)
