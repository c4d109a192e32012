"""Uploads that are reserved, and reports of accounts that nobody knows."""

from __future__ import annotations

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import Instant, code_column, id_column, metadata

storage_reservations = sa.Table(
    "storage_reservations",
    metadata,
    id_column(),
    sa.Column("token_hash", sa.String(64), nullable=False, unique=True),
    sa.Column("key_id", sa.ForeignKey("activation_keys.id"), nullable=False, index=True),
    sa.Column("product_id", sa.ForeignKey("products.id"), nullable=False),
    sa.Column("account_id", sa.ForeignKey("accounts.id"), nullable=False),
    code_column("category", 200, nullable=False, comment="where it is to be written"),
    sa.Column("bytes", sa.BigInteger, nullable=False),
    sa.Column("until", Instant, nullable=False),
    sa.Column("ended_at", Instant),
    sa.Column("outcome", sa.String(12), comment="committed, cancelled or lapsed"),
    sa.Column("touched", sa.BigInteger, nullable=False, server_default="0", comment="goes up with each lock"),
    sa.Index("ix_storage_reservations_ended_at_until", "ended_at", "until"),
)

unplaced_reports = sa.Table(
    "unplaced_reports",
    metadata,
    id_column(),
    sa.Column("key_account_id", sa.ForeignKey("accounts.id"), nullable=False, comment="whose key reported it"),
    sa.Column("product_id", sa.ForeignKey("products.id"), nullable=False),
    code_column("account", nullable=False, comment="as it was reported: no account of that branch"),
    code_column("category", 200, nullable=False),
    sa.Column("at", Instant, nullable=False),
    sa.Column("bytes", sa.BigInteger, nullable=False),
    sa.Column("received_at", Instant, nullable=False),
    sa.UniqueConstraint("key_account_id", "product_id", "account", "category", "at"),
)
"""Kept until there is such an account, or somebody drops them."""
