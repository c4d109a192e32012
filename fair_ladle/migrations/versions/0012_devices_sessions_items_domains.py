"""devices sessions items and joining by domain"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

import fair_ladle.app.plumbing.database

revision = '0012'
down_revision = '0011'


def upgrade() -> None:
    """devices sessions items and joining by domain."""
    op.create_table('signing_keys',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('private', sa.LargeBinary(), nullable=False, comment='Ed25519, raw; never leaves the server'),
    sa.Column('made_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=False),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_signing_keys'))
    )
    op.create_table('activation_keys',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('account_id', sa.BigInteger(), nullable=False),
    sa.Column('product_id', sa.BigInteger(), nullable=False),
    sa.Column('name', sa.String(length=200), nullable=False),
    sa.Column('key_hash', sa.String(length=64), nullable=False, comment='SHA-256 of the key, which is shown once'),
    sa.Column('ending', sa.String(length=8), nullable=False, comment='its last letters, to tell keys apart'),
    sa.Column('most', sa.Integer(), nullable=True, comment="the most devices at once; NULL = what the account's cap lets through"),
    sa.Column('last_day', sa.Date(), nullable=True),
    sa.Column('made_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=False),
    sa.Column('made_by', sa.String(length=200), nullable=False),
    sa.Column('withdrawn_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=True),
    sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_activation_keys_account_id')),
    sa.ForeignKeyConstraint(['product_id'], ['products.id'], name=op.f('fk_activation_keys_product_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_activation_keys')),
    sa.UniqueConstraint('key_hash', name=op.f('uq_activation_keys_key_hash'))
    )
    op.create_index(op.f('ix_activation_keys_account_id'), 'activation_keys', ['account_id'], unique=False)
    op.create_table('email_domains',
    sa.Column('domain', sa.String(length=253, collation='utf8mb4_nopad_bin'), nullable=False),
    sa.Column('account_id', sa.BigInteger(), nullable=False),
    sa.Column('joining', sa.String(length=16), nullable=False, comment='at once, or approved'),
    sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_email_domains_account_id')),
    sa.PrimaryKeyConstraint('domain', name=op.f('pk_email_domains'))
    )
    op.create_index(op.f('ix_email_domains_account_id'), 'email_domains', ['account_id'], unique=False)
    op.create_table('join_requests',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('account_id', sa.BigInteger(), nullable=False),
    sa.Column('email', sa.String(length=254), nullable=False),
    sa.Column('name', sa.String(length=200), nullable=False),
    sa.Column('token_hash', sa.String(length=64), nullable=False),
    sa.Column('asked_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=False),
    sa.Column('proven_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=True, comment='when the link in the mail was followed: the address is theirs'),
    sa.Column('decided_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=True),
    sa.Column('decided_by', sa.String(length=200), nullable=True),
    sa.Column('username', sa.String(length=128), nullable=True, comment='who they became; NULL = not yet, or refused'),
    sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_join_requests_account_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_join_requests')),
    sa.UniqueConstraint('token_hash', name=op.f('uq_join_requests_token_hash'))
    )
    op.create_index(op.f('ix_join_requests_account_id'), 'join_requests', ['account_id'], unique=False)
    op.create_index(op.f('ix_join_requests_email'), 'join_requests', ['email'], unique=False)
    op.create_table('devices',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column("key_id", sa.BigInteger(), nullable=True, comment="NULL: recorded by an intake, known by its name alone"),
    sa.Column('account_id', sa.BigInteger(), nullable=False),
    sa.Column('product_id', sa.BigInteger(), nullable=False),
    sa.Column('machine', sa.String(length=128, collation='utf8mb4_nopad_bin'), nullable=False),
    sa.Column('name', sa.String(length=200), nullable=False),
    sa.Column('person_id', sa.BigInteger(), nullable=True),
    sa.Column('token_hash', sa.String(length=64), nullable=True),
    sa.Column('state', sa.String(length=16), nullable=False, comment='active, revoking (told at its next report) or revoked'),
    sa.Column('activated_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=False),
    sa.Column('reported_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=True),
    sa.Column('offline_until', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=True, comment='until when it works without a network'),
    sa.Column('revoked_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=True),
    sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_devices_account_id')),
    sa.ForeignKeyConstraint(['key_id'], ['activation_keys.id'], name=op.f('fk_devices_key_id')),
    sa.ForeignKeyConstraint(['person_id'], ['people.id'], name=op.f('fk_devices_person_id')),
    sa.ForeignKeyConstraint(['product_id'], ['products.id'], name=op.f('fk_devices_product_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_devices')),
    sa.UniqueConstraint('product_id', 'machine', name=op.f('uq_devices_product_id_machine')),
    sa.UniqueConstraint('token_hash', name=op.f('uq_devices_token_hash'))
    )
    op.create_index(op.f('ix_devices_account_id'), 'devices', ['account_id'], unique=False)
    op.create_index(op.f('ix_devices_key_id'), 'devices', ['key_id'], unique=False)
    op.create_index(op.f('ix_devices_person_id'), 'devices', ['person_id'], unique=False)
    op.create_table('items',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('pool_id', sa.BigInteger(), nullable=False),
    sa.Column('product_id', sa.BigInteger(), nullable=False),
    sa.Column('number', sa.String(length=128, collation='utf8mb4_nopad_bin'), nullable=False),
    sa.Column('brought_in_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=False),
    sa.Column('withdrawn_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=True, comment='given back to the vendor'),
    sa.Column('reserved_by', sa.BigInteger(), nullable=True, comment='sign-in that is choosing'),
    sa.Column('reserved_until', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=True),
    sa.Column('person_id', sa.BigInteger(), nullable=True, comment='who uses it, while assigned'),
    sa.Column('address', sa.String(length=500), nullable=True, comment='where it is used, while assigned'),
    sa.ForeignKeyConstraint(['person_id'], ['people.id'], name=op.f('fk_items_person_id')),
    sa.ForeignKeyConstraint(['pool_id'], ['pools.id'], name=op.f('fk_items_pool_id')),
    sa.ForeignKeyConstraint(['product_id'], ['products.id'], name=op.f('fk_items_product_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_items')),
    sa.UniqueConstraint('product_id', 'number', name=op.f('uq_items_product_id_number'))
    )
    op.create_index(op.f('ix_items_person_id'), 'items', ['person_id'], unique=False)
    op.create_index('ix_items_pool_id_number', 'items', ['pool_id', 'number'], unique=False)
    op.create_table('leases',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('account_id', sa.BigInteger(), nullable=False),
    sa.Column('product_id', sa.BigInteger(), nullable=False),
    sa.Column('person_id', sa.BigInteger(), nullable=False),
    sa.Column('username', sa.String(length=128, collation='utf8mb4_nopad_bin'), nullable=False),
    sa.Column('machine', sa.String(length=128, collation='utf8mb4_nopad_bin'), nullable=False),
    sa.Column('token_hash', sa.String(length=64), nullable=False),
    sa.Column('began_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=False),
    sa.Column('until', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=False, comment='when it is lost unless a heartbeat comes'),
    sa.Column('offline_until', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=True, comment='until when it needs no heartbeat'),
    sa.Column('ends_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=True, comment='it was told to save and end by then'),
    sa.Column('ended_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=True),
    sa.Column('why', sa.String(length=200), nullable=True, comment='why it is told to end, or ended'),
    sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_leases_account_id')),
    sa.ForeignKeyConstraint(['person_id'], ['people.id'], name=op.f('fk_leases_person_id')),
    sa.ForeignKeyConstraint(['product_id'], ['products.id'], name=op.f('fk_leases_product_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_leases')),
    sa.UniqueConstraint('token_hash', name=op.f('uq_leases_token_hash'))
    )
    op.create_index('ix_leases_ended_at_until', 'leases', ['ended_at', 'until'], unique=False)
    op.create_index('ix_leases_person', 'leases', ['product_id', 'person_id', 'ended_at'], unique=False)
    op.create_table('storage_limits',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('product_id', sa.BigInteger(), nullable=False),
    sa.Column('account_id', sa.BigInteger(), nullable=True, comment='the default for everybody of it and below'),
    sa.Column('group_id', sa.BigInteger(), nullable=True),
    sa.Column('person_id', sa.BigInteger(), nullable=True),
    sa.Column('grains', sa.BigInteger(), nullable=False),
    sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_storage_limits_account_id')),
    sa.ForeignKeyConstraint(['group_id'], ['groups.id'], name=op.f('fk_storage_limits_group_id')),
    sa.ForeignKeyConstraint(['person_id'], ['people.id'], name=op.f('fk_storage_limits_person_id')),
    sa.ForeignKeyConstraint(['product_id'], ['products.id'], name=op.f('fk_storage_limits_product_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_storage_limits')),
    sa.UniqueConstraint('product_id', 'account_id', name=op.f('uq_storage_limits_product_id_account_id')),
    sa.UniqueConstraint('product_id', 'group_id', name=op.f('uq_storage_limits_product_id_group_id')),
    sa.UniqueConstraint('product_id', 'person_id', name=op.f('uq_storage_limits_product_id_person_id'))
    )
    op.add_column('people', sa.Column('was_in', sa.JSON(), nullable=True, comment='numbers of the accounts they were in before; bytes may have stayed there'))
    op.add_column('reclaim_policies', sa.Column('trouble', sa.Text(), nullable=True, comment='why its last run by itself could not be'))
    op.add_column('people', sa.Column(
        'find_small', sa.String(length=800, collation='utf8mb4_nopad_bin'),
        sa.Computed("concat_ws(' ',lower(`display_name`),lower(`username`),lower(`email`),lower(`title`))", persisted=True), nullable=True, comment='what is looked through for words',
    ))
