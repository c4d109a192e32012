"""of samples that say nothing new is kept that they were taken"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = '0052'
down_revision = '0051'


def upgrade() -> None:
    """Rows that are there stay as they are."""
    op.create_table(
        'sample_sets',
        sa.Column('account_id', sa.BigInteger, sa.ForeignKey('accounts.id'), nullable=False),
        sa.Column('digest', sa.BINARY(16), nullable=False),
        sa.Column('categories', mysql.MEDIUMBLOB, nullable=False, comment='one a line, compressed'),
        sa.PrimaryKeyConstraint('account_id', 'digest'),
    )
    op.create_table(
        'sample_rounds',
        sa.Column('product_id', sa.BigInteger, sa.ForeignKey('products.id'), nullable=False),
        sa.Column('account_id', sa.BigInteger, sa.ForeignKey('accounts.id'), nullable=False),
        sa.Column('at', mysql.DATETIME(fsp=6), nullable=False),
        sa.Column('digest', sa.BINARY(16), nullable=False, comment='of the categories that were measured'),
        sa.PrimaryKeyConstraint('product_id', 'account_id', 'at', 'digest'),
        sa.Index('ix_sample_rounds_account_id', 'account_id', 'digest'),
    )
    op.alter_column(
        'stored',
        'at',
        existing_type=mysql.DATETIME(fsp=6),
        existing_nullable=False,
        comment='of the newest sample that said something new',
    )
