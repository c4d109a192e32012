"""shared folders"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = '0045'
down_revision = '0044'


def upgrade() -> None:
    """What stands in folder categories is nobody's yet."""
    op.create_table(
        'shared_folders',
        sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column('touched', sa.BigInteger(), nullable=False, server_default='0', comment='goes up with each lock'),
        sa.Column('account_id', sa.BigInteger(), nullable=False),
        sa.Column('product_id', sa.BigInteger(), nullable=False),
        sa.Column('code', sa.String(64, collation='utf8mb4_nopad_bin'), nullable=False, comment='its bytes stand in folder/CODE of the account'),
        sa.Column('name', sa.String(200), nullable=False),
        sa.Column('owner_id', sa.BigInteger(), comment='who looks after it'),
        sa.Column('grains', sa.BigInteger(), comment='its limit; NULL = none'),
        sa.Column('stops', sa.Boolean(), nullable=False, comment='whether nothing more is written at the limit'),
        sa.Column('archived_at', mysql.DATETIME(fsp=6), comment='since when nothing more is written to it'),
        sa.Column('delete_at', mysql.DATETIME(fsp=6), comment='when what it stores is gone; NULL = stays'),
        sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_shared_folders_account_id_accounts')),
        sa.ForeignKeyConstraint(['owner_id'], ['people.id'], name=op.f('fk_shared_folders_owner_id_people')),
        sa.ForeignKeyConstraint(['product_id'], ['products.id'], name=op.f('fk_shared_folders_product_id_products')),
        sa.PrimaryKeyConstraint('id', name=op.f('pk_shared_folders')),
        sa.UniqueConstraint('account_id', 'product_id', 'code', name=op.f('uq_shared_folders_account_id_product_id_code')),
    )
    op.create_index(op.f('ix_shared_folders_delete_at'), 'shared_folders', ['delete_at'])
    op.create_index(op.f('ix_shared_folders_owner_id'), 'shared_folders', ['owner_id'])
