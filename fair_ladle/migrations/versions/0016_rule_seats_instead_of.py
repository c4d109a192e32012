"""what a seat that a layer gave stands in for"""

import sqlalchemy as sa
from alembic import op

revision = '0016'
down_revision = '0015'


def upgrade() -> None:
    """What a seat that a layer gave stands in for."""
    op.add_column('rule_seats', sa.Column('instead_of', sa.BigInteger(), nullable=True, comment='a lower one of the family, given by hand; NULL = none'))
    op.create_foreign_key(op.f('fk_rule_seats_instead_of'), 'rule_seats', 'products', ['instead_of'], ['id'])
