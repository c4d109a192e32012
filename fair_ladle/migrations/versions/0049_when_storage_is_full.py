"""a job keeps when storage is full at the pace at which it grows; object stores are asked, too"""

import sqlalchemy as sa
from alembic import op

revision = '0049'
down_revision = '0048'


def upgrade() -> None:
    """Reckoned by the job a moment later."""
    op.create_table(
        'storage_forecasts',
        sa.Column('product_id', sa.BigInteger, sa.ForeignKey('products.id'), nullable=False),
        sa.Column('account_id', sa.BigInteger, sa.ForeignKey('accounts.id'), nullable=False),
        sa.Column('grains', sa.BigInteger, nullable=False, comment='what the branch stores'),
        sa.Column('most', sa.BigInteger, nullable=False, comment='its cap, or what its own pool has, in grains'),
        sa.Column('full_on', sa.Date, nullable=False, comment='at the middle pace'),
        sa.Column('soonest', sa.Date, nullable=False, comment='at the fastest'),
        sa.Column('latest', sa.Date, comment='at the slowest; NULL = not within ten years'),
        sa.PrimaryKeyConstraint('product_id', 'account_id'),
        sa.Index('ix_storage_forecasts_full_on', 'full_on'),
        sa.Index('ix_storage_forecasts_account_id', 'account_id'),
    )
    op.alter_column(
        'storage_sources',
        'kind',
        existing_type=sa.String(8),
        existing_nullable=False,
        comment='imap, objects, tree or drop',
    )
