"""counters say whether there is an allocation and who is pressed; what is used in each branch is kept beside them"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = '0021'
down_revision = '0020'


def upgrade() -> None:
    """Columns and tables that follow from the facts: every pool's counters are made anew at the first start."""
    op.add_column('counters', sa.Column('allocated', sa.Boolean(), nullable=False, server_default='0', comment='whether an allocation is in force'))
    op.add_column('counters', sa.Column('pressed', sa.Boolean(), sa.Computed('`cap` is not null and (`load` > `cap` or `cap` > 0 and `load` * 10 >= `cap` * 9)', persisted=True), nullable=True, comment='over its cap or near it'))
    op.create_index('ix_counters_pressed', 'counters', ['pressed', 'account_id'])
    op.create_table(
        'branch_use',
        sa.Column('pool_id', sa.BigInteger(), nullable=False),
        sa.Column('account_id', sa.BigInteger(), nullable=False),
        sa.Column('used', sa.BigInteger(), nullable=False),
        sa.PrimaryKeyConstraint('pool_id', 'account_id', name=op.f('pk_branch_use')),
    )
    op.create_table(
        'use_changes',
        sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column('pool_id', sa.BigInteger(), nullable=False),
        sa.Column('account_id', sa.BigInteger(), nullable=False),
        sa.Column('change', sa.BigInteger(), nullable=False),
        sa.PrimaryKeyConstraint('id', name=op.f('pk_use_changes')),
    )
    op.create_index(op.f('ix_use_changes_pool_id'), 'use_changes', ['pool_id'])
    op.execute('UPDATE pools SET fresh_until = NULL')
