"""requests"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

import fair_ladle.app.plumbing.database

revision = '0004'
down_revision = '0003'


def upgrade() -> None:
    """requests."""
    op.create_table('requests',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('account_id', sa.BigInteger(), nullable=False),
    sa.Column('product_id', sa.BigInteger(), nullable=False),
    sa.Column('amount', sa.BigInteger(), nullable=False, comment='grains asked for; below 0 = offered back'),
    sa.Column('as_what', sa.String(length=16), nullable=False, comment='cap, or reserve (and the cap with it)'),
    sa.Column('reason', sa.Text(), nullable=False),
    sa.Column('wish_day', sa.Date(), nullable=True),
    sa.Column('state', sa.String(length=16), nullable=False, comment='waiting, granted, refused or withdrawn'),
    sa.Column('granted', sa.BigInteger(), nullable=True, comment='grains given in the end'),
    sa.Column('asked_by_id', sa.BigInteger(), nullable=False),
    sa.Column('asked_by', sa.String(length=200), nullable=False),
    sa.Column('asked_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=False),
    sa.Column('passed_up_id', sa.BigInteger(), nullable=True, comment='the request the parent made of its own parent because of this one'),
    sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_requests_account_id')),
    sa.ForeignKeyConstraint(['asked_by_id'], ['sign_ins.id'], name=op.f('fk_requests_asked_by_id')),
    sa.ForeignKeyConstraint(['product_id'], ['products.id'], name=op.f('fk_requests_product_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_requests'))
    )
    op.create_index(op.f('ix_requests_account_id'), 'requests', ['account_id'], unique=False)
    op.create_index('ix_requests_state', 'requests', ['state'], unique=False)
    op.create_table('request_steps',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('request_id', sa.BigInteger(), nullable=False),
    sa.Column('at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=False),
    sa.Column('by', sa.String(length=200), nullable=False),
    sa.Column('what', sa.String(length=32), nullable=False),
    sa.Column('text', sa.Text(), nullable=False),
    sa.ForeignKeyConstraint(['request_id'], ['requests.id'], name=op.f('fk_request_steps_request_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_request_steps'))
    )
    op.create_index(op.f('ix_request_steps_request_id'), 'request_steps', ['request_id'], unique=False)
