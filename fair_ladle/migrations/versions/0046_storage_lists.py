"""indexes for lists of what is stored"""

from alembic import op

revision = '0046'
down_revision = '0045'


def upgrade() -> None:
    """Who somebody is, by username, is read from an index alone."""
    op.create_index('ix_people_where', 'people', ['username', 'account_id', 'status'])
