"""Numbered things, one row each; which of them are assigned stands in the assignments."""

from __future__ import annotations

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import Instant, code_column, id_column, metadata

items = sa.Table(
    "items",
    metadata,
    id_column(),
    sa.Column("pool_id", sa.ForeignKey("pools.id"), nullable=False),
    sa.Column("product_id", sa.ForeignKey("products.id"), nullable=False),
    code_column("number", 128, nullable=False),
    sa.Column("brought_in_at", Instant, nullable=False),
    sa.Column("withdrawn_at", Instant, comment="given back to the vendor"),
    sa.Column("reserved_by", sa.BigInteger, comment="sign-in that is choosing"),
    sa.Column("reserved_until", Instant),
    sa.Column("person_id", sa.ForeignKey("people.id"), index=True, comment="who uses it, while assigned"),
    sa.Column("address", sa.String(500), comment="where it is used, while assigned"),
    sa.UniqueConstraint("product_id", "number"),
    sa.Index("ix_items_pool_id_number", "pool_id", "number"),
)
