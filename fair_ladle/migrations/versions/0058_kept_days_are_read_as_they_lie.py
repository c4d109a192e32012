"""Kept days are packed as narrow as their figures are: those of before are worked out again by the job."""

import sqlalchemy as sa
from alembic import op

revision = "0058"
down_revision = "0057"


def upgrade() -> None:
    """Forget the days that are packed in another way."""
    op.execute(sa.text("DELETE FROM kept_days"))
