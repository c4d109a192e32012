"""who was told of a storage limit"""

import sqlalchemy as sa
from alembic import op

revision = '0044'
down_revision = '0043'


def upgrade() -> None:
    """Nobody was."""
    op.add_column('stored', sa.Column('told', sa.SmallInteger(), nullable=False, server_default='0', comment='1 = that they are near their limit, 2 = over it'))
