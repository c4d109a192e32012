"""who runs what ends, tries counted by address and origin, and what accounts hold unallocated"""

import sqlalchemy as sa
from alembic import op

import fair_ladle.app.plumbing.database

revision = '0014'
down_revision = '0013'

LETTERS = 'utf8mb4_nopad_bin'
Instant = fair_ladle.app.plumbing.database.Instant


def upgrade() -> None:
    """who runs what ends, tries counted by address and origin, and what accounts hold unallocated."""
    op.execute("UPDATE sign_ins SET email = LOWER(email)")
    op.alter_column('sign_ins', 'email', existing_type=sa.String(length=254), type_=sa.String(length=254, collation=LETTERS), existing_nullable=False, comment='in small letters')
    op.add_column('delegations', sa.Column('ended_at', Instant(fsp=6), nullable=True, comment='since when it is ended for good'))
    op.add_column('delegations', sa.Column('ended_by', sa.String(length=200), nullable=True))
    op.alter_column('delegations', 'last_day', existing_type=sa.Date(), existing_nullable=True, comment='NULL = open')
    op.drop_table('failed_tries')
    op.create_table('failed_tries',
    sa.Column('email', sa.String(length=254, collation=LETTERS), nullable=False),
    sa.Column('origin', sa.String(length=64, collation=LETTERS), nullable=False),
    sa.Column('tries', sa.Integer(), nullable=False, comment='counted before they are verified'),
    sa.Column('last_at', Instant(fsp=6), nullable=False),
    sa.PrimaryKeyConstraint('email', 'origin', name=op.f('pk_failed_tries'))
    )
    op.create_index(op.f('ix_failed_tries_last_at'), 'failed_tries', ['last_at'], unique=False)
    op.create_table('account_unallocated',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('account_id', sa.BigInteger(), nullable=False),
    sa.Column('value', sa.String(length=8), nullable=False, comment='free or none; no row = free'),
    sa.Column('first_day', sa.Date(), nullable=True, comment='NULL = since ever'),
    sa.Column('last_day', sa.Date(), nullable=True, comment='NULL = open'),
    sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_account_unallocated_account_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_account_unallocated'))
    )
    op.create_index(op.f('ix_account_unallocated_account_id'), 'account_unallocated', ['account_id'], unique=False)
    op.create_table('log_seals',
    sa.Column('number', sa.BigInteger(), autoincrement=False, nullable=False),
    sa.Column('entry_id', sa.BigInteger(), nullable=False),
    sa.Column('seal', sa.String(length=64), nullable=False, comment='HMAC of the seal before it and of the entry'),
    sa.PrimaryKeyConstraint('number', name=op.f('pk_log_seals')),
    sa.UniqueConstraint('entry_id', name=op.f('uq_log_seals_entry_id'))
    )
    op.drop_constraint('uq_log_entries_seal_number', 'log_entries', type_='unique')
    op.drop_column('log_entries', 'seal_number')
    op.drop_column('log_entries', 'seal')
    op.add_column('log_entries', sa.Column('code', sa.String(length=64), nullable=True, comment='HMAC of its content; NULL = written before there was a key'))
    op.create_index('ix_log_entries_about', 'log_entries', ['account_id', 'subject', 'id'], unique=False)
