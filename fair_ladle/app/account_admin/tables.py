"""Templates for new accounts."""

from __future__ import annotations

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import Instant, id_column, metadata

account_templates = sa.Table(
    "account_templates",
    metadata,
    id_column(),
    sa.Column("branch_id", sa.ForeignKey("accounts.id"), nullable=False, comment="the branch whose admins use it"),
    sa.Column("name", sa.String(200), nullable=False),
    sa.Column("shape", sa.JSON, nullable=False),
    sa.Column("made_by", sa.String(200), nullable=False),
    sa.Column("made_at", Instant, nullable=False),
    sa.UniqueConstraint("branch_id", "name"),
)
