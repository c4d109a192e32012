"""claims, request keys, generations, and rows locked by a write"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

import fair_ladle.app.plumbing.database

revision = '0013'
down_revision = '0012'

LETTERS = 'utf8mb4_nopad_bin'


def upgrade() -> None:
    """claims, request keys, generations, and rows locked by a write."""
    op.create_table('claims',
    sa.Column('what', sa.String(length=80, collation=LETTERS), nullable=False, comment='product and its code, or family and its name'),
    sa.Column('subject', sa.String(length=140, collation=LETTERS), nullable=False),
    sa.PrimaryKeyConstraint('what', 'subject', name=op.f('pk_claims'))
    )
    op.execute(
        "INSERT IGNORE INTO claims (what, subject) SELECT IF(COALESCE(p.family, '') = '', CONCAT('product ', p.code), CONCAT('family ', p.family)), a.subject"
        " FROM assignments a JOIN products p ON p.id = a.product_id WHERE p.measure <> 'session' AND (a.ends IS NULL OR a.ends > UTC_TIMESTAMP(6) - INTERVAL 60 DAY)"
    )
    op.create_table('request_keys',
    sa.Column('whose', sa.String(length=80, collation=LETTERS), nullable=False, comment="s and the sign-in's number, or o and the origin"),
    sa.Column('key', sa.String(length=128, collation=LETTERS), nullable=False),
    sa.Column('fingerprint', sa.String(length=64), nullable=False, comment='SHA-256 of what was asked for'),
    sa.Column('attempt', sa.String(length=16), nullable=False, comment='which of its tries was kept'),
    sa.Column('answer', mysql.MEDIUMBLOB(), nullable=True, comment='packed JSON; NULL = not kept'),
    sa.Column('at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=False),
    sa.PrimaryKeyConstraint('whose', 'key', name=op.f('pk_request_keys'))
    )
    op.create_index(op.f('ix_request_keys_at'), 'request_keys', ['at'], unique=False)
    op.drop_table('answered_requests')
    op.create_table('generations',
    sa.Column('name', sa.String(length=64, collation=LETTERS), nullable=False, comment='what it is about: structure, allocations, rates, past'),
    sa.Column('number', sa.BigInteger(), nullable=False, comment='another one whenever that changes; never one again'),
    sa.PrimaryKeyConstraint('name', name=op.f('pk_generations'))
    )
    op.execute("INSERT INTO generations (name, number) SELECT 'structure', number FROM structure LIMIT 1")
    op.drop_table('structure')
    for table in ('people', 'pools', 'reclaim_policies', 'activation_keys'):
        op.add_column(table, sa.Column('touched', sa.BigInteger(), server_default='0', nullable=False, comment='goes up with each lock'))
    op.add_column('jobs', sa.Column('holder', sa.String(length=16), nullable=True, comment='the server that does it now'))
    op.add_column('jobs', sa.Column('leased_until', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=True, comment='until when it may without a heartbeat; NULL = nobody does it'))
    op.create_table('job_items',
    sa.Column('job', sa.String(length=64, collation=LETTERS), nullable=False),
    sa.Column('item', sa.String(length=128, collation=LETTERS), nullable=False),
    sa.Column('reason', sa.Text(), nullable=False, comment='why it failed'),
    sa.Column('tries', sa.Integer(), nullable=False),
    sa.Column('failed_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=False),
    sa.Column('again_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=False, comment='when it is tried again'),
    sa.PrimaryKeyConstraint('job', 'item', name=op.f('pk_job_items'))
    )
    op.add_column('outbox', sa.Column('taken_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=True, comment='since when it is being sent; NULL = it is not'))
    op.create_index('ix_outbox_taken_at', 'outbox', ['taken_at'])
    op.execute("UPDATE outbox SET body = '' WHERE sent_at IS NOT NULL")
    op.alter_column('outbox', 'due_at', existing_type=fair_ladle.app.plumbing.database.Instant(fsp=6), existing_nullable=True, comment='when to send or try again; NULL = taken, sent or given up')
