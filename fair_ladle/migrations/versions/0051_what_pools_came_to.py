"""of every month is kept what each pool cost, and what of it nobody below its owner held"""

import sqlalchemy as sa
from alembic import op

revision = '0051'
down_revision = '0050'


def upgrade() -> None:
    """Months that are kept are worked out again, with their pools."""
    op.create_table(
        'kept_pools',
        sa.Column('first_day', sa.Date, nullable=False),
        sa.Column('product_id', sa.BigInteger, sa.ForeignKey('products.id'), nullable=False),
        sa.Column('owner_id', sa.BigInteger, sa.ForeignKey('accounts.id'), nullable=False),
        sa.Column('currency', sa.String(3), nullable=False, comment='it was bought in'),
        sa.Column('cost', sa.String(40), nullable=False, comment='of all its lots'),
        sa.Column('own', sa.String(40), nullable=False, comment='what of it the owner used itself'),
        sa.Column('idle', sa.String(40), nullable=False, comment='what of it nobody held'),
        sa.PrimaryKeyConstraint('first_day', 'product_id', 'owner_id', 'currency'),
        sa.Index('ix_kept_pools_product_id', 'product_id'),
        sa.Index('ix_kept_pools_owner_id', 'owner_id', 'first_day'),
    )
    op.execute('DELETE FROM kept_months')
