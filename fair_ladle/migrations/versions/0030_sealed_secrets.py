"""sealed secrets, and limits of keys"""

import sqlalchemy as sa
from alembic import op

revision = '0030'
down_revision = '0029'


def upgrade() -> None:
    """Secrets kept before stay as they are until they are used next."""
    op.alter_column(
        'second_factors',
        'secret',
        type_=sa.String(length=255),
        existing_type=sa.String(length=64),
        existing_nullable=False,
        comment='TOTP, base 32, sealed',
    )
    op.add_column('api_keys', sa.Column('limits', sa.JSON(), comment='how far it goes; NULL = as far as its delegation'))
