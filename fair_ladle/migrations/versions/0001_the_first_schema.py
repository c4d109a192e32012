"""the first schema"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

import fair_ladle.app.plumbing.database

revision = '0001'
down_revision = None


def upgrade() -> None:
    """the first schema."""
    op.create_table('accounts',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('code', sa.String(length=64, collation='utf8mb4_nopad_bin'), nullable=False),
    sa.Column('kind', sa.String(length=16), nullable=False),
    sa.Column('name', sa.String(length=200), nullable=False),
    sa.Column('currency', sa.String(length=3), nullable=True),
    sa.Column('time_zone', sa.String(length=64), nullable=True),
    sa.Column('admin_email', sa.String(length=254), nullable=True),
    sa.Column('billing_email', sa.String(length=254), nullable=True),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_accounts')),
    sa.UniqueConstraint('code', name=op.f('uq_accounts_code'))
    )
    op.create_table('structure',
    sa.Column('number', sa.BigInteger(), nullable=False, comment='goes up when accounts, places, products or pools change')
    )
    op.create_table('answered_requests',
    sa.Column('sign_in_id', sa.BigInteger(), autoincrement=False, nullable=False),
    sa.Column('key', sa.String(length=128, collation='utf8mb4_nopad_bin'), nullable=False),
    sa.Column('fingerprint', sa.String(length=64), nullable=False),
    sa.Column('answer', sa.JSON(), nullable=False),
    sa.Column('at', fair_ladle.app.plumbing.database.Instant(), nullable=False),
    sa.PrimaryKeyConstraint('sign_in_id', 'key', name=op.f('pk_answered_requests'))
    )
    op.create_index(op.f('ix_answered_requests_at'), 'answered_requests', ['at'], unique=False)
    op.create_table('demo_clock',
    sa.Column('demo_at', fair_ladle.app.plumbing.database.Instant(), nullable=False),
    sa.Column('real_at', fair_ladle.app.plumbing.database.Instant(), nullable=False)
    )
    op.create_table('failed_tries',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('email', sa.String(length=254), nullable=False),
    sa.Column('origin', sa.String(length=64), nullable=False),
    sa.Column('at', fair_ladle.app.plumbing.database.Instant(), nullable=False),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_failed_tries'))
    )
    op.create_index(op.f('ix_failed_tries_at'), 'failed_tries', ['at'], unique=False)
    op.create_table('log_entries',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('at', fair_ladle.app.plumbing.database.Instant(), nullable=False),
    sa.Column('actor', sa.String(length=200), nullable=False),
    sa.Column('through', sa.BigInteger(), nullable=True, comment='the account over which the actor acted; NULL = the installation'),
    sa.Column('account_id', sa.BigInteger(), nullable=True, comment='the account concerned'),
    sa.Column('action', sa.String(length=64), nullable=False),
    sa.Column('subject', sa.String(length=255), nullable=False),
    sa.Column('before', sa.JSON(), nullable=True),
    sa.Column('after', sa.JSON(), nullable=True),
    sa.Column('seal_number', sa.BigInteger(), nullable=True),
    sa.Column('seal', sa.String(length=64), nullable=True),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_log_entries')),
    sa.UniqueConstraint('seal_number', name=op.f('uq_log_entries_seal_number'))
    )
    op.create_index('ix_log_entries_account_id', 'log_entries', ['account_id', 'id'], unique=False)
    op.create_index('ix_log_entries_actor', 'log_entries', ['actor', 'id'], unique=False)
    op.create_table('products',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('code', sa.String(length=64, collation='utf8mb4_nopad_bin'), nullable=False),
    sa.Column('name', sa.String(length=200), nullable=False),
    sa.Column('vendor', sa.String(length=200), nullable=True),
    sa.Column('measure', sa.String(length=16), nullable=False),
    sa.Column('unit', sa.String(length=32), nullable=False),
    sa.Column('family', sa.String(length=64, collation='utf8mb4_nopad_bin'), nullable=True),
    sa.Column('requires', sa.Text(), nullable=False, comment='codes of base products, joined by ;'),
    sa.Column('components', sa.Text(), nullable=False, comment='codes, joined by ;, mandatory ones with !'),
    sa.Column('successor', sa.String(length=64, collation='utf8mb4_nopad_bin'), nullable=True),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_products')),
    sa.UniqueConstraint('code', name=op.f('uq_products_code'))
    )
    op.create_table('sign_ins',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('email', sa.String(length=254), nullable=False),
    sa.Column('name', sa.String(length=200), nullable=False),
    sa.Column('password_hash', sa.String(length=255), nullable=False),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_sign_ins')),
    sa.UniqueConstraint('email', name=op.f('uq_sign_ins_email'))
    )
    op.create_table('account_parents',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('account_id', sa.BigInteger(), nullable=False),
    sa.Column('parent_id', sa.BigInteger(), nullable=True),
    sa.Column('first_day', sa.Date(), nullable=True, comment='NULL = since ever'),
    sa.Column('last_day', sa.Date(), nullable=True, comment='NULL = open'),
    sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_account_parents_account_id')),
    sa.ForeignKeyConstraint(['parent_id'], ['accounts.id'], name=op.f('fk_account_parents_parent_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_account_parents'))
    )
    op.create_index(op.f('ix_account_parents_account_id'), 'account_parents', ['account_id'], unique=False)
    op.create_index(op.f('ix_account_parents_parent_id'), 'account_parents', ['parent_id'], unique=False)
    op.create_table('allocations',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('account_id', sa.BigInteger(), nullable=False),
    sa.Column('product_id', sa.BigInteger(), nullable=False),
    sa.Column('reserve', sa.BigInteger(), nullable=False),
    sa.Column('cap', sa.BigInteger(), nullable=True, comment='NULL = no cap'),
    sa.Column('at_cap', sa.String(length=16), nullable=False),
    sa.Column('burst', sa.BigInteger(), nullable=True),
    sa.Column('grace_days', sa.Integer(), nullable=True),
    sa.Column('first_day', sa.Date(), nullable=False),
    sa.Column('last_day', sa.Date(), nullable=True),
    sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_allocations_account_id')),
    sa.ForeignKeyConstraint(['product_id'], ['products.id'], name=op.f('fk_allocations_product_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_allocations')),
    sa.UniqueConstraint('product_id', 'account_id', 'first_day', name=op.f('uq_allocations_product_id_account_id_first_day'))
    )
    op.create_table('assignments',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('account_id', sa.BigInteger(), nullable=False),
    sa.Column('product_id', sa.BigInteger(), nullable=False),
    sa.Column('subject', sa.String(length=128, collation='utf8mb4_nopad_bin'), nullable=False),
    sa.Column('begins', fair_ladle.app.plumbing.database.Instant(), nullable=False),
    sa.Column('ends', fair_ladle.app.plumbing.database.Instant(), nullable=True),
    sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_assignments_account_id')),
    sa.ForeignKeyConstraint(['product_id'], ['products.id'], name=op.f('fk_assignments_product_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_assignments')),
    sa.UniqueConstraint('product_id', 'account_id', 'subject', 'begins', name=op.f('uq_assignments_product_id_account_id_subject_begins'))
    )
    op.create_index('ix_assignments_account_id_ends', 'assignments', ['product_id', 'account_id', 'ends'], unique=False)
    op.create_index('ix_assignments_subject', 'assignments', ['product_id', 'subject'], unique=False)
    op.create_table('delegations',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('sign_in_id', sa.BigInteger(), nullable=False),
    sa.Column('account_id', sa.BigInteger(), nullable=False),
    sa.Column('role', sa.String(length=32), nullable=False),
    sa.Column('first_day', sa.Date(), nullable=True),
    sa.Column('last_day', sa.Date(), nullable=True),
    sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_delegations_account_id')),
    sa.ForeignKeyConstraint(['sign_in_id'], ['sign_ins.id'], name=op.f('fk_delegations_sign_in_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_delegations'))
    )
    op.create_index(op.f('ix_delegations_sign_in_id'), 'delegations', ['sign_in_id'], unique=False)
    op.create_table('groups',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('account_id', sa.BigInteger(), nullable=False),
    sa.Column('code', sa.String(length=64, collation='utf8mb4_nopad_bin'), nullable=False),
    sa.Column('name', sa.String(length=200), nullable=False),
    sa.Column('rule', sa.Text(), nullable=True),
    sa.Column('members', sa.Text(), nullable=False, comment='usernames and group codes, joined by ;'),
    sa.Column('precedence', sa.Integer(), nullable=True),
    sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_groups_account_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_groups')),
    sa.UniqueConstraint('account_id', 'code', name=op.f('uq_groups_account_id_code'))
    )
    op.create_table('lots',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('reference', sa.String(length=100, collation='utf8mb4_nopad_bin'), nullable=False),
    sa.Column('owner_id', sa.BigInteger(), nullable=False),
    sa.Column('product_id', sa.BigInteger(), nullable=False),
    sa.Column('quantity', sa.BigInteger(), nullable=False),
    sa.Column('first_day', sa.Date(), nullable=False),
    sa.Column('last_day', sa.Date(), nullable=True),
    sa.Column('unit_cost', sa.Numeric(precision=30, scale=10), nullable=False),
    sa.Column('currency', sa.String(length=3), nullable=False),
    sa.Column('true_up', sa.BigInteger(), nullable=False),
    sa.Column('overcommit', sa.Integer(), nullable=True),
    sa.ForeignKeyConstraint(['owner_id'], ['accounts.id'], name=op.f('fk_lots_owner_id')),
    sa.ForeignKeyConstraint(['product_id'], ['products.id'], name=op.f('fk_lots_product_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_lots')),
    sa.UniqueConstraint('product_id', 'owner_id', 'reference', 'first_day', name=op.f('uq_lots_product_id_owner_id_reference_first_day'))
    )
    op.create_table('people',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('account_id', sa.BigInteger(), nullable=False),
    sa.Column('username', sa.String(length=128, collation='utf8mb4_nopad_bin'), nullable=False),
    sa.Column('display_name', sa.String(length=200), nullable=False),
    sa.Column('email', sa.String(length=254), nullable=True),
    sa.Column('status', sa.String(length=16), nullable=False),
    sa.Column('invited_at', fair_ladle.app.plumbing.database.Instant(), nullable=True),
    sa.Column('last_seen_at', fair_ladle.app.plumbing.database.Instant(), nullable=True),
    sa.Column('title', sa.String(length=200), nullable=True),
    sa.Column('department', sa.String(length=200), nullable=True),
    sa.Column('protected', sa.Boolean(), nullable=False),
    sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_people_account_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_people')),
    sa.UniqueConstraint('username', name=op.f('uq_people_username'))
    )
    op.create_index(op.f('ix_people_account_id'), 'people', ['account_id'], unique=False)
    op.create_index(op.f('ix_people_email'), 'people', ['email'], unique=False)
    op.create_table('pools',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('owner_id', sa.BigInteger(), nullable=False),
    sa.Column('product_id', sa.BigInteger(), nullable=False),
    sa.Column('fresh_until', fair_ladle.app.plumbing.database.Instant(), nullable=True, comment='counters hold until then; NULL = to be rebuilt'),
    sa.Column('backed', sa.Boolean(), server_default=sa.text('false'), nullable=False, comment='every promise is physically there'),
    sa.ForeignKeyConstraint(['owner_id'], ['accounts.id'], name=op.f('fk_pools_owner_id')),
    sa.ForeignKeyConstraint(['product_id'], ['products.id'], name=op.f('fk_pools_product_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_pools')),
    sa.UniqueConstraint('product_id', 'owner_id', name=op.f('uq_pools_product_id_owner_id'))
    )
    op.create_table('rates',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('seller_id', sa.BigInteger(), nullable=False),
    sa.Column('buyer_id', sa.BigInteger(), nullable=True, comment='NULL = all buyers'),
    sa.Column('product_id', sa.BigInteger(), nullable=False),
    sa.Column('first_day', sa.Date(), nullable=False),
    sa.Column('basis', sa.String(length=16), nullable=False),
    sa.Column('aggregate', sa.String(length=16), nullable=False),
    sa.Column('tier_mode', sa.String(length=16), nullable=False),
    sa.Column('included', sa.Numeric(precision=30, scale=10), nullable=True),
    sa.Column('overage_price', sa.Numeric(precision=30, scale=10), nullable=True),
    sa.Column('minimum', sa.Numeric(precision=30, scale=10), nullable=True),
    sa.Column('fixed_fee', sa.Numeric(precision=30, scale=10), nullable=True),
    sa.Column('currency', sa.String(length=3), nullable=True),
    sa.ForeignKeyConstraint(['buyer_id'], ['accounts.id'], name=op.f('fk_rates_buyer_id')),
    sa.ForeignKeyConstraint(['product_id'], ['products.id'], name=op.f('fk_rates_product_id')),
    sa.ForeignKeyConstraint(['seller_id'], ['accounts.id'], name=op.f('fk_rates_seller_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_rates'))
    )
    op.create_index('ix_rates_seller', 'rates', ['seller_id', 'product_id', 'first_day'], unique=False)
    op.create_table('sessions',
    sa.Column('token_hash', sa.String(length=64), nullable=False),
    sa.Column('sign_in_id', sa.BigInteger(), nullable=False),
    sa.Column('csrf_token', sa.String(length=64), nullable=False),
    sa.Column('began', fair_ladle.app.plumbing.database.Instant(), nullable=False),
    sa.Column('last_used', fair_ladle.app.plumbing.database.Instant(), nullable=False),
    sa.ForeignKeyConstraint(['sign_in_id'], ['sign_ins.id'], name=op.f('fk_sessions_sign_in_id')),
    sa.PrimaryKeyConstraint('token_hash', name=op.f('pk_sessions'))
    )
    op.create_index(op.f('ix_sessions_sign_in_id'), 'sessions', ['sign_in_id'], unique=False)
    op.create_table('storage_samples',
    sa.Column('product_id', sa.BigInteger(), nullable=False),
    sa.Column('account_id', sa.BigInteger(), nullable=False),
    sa.Column('category', sa.String(length=64, collation='utf8mb4_nopad_bin'), nullable=False),
    sa.Column('at', fair_ladle.app.plumbing.database.Instant(), nullable=False),
    sa.Column('bytes', sa.BigInteger(), nullable=False),
    sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_storage_samples_account_id')),
    sa.ForeignKeyConstraint(['product_id'], ['products.id'], name=op.f('fk_storage_samples_product_id')),
    sa.PrimaryKeyConstraint('product_id', 'account_id', 'category', 'at', name=op.f('pk_storage_samples'))
    )
    op.create_table('counters',
    sa.Column('pool_id', sa.BigInteger(), nullable=False),
    sa.Column('account_id', sa.BigInteger(), nullable=False),
    sa.Column('parent_id', sa.BigInteger(), nullable=True, comment="NULL for the pool's owner"),
    sa.Column('depth', sa.Integer(), nullable=False),
    sa.Column('own', sa.BigInteger(), nullable=False),
    sa.Column('load', sa.BigInteger(), nullable=False),
    sa.Column('reserve', sa.BigInteger(), nullable=False),
    sa.Column('cap', sa.BigInteger(), nullable=True),
    sa.Column('at_cap', sa.String(length=16), nullable=False),
    sa.Column('burst', sa.BigInteger(), nullable=True),
    sa.Column('grace_days', sa.Integer(), nullable=True),
    sa.Column('past_cap_since', fair_ladle.app.plumbing.database.Instant(), nullable=True, comment='since when a grace clock runs'),
    sa.Column('promisable', sa.BigInteger(), nullable=True, comment="only for the pool's owner"),
    sa.Column('physical', sa.BigInteger(), nullable=True, comment="only for the pool's owner"),
    sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_counters_account_id')),
    sa.ForeignKeyConstraint(['pool_id'], ['pools.id'], name=op.f('fk_counters_pool_id')),
    sa.PrimaryKeyConstraint('pool_id', 'account_id', name=op.f('pk_counters'))
    )
    op.create_index('ix_counters_lock_order', 'counters', ['pool_id', sa.literal_column('depth DESC'), 'account_id'], unique=False)
    op.create_table('rate_tiers',
    sa.Column('rate_id', sa.BigInteger(), nullable=False),
    sa.Column('from_quantity', sa.Numeric(precision=30, scale=10), nullable=False),
    sa.Column('unit_price', sa.Numeric(precision=30, scale=10), nullable=False),
    sa.ForeignKeyConstraint(['rate_id'], ['rates.id'], name=op.f('fk_rate_tiers_rate_id')),
    sa.PrimaryKeyConstraint('rate_id', 'from_quantity', name=op.f('pk_rate_tiers'))
    )
    # ### end Alembic commands ###
