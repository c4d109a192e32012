"""tables of people who leave: what is done with them"""

import sqlalchemy as sa
from alembic import op

revision = '0033'
down_revision = '0032'


def upgrade() -> None:
    """Those that were to be suspended still are."""
    op.add_column(
        'people_imports',
        sa.Column('reversed_by', sa.BigInteger(), comment='the import that brought back who left by this one'),
    )
    op.execute(
        "UPDATE people_imports SET how = JSON_REMOVE(JSON_SET(how, '$.leaving', "
        "IF(JSON_VALUE(how, '$.suspend') = '1', 'suspend', '')), '$.suspend') WHERE JSON_EXISTS(how, '$.suspend')"
    )
