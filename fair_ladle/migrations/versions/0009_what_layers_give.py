"""what layers give"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

import fair_ladle.app.plumbing.database

revision = '0009'
down_revision = '0008'


def upgrade() -> None:
    """what layers give."""
    op.create_table('component_switches',
    sa.Column('person_id', sa.BigInteger(), nullable=False),
    sa.Column('product_id', sa.BigInteger(), nullable=False),
    sa.Column('component', sa.String(length=64, collation='utf8mb4_nopad_bin'), nullable=False),
    sa.ForeignKeyConstraint(['person_id'], ['people.id'], name=op.f('fk_component_switches_person_id')),
    sa.ForeignKeyConstraint(['product_id'], ['products.id'], name=op.f('fk_component_switches_product_id')),
    sa.PrimaryKeyConstraint('person_id', 'product_id', 'component', name=op.f('pk_component_switches'))
    )
    op.create_table('entitlements',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('account_id', sa.BigInteger(), nullable=False, comment='gives to its branch, or to a group of it'),
    sa.Column('group_id', sa.BigInteger(), nullable=True, comment='NULL = everybody of the branch'),
    sa.Column('product_id', sa.BigInteger(), nullable=False),
    sa.Column('components', sa.JSON(), nullable=False, comment='codes of those that are on'),
    sa.Column('priority', sa.Integer(), nullable=False, comment='the smallest gets its seats first'),
    sa.ForeignKeyConstraint(['account_id'], ['accounts.id'], name=op.f('fk_entitlements_account_id')),
    sa.ForeignKeyConstraint(['group_id'], ['groups.id'], name=op.f('fk_entitlements_group_id')),
    sa.ForeignKeyConstraint(['product_id'], ['products.id'], name=op.f('fk_entitlements_product_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_entitlements'))
    )
    op.create_index('ix_entitlements_account_id_product_id', 'entitlements', ['account_id', 'product_id'], unique=False)
    op.create_index(op.f('ix_entitlements_group_id'), 'entitlements', ['group_id'], unique=False)
    op.create_table('rule_seats',
    sa.Column('product_id', sa.BigInteger(), nullable=False),
    sa.Column('person_id', sa.BigInteger(), nullable=False),
    sa.ForeignKeyConstraint(['person_id'], ['people.id'], name=op.f('fk_rule_seats_person_id')),
    sa.ForeignKeyConstraint(['product_id'], ['products.id'], name=op.f('fk_rule_seats_product_id')),
    sa.PrimaryKeyConstraint('product_id', 'person_id', name=op.f('pk_rule_seats'))
    )
    op.create_table('seat_queue',
    sa.Column('product_id', sa.BigInteger(), nullable=False),
    sa.Column('person_id', sa.BigInteger(), nullable=False),
    sa.Column('since', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=False),
    sa.ForeignKeyConstraint(['person_id'], ['people.id'], name=op.f('fk_seat_queue_person_id')),
    sa.ForeignKeyConstraint(['product_id'], ['products.id'], name=op.f('fk_seat_queue_product_id')),
    sa.PrimaryKeyConstraint('product_id', 'person_id', name=op.f('pk_seat_queue'))
    )
