"""days that are over, as they were settled, and since when facts of theirs have changed"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = '0025'
down_revision = '0024'


def upgrade() -> None:
    """Made by a job; nothing of it is there before."""
    op.create_table(
        'late_facts',
        sa.Column('product_id', sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column('first_day', sa.Date(), nullable=False, comment='the first day that they change'),
        sa.Column('number', sa.BigInteger(), nullable=False, comment='another one each time; never one again'),
        sa.PrimaryKeyConstraint('product_id', 'first_day', name=op.f('pk_late_facts')),
    )
    op.create_table(
        'kept_days',
        sa.Column('product_id', sa.BigInteger(), nullable=False),
        sa.Column('day', sa.Date(), nullable=False),
        sa.Column('made_of', sa.String(length=80), nullable=False, comment='while it is this, what is kept holds'),
        sa.Column('base_day', sa.Date(), comment='the day from which it says what differs; NULL = it says all'),
        sa.Column('figures', mysql.MEDIUMBLOB(), nullable=False, comment='arrays, packed'),
        sa.ForeignKeyConstraint(['product_id'], ['products.id'], name=op.f('fk_kept_days_product_id_products')),
        sa.PrimaryKeyConstraint('product_id', 'day', name=op.f('pk_kept_days')),
    )
