"""systems that are asked what they store"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = '0043'
down_revision = '0042'


def upgrade() -> None:
    """None is."""
    op.create_table(
        'storage_sources',
        sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column('touched', sa.BigInteger(), nullable=False, server_default='0', comment='goes up with each lock'),
        sa.Column('account_id', sa.BigInteger(), nullable=False),
        sa.Column('product_id', sa.BigInteger(), nullable=False),
        sa.Column('kind', sa.String(8), nullable=False, comment='imap, tree or drop'),
        sa.Column('name', sa.String(200), nullable=False),
        sa.Column('settings', sa.JSON(), nullable=False, comment='where it is and how it is read; no secret'),
        sa.Column('sealed', sa.Text(), comment='its password, sealed with a key outside the database'),
        sa.Column('every_minutes', sa.Integer(), nullable=False),
        sa.Column('paused', sa.Boolean(), nullable=False),
        sa.Column('due_at', mysql.DATETIME(fsp=6), nullable=False),
        sa.Column('asked', sa.String(8), comment='dry or full, where somebody asked for such a run'),
        sa.Column('failures', sa.Integer(), nullable=False, comment='in a row'),
        sa.Column('full_at', mysql.DATETIME(fsp=6), comment='when everything was looked at last'),
        sa.Column('made_at', mysql.DATETIME(fsp=6), nullable=False),
        sa.Column('made_by', sa.String(200), nullable=False),
        sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_storage_sources_account_id_accounts')),
        sa.ForeignKeyConstraint(['product_id'], ['products.id'], name=op.f('fk_storage_sources_product_id_products')),
        sa.PrimaryKeyConstraint('id', name=op.f('pk_storage_sources')),
    )
    op.create_index(op.f('ix_storage_sources_account_id'), 'storage_sources', ['account_id'])
    op.create_index(op.f('ix_storage_sources_due_at'), 'storage_sources', ['due_at'])
    op.create_table(
        'storage_source_runs',
        sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column('source_id', sa.BigInteger(), nullable=False),
        sa.Column('kind', sa.String(8), nullable=False, comment='full, between or dry'),
        sa.Column('began_at', mysql.DATETIME(fsp=6), nullable=False),
        sa.Column('ended_at', mysql.DATETIME(fsp=6)),
        sa.Column('outcome', sa.String(8), comment='done, stopped or failed; NULL = under way'),
        sa.Column('found', sa.Integer(), nullable=False, comment='subjects read so far'),
        sa.Column('recorded', sa.Integer(), nullable=False),
        sa.Column('limited', sa.Integer(), nullable=False, comment='limits set there'),
        sa.Column('troubles', sa.Integer(), nullable=False),
        sa.Column('says', sa.Text(), nullable=False, comment='the first of them in words, one a line'),
        sa.ForeignKeyConstraint(['source_id'], ['storage_sources.id'], name=op.f('fk_storage_source_runs_source_id_storage_sources'), ondelete='CASCADE'),
        sa.PrimaryKeyConstraint('id', name=op.f('pk_storage_source_runs')),
    )
    op.create_index(op.f('ix_storage_source_runs_source_id'), 'storage_source_runs', ['source_id'])
    op.create_table(
        'storage_source_series',
        sa.Column('source_id', sa.BigInteger(), nullable=False),
        sa.Column('subject', sa.String(200, collation='utf8mb4_nopad_bin'), nullable=False, comment='as the system calls it'),
        sa.Column('account_id', sa.BigInteger(), nullable=False),
        sa.Column('category', sa.String(200, collation='utf8mb4_nopad_bin'), nullable=False),
        sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_storage_source_series_account_id_accounts')),
        sa.ForeignKeyConstraint(['source_id'], ['storage_sources.id'], name=op.f('fk_storage_source_series_source_id_storage_sources'), ondelete='CASCADE'),
        sa.PrimaryKeyConstraint('source_id', 'subject', name=op.f('pk_storage_source_series')),
    )
