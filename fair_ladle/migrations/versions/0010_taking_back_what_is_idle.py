"""taking back what is idle"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

import fair_ladle.app.plumbing.database

revision = '0010'
down_revision = '0009'


def upgrade() -> None:
    """taking back what is idle."""
    op.create_table('reclaim_policies',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('account_id', sa.BigInteger(), nullable=False),
    sa.Column('name', sa.String(length=200), nullable=False),
    sa.Column('criterion', sa.String(length=16), nullable=False, comment='unseen, never seen or not joined'),
    sa.Column('days', sa.Integer(), nullable=False),
    sa.Column('products', sa.JSON(), nullable=False, comment='codes; none = every product that people have seats of'),
    sa.Column('exempt', sa.JSON(), nullable=False, comment="groups, as account's code/group's code"),
    sa.Column('notice_days', sa.Integer(), nullable=False, comment='0 = without a notice'),
    sa.Column('act', sa.String(length=16), nullable=False, comment='release, suspend or report'),
    sa.Column('daily', sa.Boolean(), nullable=False),
    sa.Column('looked_on', sa.Date(), nullable=True, comment='the day it was last run by itself'),
    sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_reclaim_policies_account_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_reclaim_policies')),
    sa.UniqueConstraint('account_id', 'name', name=op.f('uq_reclaim_policies_account_id_name'))
    )
    op.create_index(op.f('ix_reclaim_policies_account_id'), 'reclaim_policies', ['account_id'], unique=False)
    op.create_table('reclaim_notices',
    sa.Column('policy_id', sa.BigInteger(), nullable=False),
    sa.Column('person_id', sa.BigInteger(), nullable=False),
    sa.Column('told_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=False),
    sa.Column('token_hash', sa.String(length=64), nullable=True),
    sa.Column('needed_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=True, comment='when they said that they still need it'),
    sa.ForeignKeyConstraint(['person_id'], ['people.id'], name=op.f('fk_reclaim_notices_person_id')),
    sa.ForeignKeyConstraint(['policy_id'], ['reclaim_policies.id'], name=op.f('fk_reclaim_notices_policy_id')),
    sa.PrimaryKeyConstraint('policy_id', 'person_id', name=op.f('pk_reclaim_notices')),
    sa.UniqueConstraint('token_hash', name=op.f('uq_reclaim_notices_token_hash'))
    )
    op.create_table('reclaim_runs',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('policy_id', sa.BigInteger(), nullable=False),
    sa.Column('at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=False),
    sa.Column('by', sa.String(length=200), nullable=False),
    sa.Column('undone_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=True),
    sa.Column('undone_by', sa.String(length=200), nullable=True),
    sa.ForeignKeyConstraint(['policy_id'], ['reclaim_policies.id'], name=op.f('fk_reclaim_runs_policy_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_reclaim_runs'))
    )
    op.create_index(op.f('ix_reclaim_runs_policy_id'), 'reclaim_runs', ['policy_id'], unique=False)
    op.create_table('reclaim_deeds',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('run_id', sa.BigInteger(), nullable=False),
    sa.Column('person_id', sa.BigInteger(), nullable=False),
    sa.Column('what', sa.String(length=16), nullable=False, comment='told, released, suspended or reported'),
    sa.Column('units', sa.JSON(), nullable=False, comment='[product, account, cost a month, currency] of what was taken back, or would be'),
    sa.Column('why', sa.String(length=255), nullable=False),
    sa.ForeignKeyConstraint(['person_id'], ['people.id'], name=op.f('fk_reclaim_deeds_person_id')),
    sa.ForeignKeyConstraint(['run_id'], ['reclaim_runs.id'], name=op.f('fk_reclaim_deeds_run_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_reclaim_deeds'))
    )
    op.create_index(op.f('ix_reclaim_deeds_run_id'), 'reclaim_deeds', ['run_id'], unique=False)
