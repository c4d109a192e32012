"""The readings of months are kept by account, so that late facts have the accounts on their ways up worked out again and
no others."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0063"
down_revision = "0062"


def upgrade() -> None:
    """Months that are kept by now are worked out whole once more before they can be corrected."""
    op.create_table(
        "kept_readings",
        sa.Column("product_id", sa.BigInteger, sa.ForeignKey("products.id"), primary_key=True),
        sa.Column("first_day", sa.Date, primary_key=True, comment="of the month"),
        sa.Column("block", sa.Integer, primary_key=True, autoincrement=False, comment="of accounts, by number"),
        sa.Column("figures", mysql.MEDIUMBLOB, nullable=False, comment="accounts × days, packed"),
    )
    op.execute("UPDATE kept_months SET late = NULL")
