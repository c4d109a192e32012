"""of pools it is kept by how much more is held on days ahead"""

import sqlalchemy as sa
from alembic import op

revision = '0055'
down_revision = '0054'


def upgrade() -> None:
    """Worked out by a job a moment later."""
    op.create_table(
        'held_ahead',
        sa.Column('product_id', sa.BigInteger, sa.ForeignKey('products.id'), nullable=False),
        sa.Column('owner_id', sa.BigInteger, sa.ForeignKey('accounts.id'), nullable=False, comment='of the pool'),
        sa.Column('day', sa.Date, nullable=False, comment='from which on it is so'),
        sa.Column(
            'held',
            sa.BigInteger,
            nullable=False,
            comment='more is held than on the day it is of, in grains',
        ),
        sa.Column('used', sa.BigInteger, nullable=False, comment='more is in use'),
        sa.Column('made_on', sa.Date, nullable=False, comment='the day it was worked out; it holds on that day'),
        sa.PrimaryKeyConstraint('product_id', 'owner_id', 'day'),
        sa.Index('ix_held_ahead_owner_id', 'owner_id'),
    )
