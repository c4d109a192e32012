"""Late facts say of which accounts they are, and kept months by what they are corrected, so that a late correction goes
through the branches it is in and no others."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0061"
down_revision = "0060"


def upgrade() -> None:
    """Months that are kept by now are worked out whole once more before they can be corrected."""
    before = sa.Column("before", sa.BigInteger, nullable=False, server_default="0", comment="the number before, 0 = none")
    op.add_column("late_facts", before)
    op.create_table(
        "late_accounts",
        sa.Column("product_id", sa.BigInteger, autoincrement=False, nullable=False),
        sa.Column("number", sa.BigInteger, autoincrement=False, nullable=False, comment="of late_facts"),
        sa.Column("before", sa.BigInteger, nullable=False, comment="the number there was before this change"),
        sa.Column("accounts", mysql.MEDIUMTEXT, nullable=False, comment="whose facts changed, as JSON"),
        sa.Column("written_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.PrimaryKeyConstraint("product_id", "number"),
        sa.Index("ix_late_accounts_written_at", "written_at"),
    )
    op.add_column(
        "kept_months",
        sa.Column("late", mysql.MEDIUMTEXT, comment="the late facts it has, as JSON; NULL = it cannot be corrected"),
    )
    op.add_column(
        "kept_pools",
        sa.Column("weights", mysql.MEDIUMBLOB, comment="by which its cost is shared, as packed JSON"),
    )
