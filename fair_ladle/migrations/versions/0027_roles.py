"""roles of one's own, and more of a delegation"""

import sqlalchemy as sa
from alembic import op

revision = '0027'
down_revision = '0026'


def upgrade() -> None:
    """Delegations that are there can be passed on, as they could."""
    op.create_table(
        'roles',
        sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column('account_id', sa.BigInteger(), nullable=False, comment='whose role it is'),
        sa.Column('name', sa.String(length=100), nullable=False),
        sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_roles_account_id_accounts')),
        sa.PrimaryKeyConstraint('id', name=op.f('pk_roles')),
        sa.UniqueConstraint('account_id', 'name', name=op.f('uq_roles_account_id_name')),
    )
    op.create_table(
        'role_permissions',
        sa.Column('role_id', sa.BigInteger(), nullable=False),
        sa.Column('permission', sa.String(length=32), nullable=False),
        sa.ForeignKeyConstraint(['role_id'], ['roles.id'], name=op.f('fk_role_permissions_role_id_roles')),
        sa.PrimaryKeyConstraint('role_id', 'permission', name=op.f('pk_role_permissions')),
    )
    op.add_column(
        'delegations', sa.Column('role_id', sa.BigInteger(), comment='a role of one\'s own; NULL = a ready-made one')
    )
    op.create_foreign_key(op.f('fk_delegations_role_id_roles'), 'delegations', 'roles', ['role_id'], ['id'])
    op.add_column(
        'delegations',
        sa.Column('passes_on', sa.Boolean(), server_default=sa.text('1'), nullable=False, comment='may give delegations'),
    )
    op.add_column(
        'delegations',
        sa.Column('name', sa.String(length=200), comment='what who gave it calls them; NULL = as their sign-in'),
    )
    op.create_index('ix_delegations_account_id', 'delegations', ['account_id'])
