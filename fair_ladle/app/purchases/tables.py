"""Secret addresses of calendars."""

from __future__ import annotations

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import Instant, id_column, metadata

calendars = sa.Table(
    "calendars",
    metadata,
    id_column(),
    sa.Column("token_hash", sa.String(64), nullable=False, unique=True),
    sa.Column("sign_in_id", sa.ForeignKey("sign_ins.id"), nullable=False, index=True),
    sa.Column("account_id", sa.ForeignKey("accounts.id"), nullable=False),
    sa.Column("made_at", Instant, nullable=False),
)
