"""what is on hold now is found without what was"""

from alembic import op

revision = '0053'
down_revision = '0052'


def upgrade() -> None:
    """An index of holds by their end."""
    op.create_index('ix_holds_ends', 'holds', ['ends', 'account_id', 'product_id'])
