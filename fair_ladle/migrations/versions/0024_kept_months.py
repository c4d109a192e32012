"""what a month comes to for every buyer"""

import sqlalchemy as sa
from alembic import op

revision = '0024'
down_revision = '0023'


def upgrade() -> None:
    """Made by a job; nothing of it is there before."""
    op.create_table(
        'kept_months',
        sa.Column('product_id', sa.BigInteger(), nullable=False),
        sa.Column('first_day', sa.Date(), nullable=False, comment='of the month'),
        sa.Column(
            'made_of', sa.String(length=120), nullable=False, comment='while it is this, what is kept holds'
        ),
        sa.Column('days', sa.Integer(), nullable=False, comment='read of the month'),
        sa.ForeignKeyConstraint(['product_id'], ['products.id'], name=op.f('fk_kept_months_product_id_products')),
        sa.PrimaryKeyConstraint('product_id', 'first_day', name=op.f('pk_kept_months')),
    )
    op.create_table(
        'kept_charges',
        sa.Column('first_day', sa.Date(), nullable=False),
        sa.Column('product_id', sa.BigInteger(), nullable=False),
        sa.Column('account_id', sa.BigInteger(), nullable=False, comment='the buyer'),
        sa.Column(
            'amount',
            sa.String(length=40),
            comment="as it is owed, to its currency's decimals; NULL = no rate",
        ),
        sa.Column('currency', sa.String(length=3)),
        sa.Column('cost', sa.String(length=40), comment='what it cost the seller; NULL = not known'),
        sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_kept_charges_account_id_accounts')),
        sa.ForeignKeyConstraint(['product_id'], ['products.id'], name=op.f('fk_kept_charges_product_id_products')),
        sa.PrimaryKeyConstraint('first_day', 'product_id', 'account_id', name=op.f('pk_kept_charges')),
    )
    op.create_index('ix_kept_charges_account_id', 'kept_charges', ['account_id', 'first_day'])
