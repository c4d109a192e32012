"""what happens at a storage limit"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = '0041'
down_revision = '0040'


def upgrade() -> None:
    """Limits tell, as they did."""
    op.add_column('storage_limits', sa.Column('at_limit', sa.String(8), nullable=False, server_default='tell', comment='tell, stop or grace'))
    op.add_column('storage_limits', sa.Column('tell_at', sa.Integer(), nullable=False, server_default='90', comment='percent from which on it is told'))
    op.add_column('storage_limits', sa.Column('grace_days', sa.Integer(), comment='after which it stops'))
    op.add_column('stored', sa.Column('past_limit_since', mysql.DATETIME(fsp=6), comment='since when it is over its limit, as far as it was looked at'))
