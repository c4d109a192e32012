"""drafts"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

import fair_ladle.app.plumbing.database

revision = '0002'
down_revision = '0001'


def upgrade() -> None:
    """drafts."""
    op.create_table('drafts',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('name', sa.String(length=200), nullable=False),
    sa.Column('state', sa.String(length=16), nullable=False, comment='open, scheduled, held, applied or discarded'),
    sa.Column('owner_id', sa.BigInteger(), nullable=False),
    sa.Column('through_id', sa.BigInteger(), nullable=False, comment='the branch its owner ran when it was made'),
    sa.Column('revision', sa.Integer(), server_default='0', nullable=False),
    sa.Column('apply_on', sa.Date(), nullable=True, comment='for a scheduled one'),
    sa.Column('reason', sa.Text(), nullable=True, comment='why a scheduled one was held back'),
    sa.Column('reverses_id', sa.BigInteger(), nullable=True),
    sa.Column('created_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=False),
    sa.Column('changed_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=False),
    sa.Column('applied_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=True),
    sa.ForeignKeyConstraint(['owner_id'], ['sign_ins.id'], name=op.f('fk_drafts_owner_id')),
    sa.ForeignKeyConstraint(['through_id'], ['accounts.id'], name=op.f('fk_drafts_through_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_drafts'))
    )
    op.create_index(op.f('ix_drafts_owner_id'), 'drafts', ['owner_id'], unique=False)
    op.create_index('ix_drafts_state_apply_on', 'drafts', ['state', 'apply_on'], unique=False)
    op.create_table('draft_changes',
    sa.Column('draft_id', sa.BigInteger(), nullable=False),
    sa.Column('kind', sa.String(length=16), nullable=False),
    sa.Column('key', sa.String(length=300, collation='utf8mb4_nopad_bin'), nullable=False),
    sa.Column('place', sa.Integer(), nullable=False),
    sa.Column('body', sa.JSON(), nullable=False),
    sa.ForeignKeyConstraint(['draft_id'], ['drafts.id'], name=op.f('fk_draft_changes_draft_id')),
    sa.PrimaryKeyConstraint('draft_id', 'kind', 'key', name=op.f('pk_draft_changes'))
    )
    op.create_table('draft_shares',
    sa.Column('draft_id', sa.BigInteger(), nullable=False),
    sa.Column('sign_in_id', sa.BigInteger(), nullable=False),
    sa.ForeignKeyConstraint(['draft_id'], ['drafts.id'], name=op.f('fk_draft_shares_draft_id')),
    sa.ForeignKeyConstraint(['sign_in_id'], ['sign_ins.id'], name=op.f('fk_draft_shares_sign_in_id')),
    sa.PrimaryKeyConstraint('draft_id', 'sign_in_id', name=op.f('pk_draft_shares'))
    )
