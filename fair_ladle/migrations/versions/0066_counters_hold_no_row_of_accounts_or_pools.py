"""What is written of counters holds no row of accounts and pools: they follow from the facts, and are made anew."""

from alembic import op

revision = "0066"
down_revision = "0065"


def upgrade() -> None:
    """The constraints only; an account's counters are found by the same index."""
    op.drop_constraint("fk_counters_pool_id", "counters", type_="foreignkey")
    op.drop_constraint("fk_counters_account_id", "counters", type_="foreignkey")
    op.execute("ALTER TABLE counters RENAME INDEX fk_counters_account_id TO ix_counters_account_id")
