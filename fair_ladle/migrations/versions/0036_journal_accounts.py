"""what a seller's own books call things"""

import sqlalchemy as sa
from alembic import op

revision = '0036'
down_revision = '0035'


def upgrade() -> None:
    """Until a seller says otherwise every role has its own name."""
    op.create_table(
        'journal_accounts',
        sa.Column('seller_id', sa.BigInteger(), nullable=False),
        sa.Column('role', sa.String(16), nullable=False),
        sa.Column(
            'of',
            sa.String(64, collation='utf8mb4_nopad_bin'),
            nullable=False,
            comment='a product, or a percentage of tax; empty = all others',
        ),
        sa.Column('account', sa.String(64), nullable=False),
        sa.ForeignKeyConstraint(
            ['seller_id'], ['accounts.id'], name=op.f('fk_journal_accounts_seller_id_accounts')
        ),
        sa.PrimaryKeyConstraint('seller_id', 'role', 'of', name=op.f('pk_journal_accounts')),
    )
