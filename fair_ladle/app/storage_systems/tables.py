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

storage_sources = sa.Table(
    "storage_sources",
    metadata,
    id_column(),
    sa.Column("touched", sa.BigInteger, nullable=False, server_default="0", comment="goes up with each lock"),
    sa.Column("account_id", sa.ForeignKey("accounts.id"), nullable=False, index=True),
    sa.Column("product_id", sa.ForeignKey("products.id"), nullable=False),
    sa.Column("kind", sa.String(8), nullable=False, comment="imap, objects, tree or drop"),
    sa.Column("name", sa.String(200), nullable=False),
    sa.Column("settings", sa.JSON, nullable=False, comment="where it is and how it is read; no secret"),
    sa.Column("sealed", sa.Text, comment="its password, sealed with a key outside the database"),
    sa.Column("every_minutes", sa.Integer, nullable=False),
    sa.Column("paused", sa.Boolean, nullable=False),
    sa.Column("due_at", Instant, nullable=False, index=True),
    sa.Column("asked", sa.String(8), comment="dry or full, where somebody asked for such a run"),
    sa.Column("failures", sa.Integer, nullable=False, comment="in a row"),
    sa.Column("full_at", Instant, comment="when everything was looked at last"),
    sa.Column("made_at", Instant, nullable=False),
    sa.Column("made_by", sa.String(200), nullable=False),
)

storage_source_runs = sa.Table(
    "storage_source_runs",
    metadata,
    id_column(),
    sa.Column("source_id", sa.ForeignKey("storage_sources.id", ondelete="CASCADE"), nullable=False, index=True),
    sa.Column("kind", sa.String(8), nullable=False, comment="full, between or dry"),
    sa.Column("began_at", Instant, nullable=False),
    sa.Column("ended_at", Instant),
    sa.Column("outcome", sa.String(8), comment="done, stopped or failed; NULL = under way"),
    sa.Column("found", sa.Integer, nullable=False, comment="subjects read so far"),
    sa.Column("recorded", sa.Integer, nullable=False),
    sa.Column("limited", sa.Integer, nullable=False, comment="limits set there"),
    sa.Column("troubles", sa.Integer, nullable=False),
    sa.Column("says", sa.Text, nullable=False, comment="the first of them in words, one a line"),
)

storage_source_series = sa.Table(
    "storage_source_series",
    metadata,
    sa.Column("source_id", sa.ForeignKey("storage_sources.id", ondelete="CASCADE"), primary_key=True),
    code_column("subject", 200, primary_key=True, comment="as the system calls it"),
    sa.Column("account_id", sa.ForeignKey("accounts.id"), nullable=False),
    code_column("category", 200, nullable=False),
)
"""Where what a system said of a subject was recorded: what it does not name any more is gone from there."""
