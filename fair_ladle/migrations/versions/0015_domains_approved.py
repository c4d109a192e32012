"""domains that accounts want and the operator approves"""

import sqlalchemy as sa
from alembic import op

import fair_ladle.app.plumbing.database

revision = '0015'
down_revision = '0014'


def upgrade() -> None:
    """Domains that accounts want and the operator approves; those there are count as approved."""
    op.add_column('email_domains', sa.Column('approved_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=True, comment='when the operator agreed that it is theirs; NULL = waits'))
    op.execute("UPDATE email_domains SET approved_at = UTC_TIMESTAMP(6)")
    op.execute("ALTER TABLE email_domains DROP PRIMARY KEY, ADD PRIMARY KEY (domain, account_id)")
