"""beside what is stored it is kept whose it is"""

import sqlalchemy as sa
from alembic import op

revision = '0057'
down_revision = '0056'


def upgrade() -> None:
    """Looked up by username for each row before."""
    op.add_column(
        'stored',
        sa.Column(
            'person_id', sa.BigInteger, comment="whose of the account it is; NULL = nobody's: left behind, or shared"
        ),
    )
    op.execute(
        "UPDATE stored SET person_id = (SELECT people.id FROM people WHERE people.username = stored.name"
        " AND people.account_id = stored.account_id AND people.status <> 'removed') WHERE stored.kind = 'person'"
    )
    op.drop_index('ix_stored_size', 'stored')
    op.create_index('ix_stored_size', 'stored', ['product_id', 'kind', 'bytes', 'person_id'])
    op.create_index('ix_stored_person_id', 'stored', ['person_id', 'product_id', 'kind'])
