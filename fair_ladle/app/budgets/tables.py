"""Budgets: one an account, by the month."""

from __future__ import annotations

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import Instant, metadata, money_column

budgets = sa.Table(
    "budgets",
    metadata,
    sa.Column("account_id", sa.ForeignKey("accounts.id"), primary_key=True, autoincrement=False),
    money_column("amount", nullable=False),
    sa.Column("currency", sa.String(3), nullable=False),
    sa.Column("set_from_id", sa.ForeignKey("accounts.id"), nullable=False, comment="the branch of whoever set it"),
    sa.Column("set_by", sa.String(254), nullable=False),
    sa.Column("set_at", Instant, nullable=False),
)
