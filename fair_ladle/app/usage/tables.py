"""Assignments (half-open intervals of instants) and storage samples (bytes at an instant)."""

from __future__ import annotations

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import Instant, code_column, id_column, metadata

assignments = sa.Table(
    "assignments",
    metadata,
    id_column(),
    sa.Column("account_id", sa.ForeignKey("accounts.id"), nullable=False),
    sa.Column("product_id", sa.ForeignKey("products.id"), nullable=False),
    code_column("subject", 128, nullable=False),
    sa.Column("begins", Instant, nullable=False),
    sa.Column("ends", Instant),
    sa.UniqueConstraint("product_id", "account_id", "subject", "begins"),
    sa.Index("ix_assignments_subject", "product_id", "subject"),
    sa.Index("ix_assignments_product_id_account_id_ends", "product_id", "account_id", "ends"),
    sa.Index("ix_assignments_product_id_begins", "product_id", "begins"),
    sa.Index("ix_assignments_product_id_ends", "product_id", "ends"),
)

storage_samples = sa.Table(
    "storage_samples",
    metadata,
    sa.Column("product_id", sa.ForeignKey("products.id"), primary_key=True),
    sa.Column("account_id", sa.ForeignKey("accounts.id"), primary_key=True),
    code_column("category", 64, primary_key=True),
    sa.Column("at", Instant, primary_key=True),
    sa.Column("bytes", sa.BigInteger, nullable=False),
    sa.Index("ix_storage_samples_product_id_at", "product_id", "at"),
)
