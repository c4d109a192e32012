"""an import of leavers can be done on a day ahead"""

import sqlalchemy as sa
from alembic import op

revision = '0048'
down_revision = '0047'


def upgrade() -> None:
    """None is planned yet."""
    op.add_column('people_imports', sa.Column('on_day', sa.Date, comment='the day on which a planned import begins'))
    op.alter_column(
        'people_imports',
        'state',
        existing_type=sa.String(16),
        existing_nullable=False,
        comment='open, planned, running, cancelled, broken or done',
    )
