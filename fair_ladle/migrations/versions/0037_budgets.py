"""what accounts may cost a month"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = '0037'
down_revision = '0036'


def upgrade() -> None:
    """Nobody has one."""
    op.create_table(
        'budgets',
        sa.Column('account_id', sa.BigInteger(), nullable=False, autoincrement=False),
        sa.Column('amount', sa.Numeric(30, 10), nullable=False),
        sa.Column('currency', sa.String(3), nullable=False),
        sa.Column('set_from_id', sa.BigInteger(), nullable=False, comment='the branch of whoever set it'),
        sa.Column('set_by', sa.String(254), nullable=False),
        sa.Column('set_at', mysql.DATETIME(fsp=6), nullable=False),
        sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_budgets_account_id_accounts')),
        sa.ForeignKeyConstraint(['set_from_id'], ['accounts.id'], name=op.f('fk_budgets_set_from_id_accounts')),
        sa.PrimaryKeyConstraint('account_id', name=op.f('pk_budgets')),
    )
