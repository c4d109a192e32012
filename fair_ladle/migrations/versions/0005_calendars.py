"""calendars"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

import fair_ladle.app.plumbing.database

revision = '0005'
down_revision = '0004'


def upgrade() -> None:
    """calendars."""
    op.create_table('calendars',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('token_hash', sa.String(length=64), nullable=False),
    sa.Column('sign_in_id', sa.BigInteger(), nullable=False),
    sa.Column('account_id', sa.BigInteger(), nullable=False),
    sa.Column('made_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=False),
    sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_calendars_account_id')),
    sa.ForeignKeyConstraint(['sign_in_id'], ['sign_ins.id'], name=op.f('fk_calendars_sign_in_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_calendars')),
    sa.UniqueConstraint('token_hash', name=op.f('uq_calendars_token_hash'))
    )
    op.create_index(op.f('ix_calendars_sign_in_id'), 'calendars', ['sign_in_id'], unique=False)
