"""seats of people not seen for long, counted now and then"""

import sqlalchemy as sa
import fair_ladle.app.plumbing.database
from alembic import op

revision = '0023'
down_revision = '0022'


def upgrade() -> None:
    """One row an account and pool; pool 0 has how many people it is."""
    op.create_table(
        'idle_seats',
        sa.Column('account_id', sa.BigInteger(), nullable=False),
        sa.Column('pool_id', sa.BigInteger(), nullable=False),
        sa.Column('units', sa.Integer(), nullable=False),
        sa.PrimaryKeyConstraint('account_id', 'pool_id', name=op.f('pk_idle_seats')),
    )
    op.create_table(
        'idle_seats_counted',
        sa.Column('id', sa.Integer(), autoincrement=False, nullable=False),
        sa.Column('at', fair_ladle.app.plumbing.database.Instant(), nullable=False),
        sa.PrimaryKeyConstraint('id', name=op.f('pk_idle_seats_counted')),
    )
