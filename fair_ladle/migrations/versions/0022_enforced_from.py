"""what enforcement went by at its last run"""

import sqlalchemy as sa
from alembic import op

revision = '0022'
down_revision = '0021'


def upgrade() -> None:
    """The generations that a product's holds were replayed from; another one has all of it replayed."""
    op.add_column('enforced', sa.Column('made_of', sa.String(length=64), nullable=True, comment='generations it went by'))
