"""what storage systems reserve and report"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = '0042'
down_revision = '0041'


def upgrade() -> None:
    """Nothing is reserved."""
    op.alter_column('storage_samples', 'category', existing_type=sa.String(64, collation='utf8mb4_nopad_bin'), type_=sa.String(200, collation='utf8mb4_nopad_bin'), existing_nullable=False)
    op.alter_column('stored', 'name', existing_type=sa.String(128, collation='utf8mb4_nopad_bin'), type_=sa.String(200, collation='utf8mb4_nopad_bin'), existing_nullable=False, existing_comment='username, folder code or category', comment='username, folder code or category')
    op.create_table(
        'storage_reservations',
        sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column('token_hash', sa.String(64), nullable=False),
        sa.Column('key_id', sa.BigInteger(), nullable=False),
        sa.Column('product_id', sa.BigInteger(), nullable=False),
        sa.Column('account_id', sa.BigInteger(), nullable=False),
        sa.Column('category', sa.String(200, collation='utf8mb4_nopad_bin'), nullable=False, comment='where it is to be written'),
        sa.Column('bytes', sa.BigInteger(), nullable=False),
        sa.Column('until', mysql.DATETIME(fsp=6), nullable=False),
        sa.Column('ended_at', mysql.DATETIME(fsp=6)),
        sa.Column('outcome', sa.String(12), comment='committed, cancelled or lapsed'),
        sa.Column('touched', sa.BigInteger(), nullable=False, server_default='0', comment='goes up with each lock'),
        sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_storage_reservations_account_id_accounts')),
        sa.ForeignKeyConstraint(['key_id'], ['activation_keys.id'], name=op.f('fk_storage_reservations_key_id_activation_keys')),
        sa.ForeignKeyConstraint(['product_id'], ['products.id'], name=op.f('fk_storage_reservations_product_id_products')),
        sa.PrimaryKeyConstraint('id', name=op.f('pk_storage_reservations')),
        sa.UniqueConstraint('token_hash', name=op.f('uq_storage_reservations_token_hash')),
    )
    op.create_index(op.f('ix_storage_reservations_key_id'), 'storage_reservations', ['key_id'])
    op.create_index('ix_storage_reservations_ended_at_until', 'storage_reservations', ['ended_at', 'until'])
    op.create_table(
        'unplaced_reports',
        sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column('key_account_id', sa.BigInteger(), nullable=False, comment='whose key reported it'),
        sa.Column('product_id', sa.BigInteger(), nullable=False),
        sa.Column('account', sa.String(64, collation='utf8mb4_nopad_bin'), nullable=False, comment='as it was reported: no account of that branch'),
        sa.Column('category', sa.String(200, collation='utf8mb4_nopad_bin'), nullable=False),
        sa.Column('at', mysql.DATETIME(fsp=6), nullable=False),
        sa.Column('bytes', sa.BigInteger(), nullable=False),
        sa.Column('received_at', mysql.DATETIME(fsp=6), nullable=False),
        sa.ForeignKeyConstraint(['key_account_id'], ['accounts.id'], name=op.f('fk_unplaced_reports_key_account_id_accounts')),
        sa.ForeignKeyConstraint(['product_id'], ['products.id'], name=op.f('fk_unplaced_reports_product_id_products')),
        sa.PrimaryKeyConstraint('id', name=op.f('pk_unplaced_reports')),
        sa.UniqueConstraint('key_account_id', 'product_id', 'account', 'category', 'at', name=op.f('uq_unplaced_reports_key_account_id_product_id_account_ca_d3cd')),
    )
