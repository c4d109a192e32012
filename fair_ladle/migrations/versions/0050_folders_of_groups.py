"""a shared folder can be a group's"""

import sqlalchemy as sa
from alembic import op

revision = '0050'
down_revision = '0049'


def upgrade() -> None:
    """Those that are there stay their accounts'."""
    op.add_column(
        'shared_folders',
        sa.Column('group_id', sa.BigInteger, comment="the group whose it is; NULL = the account's"),
    )
    op.create_foreign_key(
        'fk_shared_folders_group_id', 'shared_folders', 'groups', ['group_id'], ['id'], ondelete='SET NULL'
    )
    op.create_index('ix_shared_folders_group_id', 'shared_folders', ['group_id'])
