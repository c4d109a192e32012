"""what was left behind can go after a while"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = '0047'
down_revision = '0046'


def upgrade() -> None:
    """All of it stays."""
    op.add_column('stored', sa.Column('delete_at', mysql.DATETIME(fsp=6), comment='when what somebody left behind is gone; NULL = stays'))
    op.create_index('ix_stored_delete_at', 'stored', ['delete_at'])
