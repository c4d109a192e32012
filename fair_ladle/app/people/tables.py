"""People and groups."""

from __future__ import annotations

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import Instant, code_column, id_column, metadata

people = sa.Table(
    "people", metadata,
    id_column(),
    sa.Column("account_id", sa.ForeignKey("accounts.id"), nullable=False, index=True),
    code_column("username", 128, nullable=False, unique=True),
    sa.Column("display_name", sa.String(200), nullable=False),
    sa.Column("email", sa.String(254), index=True),
    sa.Column("status", sa.String(16), nullable=False),
    sa.Column("invited_at", Instant),
    sa.Column("last_seen_at", Instant),
    sa.Column("title", sa.String(200)),
    sa.Column("department", sa.String(200)),
    sa.Column("protected", sa.Boolean, nullable=False),
)

groups = sa.Table(
    "groups", metadata,
    id_column(),
    sa.Column("account_id", sa.ForeignKey("accounts.id"), nullable=False),
    code_column("code", nullable=False),
    sa.Column("name", sa.String(200), nullable=False),
    sa.Column("rule", sa.Text),
    sa.Column("members", sa.Text, nullable=False, comment="usernames and group codes, joined by ;"),
    sa.Column("precedence", sa.Integer),
    sa.UniqueConstraint("account_id", "code"),
)
