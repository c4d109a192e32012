"""of an account that is made here the day is kept"""

import sqlalchemy as sa
from alembic import op

revision = '0054'
down_revision = '0053'


def upgrade() -> None:
    """Of those that are there nothing is known."""
    op.add_column(
        'accounts',
        sa.Column('made_on', sa.Date, comment='the day it was made here; NULL = by an intake, or before this was kept'),
    )
