"""account statuses and templates"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

import fair_ladle.app.plumbing.database

revision = '0006'
down_revision = '0005'


def upgrade() -> None:
    """account statuses and templates."""
    op.create_table('account_statuses',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('account_id', sa.BigInteger(), nullable=False),
    sa.Column('status', sa.String(length=16), nullable=False, comment='suspended or closed; no row = active'),
    sa.Column('charged', sa.Boolean(), nullable=False, comment='whether a suspended account goes on being charged'),
    sa.Column('first_day', sa.Date(), nullable=False),
    sa.Column('last_day', sa.Date(), nullable=True, comment='NULL = open'),
    sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_account_statuses_account_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_account_statuses'))
    )
    op.create_index(op.f('ix_account_statuses_account_id'), 'account_statuses', ['account_id'], unique=False)
    op.create_table('account_templates',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('branch_id', sa.BigInteger(), nullable=False, comment='the branch whose admins use it'),
    sa.Column('name', sa.String(length=200), nullable=False),
    sa.Column('shape', sa.JSON(), nullable=False),
    sa.Column('made_by', sa.String(length=200), nullable=False),
    sa.Column('made_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=False),
    sa.ForeignKeyConstraint(['branch_id'], ['accounts.id'], name=op.f('fk_account_templates_branch_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_account_templates')),
    sa.UniqueConstraint('branch_id', 'name', name=op.f('uq_account_templates_branch_id_name'))
    )
