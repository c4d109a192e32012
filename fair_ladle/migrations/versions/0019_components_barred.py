"""components that accounts and groups bar, and switches both ways"""

import sqlalchemy as sa
from alembic import op

revision = '0019'
down_revision = '0018'

LETTERS = 'utf8mb4_nopad_bin'


def upgrade() -> None:
    """Components are barred by accounts and groups, and switched on as well as off."""
    op.add_column('component_switches', sa.Column('on', sa.Boolean(), server_default=sa.text('0'), nullable=False, comment='switched on, or off'))
    op.add_column('rule_seats', sa.Column('components', sa.JSON(), nullable=True, comment='codes of those that were on while a layer gave it'))
    op.create_table('component_bars',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('account_id', sa.BigInteger(), nullable=False, comment='bars for its branch, or a group of it'),
    sa.Column('group_id', sa.BigInteger(), nullable=True, comment='NULL = everybody of the branch'),
    sa.Column('product_id', sa.BigInteger(), nullable=False),
    sa.Column('component', sa.String(length=64, collation=LETTERS), nullable=False),
    sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_component_bars_account_id')),
    sa.ForeignKeyConstraint(['group_id'], ['groups.id'], name=op.f('fk_component_bars_group_id')),
    sa.ForeignKeyConstraint(['product_id'], ['products.id'], name=op.f('fk_component_bars_product_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_component_bars')),
    )
    op.create_index('ix_component_bars_group_id', 'component_bars', ['group_id'])
    op.create_index('ix_component_bars_account_id_product_id', 'component_bars', ['account_id', 'product_id'])
