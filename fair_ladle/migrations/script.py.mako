"""${message}"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

import fair_ladle.app.plumbing.database

revision = ${repr(up_revision)}
down_revision = ${repr(down_revision)}


def upgrade() -> None:
    """${message}."""
    ${upgrades if upgrades else "pass"}
