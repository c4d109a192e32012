"""Holds as they were replayed, how far they were, and thresholds that are crossed."""

from __future__ import annotations

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import Instant, id_column, metadata

holds = sa.Table(
    "holds",
    metadata,
    id_column(),
    sa.Column("product_id", sa.ForeignKey("products.id"), nullable=False),
    sa.Column(
        "account_id", sa.ForeignKey("accounts.id"), nullable=False, comment="the restricted account whose excess it is"
    ),
    sa.Column("assignment_id", sa.ForeignKey("assignments.id"), nullable=False, index=True),
    sa.Column("place", sa.Integer, nullable=False, comment="in the stack: the last put on hold is freed first"),
    sa.Column("begins", Instant, nullable=False),
    sa.Column("ends", Instant),
    sa.UniqueConstraint("product_id", "account_id", "assignment_id", "begins"),
    sa.Index("ix_holds_ends", "ends", "account_id", "product_id"),
)

enforced = sa.Table(
    "enforced",
    metadata,
    sa.Column("product_id", sa.ForeignKey("products.id"), primary_key=True),
    sa.Column("until", Instant, nullable=False, comment="holds are replayed up to here"),
    sa.Column("made_of", sa.String(64), comment="generations it went by"),
)

thresholds = sa.Table(
    "thresholds",
    metadata,
    sa.Column("account_id", sa.ForeignKey("accounts.id"), primary_key=True),
    sa.Column("product_id", sa.ForeignKey("products.id"), primary_key=True),
)

threshold_levels = sa.Table(
    "threshold_levels",
    metadata,
    sa.Column("account_id", sa.BigInteger, primary_key=True, autoincrement=False),
    sa.Column("product_id", sa.BigInteger, primary_key=True, autoincrement=False),
    sa.Column("level", sa.Integer, primary_key=True, autoincrement=False, comment="percent of the cap"),
    sa.ForeignKeyConstraint(
        ["account_id", "product_id"], ["thresholds.account_id", "thresholds.product_id"], ondelete="CASCADE"
    ),
)

crossings = sa.Table(
    "crossings",
    metadata,
    sa.Column("account_id", sa.ForeignKey("accounts.id"), primary_key=True),
    sa.Column("product_id", sa.ForeignKey("products.id"), primary_key=True),
    sa.Column("level", sa.Integer, primary_key=True),
    sa.Column("since", Instant, nullable=False),
)
