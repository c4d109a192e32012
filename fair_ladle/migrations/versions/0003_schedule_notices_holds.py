"""schedule notices holds"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

import fair_ladle.app.plumbing.database

revision = '0003'
down_revision = '0002'


def upgrade() -> None:
    """schedule notices holds."""
    op.create_table('jobs',
    sa.Column('name', sa.String(length=64, collation='utf8mb4_nopad_bin'), nullable=False),
    sa.Column('due_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=False),
    sa.Column('ran_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=True),
    sa.Column('trouble', sa.Text(), nullable=True, comment='why its last run failed; NULL = it did not'),
    sa.PrimaryKeyConstraint('name', name=op.f('pk_jobs'))
    )
    op.create_table('outbox',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('to_address', sa.String(length=254), nullable=False),
    sa.Column('subject', sa.String(length=255), nullable=False),
    sa.Column('body', sa.Text(), nullable=False),
    sa.Column('written_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=False),
    sa.Column('due_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=True, comment='when to send or try again; NULL = sent or given up'),
    sa.Column('sent_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=True),
    sa.Column('tries', sa.Integer(), server_default='0', nullable=False),
    sa.Column('trouble', sa.Text(), nullable=True),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_outbox'))
    )
    op.create_index('ix_outbox_due_at', 'outbox', ['due_at'], unique=False)
    op.create_table('crossings',
    sa.Column('account_id', sa.BigInteger(), nullable=False),
    sa.Column('product_id', sa.BigInteger(), nullable=False),
    sa.Column('level', sa.Integer(), nullable=False),
    sa.Column('since', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=False),
    sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_crossings_account_id')),
    sa.ForeignKeyConstraint(['product_id'], ['products.id'], name=op.f('fk_crossings_product_id')),
    sa.PrimaryKeyConstraint('account_id', 'product_id', 'level', name=op.f('pk_crossings'))
    )
    op.create_table('enforced',
    sa.Column('product_id', sa.BigInteger(), nullable=False),
    sa.Column('until', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=False, comment='holds are replayed up to here'),
    sa.ForeignKeyConstraint(['product_id'], ['products.id'], name=op.f('fk_enforced_product_id')),
    sa.PrimaryKeyConstraint('product_id', name=op.f('pk_enforced'))
    )
    op.create_table('notices',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=False),
    sa.Column('kind', sa.String(length=32), nullable=False),
    sa.Column('account_id', sa.BigInteger(), nullable=False),
    sa.Column('product_id', sa.BigInteger(), nullable=True),
    sa.Column('key', sa.String(length=190, collation='utf8mb4_nopad_bin'), nullable=False, comment='what it is about, so that it is told once'),
    sa.Column('subject', sa.String(length=255), nullable=False),
    sa.Column('text', sa.Text(), nullable=False),
    sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_notices_account_id')),
    sa.ForeignKeyConstraint(['product_id'], ['products.id'], name=op.f('fk_notices_product_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_notices')),
    sa.UniqueConstraint('key', name=op.f('uq_notices_key'))
    )
    op.create_index('ix_notices_account_id_at', 'notices', ['account_id', 'at'], unique=False)
    op.create_table('thresholds',
    sa.Column('account_id', sa.BigInteger(), nullable=False),
    sa.Column('product_id', sa.BigInteger(), nullable=False),
    sa.Column('levels', sa.String(length=64), nullable=False, comment='percents of the cap, joined by ;'),
    sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_thresholds_account_id')),
    sa.ForeignKeyConstraint(['product_id'], ['products.id'], name=op.f('fk_thresholds_product_id')),
    sa.PrimaryKeyConstraint('account_id', 'product_id', name=op.f('pk_thresholds'))
    )
    op.create_table('holds',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('product_id', sa.BigInteger(), nullable=False),
    sa.Column('account_id', sa.BigInteger(), nullable=False, comment='the restricted account whose excess it is'),
    sa.Column('assignment_id', sa.BigInteger(), nullable=False),
    sa.Column('place', sa.Integer(), nullable=False, comment='in the stack: the last put on hold is freed first'),
    sa.Column('begins', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=False),
    sa.Column('ends', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=True),
    sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_holds_account_id')),
    sa.ForeignKeyConstraint(['assignment_id'], ['assignments.id'], name=op.f('fk_holds_assignment_id')),
    sa.ForeignKeyConstraint(['product_id'], ['products.id'], name=op.f('fk_holds_product_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_holds')),
    sa.UniqueConstraint('product_id', 'account_id', 'assignment_id', 'begins', name=op.f('uq_holds_product_id_account_id_assignment_id_begins'))
    )
    op.create_index(op.f('ix_holds_assignment_id'), 'holds', ['assignment_id'], unique=False)
    op.create_table('notices_seen',
    sa.Column('notice_id', sa.BigInteger(), nullable=False),
    sa.Column('sign_in_id', sa.BigInteger(), nullable=False),
    sa.ForeignKeyConstraint(['notice_id'], ['notices.id'], name=op.f('fk_notices_seen_notice_id')),
    sa.ForeignKeyConstraint(['sign_in_id'], ['sign_ins.id'], name=op.f('fk_notices_seen_sign_in_id')),
    sa.PrimaryKeyConstraint('notice_id', 'sign_in_id', name=op.f('pk_notices_seen'))
    )
