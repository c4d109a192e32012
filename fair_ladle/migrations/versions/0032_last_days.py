"""last day of what is asked for; allocations by their last day"""

import sqlalchemy as sa
from alembic import op

revision = '0032'
down_revision = '0031'


def upgrade() -> None:
    """None was asked for."""
    op.add_column('requests', sa.Column('last_day', sa.Date(), comment='wanted until then; NULL = for good'))
    op.create_index('ix_allocations_last_day', 'allocations', ['last_day'])
