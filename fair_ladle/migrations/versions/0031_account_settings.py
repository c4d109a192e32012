"""settings of accounts"""

import sqlalchemy as sa
from alembic import op

revision = '0031'
down_revision = '0030'


def upgrade() -> None:
    """None are set."""
    op.create_table(
        'account_settings',
        sa.Column('account_id', sa.BigInteger(), nullable=False),
        sa.Column('name', sa.String(length=32), nullable=False),
        sa.Column('value', sa.Integer(), nullable=False),
        sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_account_settings_account_id_accounts')),
        sa.PrimaryKeyConstraint('account_id', 'name', name=op.f('pk_account_settings')),
    )
