"""closing a month as work that can be stopped and taken up again"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = '0038'
down_revision = '0037'


def upgrade() -> None:
    """Nothing is being closed."""
    op.create_table(
        'closing_runs',
        sa.Column('seller_id', sa.BigInteger(), nullable=False),
        sa.Column('first_day', sa.Date(), nullable=False, comment='of the month'),
        sa.Column('seen', sa.String(64), nullable=False, comment='what was looked at when it was asked for'),
        sa.Column('reason', sa.String(2000), nullable=False),
        sa.Column('sign_in_id', sa.BigInteger(), nullable=False, comment='whose'),
        sa.Column('through', sa.String(64, collation='utf8mb4_nopad_bin'), nullable=False, comment='in which branch'),
        sa.Column('state', sa.String(8), nullable=False, comment='running, stopped, refused or done'),
        sa.Column('done', sa.Integer(), nullable=False),
        sa.Column('total', sa.Integer(), nullable=False),
        sa.Column('says', sa.String(2000), comment='why it was refused'),
        sa.Column('statements', sa.Integer(), nullable=False),
        sa.Column('first_number', sa.String(20)),
        sa.Column('last_number', sa.String(20)),
        sa.Column('taken_until', mysql.DATETIME(fsp=6), comment='until when whoever works at it has it'),
        sa.ForeignKeyConstraint(['seller_id'], ['accounts.id'], name=op.f('fk_closing_runs_seller_id_accounts')),
        sa.PrimaryKeyConstraint('seller_id', 'first_day', name=op.f('pk_closing_runs')),
    )
    op.create_index('ix_closing_runs_state', 'closing_runs', ['state'])
