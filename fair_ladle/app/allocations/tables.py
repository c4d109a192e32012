"""Versions of allocations, in grains."""

from __future__ import annotations

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import id_column, metadata

allocations = sa.Table(
    "allocations",
    metadata,
    id_column(),
    sa.Column("account_id", sa.ForeignKey("accounts.id"), nullable=False),
    sa.Column("product_id", sa.ForeignKey("products.id"), nullable=False),
    sa.Column("reserve", sa.BigInteger, nullable=False),
    sa.Column("cap", sa.BigInteger, comment="NULL = no cap"),
    sa.Column("at_cap", sa.String(16), nullable=False),
    sa.Column("burst", sa.BigInteger),
    sa.Column("grace_days", sa.Integer),
    sa.Column("first_day", sa.Date, nullable=False),
    sa.Column("last_day", sa.Date),
    sa.UniqueConstraint("product_id", "account_id", "first_day"),
)
