"""limits of delegations, keys, what delegations were, and more in the log"""

import sqlalchemy as sa
import fair_ladle.app.plumbing.database
from alembic import op

revision = '0029'
down_revision = '0028'

EVERYTHING = (
    'accounts.see, accounts.change, allocations.see, drafts.change, requests.make, pools.see, people.see, '
    'people.change, people.invite, seats.give, groups.change, layers.change, devices.see, devices.change, '
    'statements.see, products.change, delegations.see, delegations.give, log.see, server.see'
)
STEWARD = (
    'accounts.see, allocations.see, drafts.change, requests.make, pools.see, people.see, people.invite, seats.give, '
    'devices.see, devices.change'
)
BILLING = 'accounts.see, statements.see, pools.see'
DESK = 'accounts.see, people.see, people.invite'


def upgrade() -> None:
    """What every delegation is now is taken for what it always was."""
    instant = fair_ladle.app.plumbing.database.Instant
    op.add_column('delegations', sa.Column('limits', sa.JSON(), comment='how far it goes; NULL = as far as its role'))
    op.add_column(
        'delegations',
        sa.Column(
            'people_of', sa.String(length=130), comment='a group: its people alone, no account; NULL = the whole branch'
        ),
    )
    op.add_column(
        'delegations', sa.Column('given_through', sa.BigInteger(), comment='the delegation through which it was given')
    )
    op.create_table(
        'delegation_history',
        sa.Column('id', sa.BigInteger(), nullable=False, autoincrement=True),
        sa.Column('delegation_id', sa.BigInteger(), nullable=False),
        sa.Column('since', instant(), nullable=False),
        sa.Column('role_name', sa.String(length=100), nullable=False),
        sa.Column('permissions', sa.String(length=1000), nullable=False),
        sa.Column('first_day', sa.Date()),
        sa.Column('last_day', sa.Date()),
        sa.Column('passes_on', sa.Boolean(), nullable=False),
        sa.ForeignKeyConstraint(
            ['delegation_id'], ['delegations.id'], name=op.f('fk_delegation_history_delegation_id_delegations')
        ),
        sa.PrimaryKeyConstraint('id', name=op.f('pk_delegation_history')),
    )
    op.create_index(
        op.f('ix_delegation_history_delegation_id'), 'delegation_history', ['delegation_id', 'since'], unique=False
    )
    named = sa.text(
        'INSERT INTO delegation_history '
        '(delegation_id, since, role_name, permissions, first_day, last_day, passes_on) '
        "SELECT d.id, '1971-01-01', COALESCE(r.name, CASE d.role WHEN 'steward' THEN 'Licence steward' "
        "WHEN 'billing' THEN 'Billing reader' WHEN 'auditor' THEN 'Auditor' WHEN 'desk' THEN 'Service desk' "
        "ELSE 'Branch admin' END), "
        'COALESCE((SELECT GROUP_CONCAT(p.permission ORDER BY p.permission SEPARATOR \', \') FROM role_permissions p '
        'WHERE p.role_id = d.role_id), CASE d.role WHEN \'steward\' THEN :steward WHEN \'billing\' THEN :billing '
        "WHEN 'auditor' THEN :auditor WHEN 'desk' THEN :desk ELSE :admin END), "
        'd.first_day, d.last_day, d.passes_on FROM delegations d LEFT JOIN roles r ON r.id = d.role_id'
    )
    auditor = ', '.join(each for each in EVERYTHING.split(', ') if each.endswith('.see'))
    op.get_bind().execute(
        named, {'admin': EVERYTHING, 'steward': STEWARD, 'billing': BILLING, 'desk': DESK, 'auditor': auditor}
    )
    op.create_table(
        'api_keys',
        sa.Column('id', sa.BigInteger(), nullable=False, autoincrement=True),
        sa.Column('delegation_id', sa.BigInteger(), nullable=False),
        sa.Column('name', sa.String(length=100), nullable=False),
        sa.Column('key_hash', sa.String(length=64), nullable=False),
        sa.Column('ending', sa.String(length=4), nullable=False, comment='its last characters, to tell it by'),
        sa.Column('permissions', sa.JSON(), comment='what of the role it has; NULL = all of it'),
        sa.Column('made_at', instant(), nullable=False),
        sa.Column('expires_at', instant(), nullable=False),
        sa.Column('ended_at', instant()),
        sa.Column('last_used', instant()),
        sa.Column('last_origin', sa.String(length=64)),
        sa.Column('minute', sa.BigInteger(), nullable=False, server_default='0', comment='of the newest request'),
        sa.Column('asked', sa.Integer(), nullable=False, server_default='0', comment='how often in that minute'),
        sa.ForeignKeyConstraint(['delegation_id'], ['delegations.id'], name=op.f('fk_api_keys_delegation_id_delegations')),
        sa.PrimaryKeyConstraint('id', name=op.f('pk_api_keys')),
        sa.UniqueConstraint('key_hash', name=op.f('uq_api_keys_key_hash')),
    )
    op.create_index(op.f('ix_api_keys_delegation_id'), 'api_keys', ['delegation_id'], unique=False)
    op.create_table(
        'second_factor_rules',
        sa.Column('account_id', sa.BigInteger(), nullable=False),
        sa.Column('role', sa.String(length=32), nullable=False, comment='its key; empty = every role'),
        sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_second_factor_rules_account_id_accounts')),
        sa.PrimaryKeyConstraint('account_id', 'role', name=op.f('pk_second_factor_rules')),
    )
    op.add_column(
        'log_entries',
        sa.Column('via', sa.String(length=255), comment='the role, account and key the actor acted through, in words'),
    )
    op.add_column(
        'log_entries',
        sa.Column(
            'digest',
            sa.String(length=64),
            comment='of salt and words: what is sealed in place of whom and what it names',
        ),
    )
    op.add_column(
        'log_entries',
        sa.Column('salt', sa.String(length=32), comment='NULL = erased, or written before there were digests'),
    )
    op.add_column('log_entries', sa.Column('delegation_id', sa.BigInteger(), comment='through which the actor acted'))
    op.add_column('log_entries', sa.Column('key_id', sa.BigInteger(), comment='the key a program acted with'))
    op.add_column('log_entries', sa.Column('request_id', sa.String(length=32)))
    op.add_column('log_entries', sa.Column('origin', sa.String(length=64), comment='the address it was asked from'))
    for name, kind, comment, may_lack in (
        ('state', sa.String(length=16), 'open, scheduled, held, asked, applied or discarded', False),
        ('reason', sa.Text(), 'why a scheduled one was held back, or one is asked for', True),
    ):
        op.alter_column('drafts', name, existing_type=kind, existing_nullable=may_lack, comment=comment)
    op.add_column(
        'draft_shares',
        sa.Column('asked', sa.Boolean(), nullable=False, server_default='0', comment='they were asked to apply it'),
    )
