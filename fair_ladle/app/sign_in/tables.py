"""Who can sign in, what they may run, their sessions, and tries that failed."""

from __future__ import annotations

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import Instant, id_column, metadata

sign_ins = sa.Table(
    "sign_ins",
    metadata,
    id_column(),
    sa.Column("email", sa.String(254), nullable=False, unique=True),
    sa.Column("name", sa.String(200), nullable=False),
    sa.Column("password_hash", sa.String(255), nullable=False),
)

delegations = sa.Table(
    "delegations",
    metadata,
    id_column(),
    sa.Column("sign_in_id", sa.ForeignKey("sign_ins.id"), nullable=False, index=True),
    sa.Column("account_id", sa.ForeignKey("accounts.id"), nullable=False),
    sa.Column("role", sa.String(32), nullable=False),
    sa.Column("first_day", sa.Date),
    sa.Column("last_day", sa.Date),
)

sessions = sa.Table(
    "sessions",
    metadata,
    sa.Column("token_hash", sa.String(64), primary_key=True),
    sa.Column("sign_in_id", sa.ForeignKey("sign_ins.id"), nullable=False, index=True),
    sa.Column("csrf_token", sa.String(64), nullable=False),
    sa.Column("began", Instant, nullable=False),
    sa.Column("last_used", Instant, nullable=False),
)

failed_tries = sa.Table(
    "failed_tries",
    metadata,
    id_column(),
    sa.Column("email", sa.String(254), nullable=False),
    sa.Column("origin", sa.String(64), nullable=False),
    sa.Column("at", Instant, nullable=False, index=True),
)
