"""what is stored by whom"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = '0040'
down_revision = '0039'


def upgrade() -> None:
    """A job makes it of the samples that are there."""
    op.create_table(
        'stored',
        sa.Column('product_id', sa.BigInteger(), nullable=False),
        sa.Column('account_id', sa.BigInteger(), nullable=False),
        sa.Column('kind', sa.String(8), nullable=False, comment='person, folder or category'),
        sa.Column('name', sa.String(128, collation='utf8mb4_nopad_bin'), nullable=False, comment='username, folder code or category'),
        sa.Column('bytes', sa.BigInteger(), nullable=False),
        sa.Column('week_ago', sa.BigInteger(), nullable=False),
        sa.Column('month_ago', sa.BigInteger(), nullable=False),
        sa.Column('quarter_ago', sa.BigInteger(), nullable=False),
        sa.Column('at', mysql.DATETIME(fsp=6), nullable=False, comment='of the newest sample'),
        sa.Column('used_at', mysql.DATETIME(fsp=6), comment='last use, where a storage system says so'),
        sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_stored_account_id_accounts')),
        sa.ForeignKeyConstraint(['product_id'], ['products.id'], name=op.f('fk_stored_product_id_products')),
        sa.PrimaryKeyConstraint('product_id', 'account_id', 'kind', 'name', name=op.f('pk_stored')),
    )
    op.create_index('ix_stored_account_id_product_id', 'stored', ['account_id', 'product_id'])
    op.create_index('ix_stored_size', 'stored', ['product_id', 'kind', 'bytes'])
    op.create_table(
        'stored_days',
        sa.Column('product_id', sa.BigInteger(), nullable=False),
        sa.Column('day', sa.Date(), nullable=False, comment='from which a week, month and quarter are counted back'),
        sa.Column('ahead_at', mysql.DATETIME(fsp=6), comment='the first sample of an instant still to come'),
        sa.ForeignKeyConstraint(['product_id'], ['products.id'], name=op.f('fk_stored_days_product_id_products')),
        sa.PrimaryKeyConstraint('product_id', name=op.f('pk_stored_days')),
    )
