"""caps that follow seats"""

import sqlalchemy as sa
from alembic import op

revision = '0039'
down_revision = '0038'


def upgrade() -> None:
    """No cap follows any."""
    op.add_column('allocations', sa.Column('per_id', sa.BigInteger(), comment='the counted product whose units the cap follows'))
    op.add_column('allocations', sa.Column('each', sa.BigInteger(), comment='grains more for each of them'))
    op.create_foreign_key(op.f('fk_allocations_per_id_products'), 'allocations', 'products', ['per_id'], ['id'])
    op.add_column('counters', sa.Column('per', sa.String(64, collation='utf8mb4_nopad_bin'), comment='the counted product whose units the cap follows, a moment later'))
    op.add_column('counters', sa.Column('each', sa.BigInteger(), comment='grains more for each of them'))
    op.add_column('counters', sa.Column('fixed', sa.BigInteger(), comment='the cap without any'))
    op.create_index('ix_counters_per', 'counters', ['per'])
