"""Notices, to whom each was sent, and who has seen it."""

from __future__ import annotations

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import Instant, code_column, id_column, metadata

notices = sa.Table(
    "notices",
    metadata,
    id_column(),
    sa.Column("at", Instant, nullable=False),
    sa.Column("kind", sa.String(32), nullable=False),
    sa.Column("account_id", sa.ForeignKey("accounts.id"), nullable=False),
    sa.Column("product_id", sa.ForeignKey("products.id")),
    code_column("key", 190, nullable=False, unique=True, comment="what it is about, so that it is told once"),
    sa.Column("subject", sa.String(255), nullable=False),
    sa.Column("text", sa.Text, nullable=False),
    sa.Index("ix_notices_account_id_at", "account_id", "at"),
    sa.Index("ix_notices_at", "at"),
)

notices_seen = sa.Table(
    "notices_seen",
    metadata,
    sa.Column("notice_id", sa.ForeignKey("notices.id"), primary_key=True),
    sa.Column("sign_in_id", sa.ForeignKey("sign_ins.id"), primary_key=True),
)
