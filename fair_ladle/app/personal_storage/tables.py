"""Limits on what one person may store: their own, a group's, or an account's default."""

from __future__ import annotations

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import id_column, metadata

storage_limits = sa.Table(
    "storage_limits",
    metadata,
    id_column(),
    sa.Column("product_id", sa.ForeignKey("products.id"), nullable=False),
    sa.Column("account_id", sa.ForeignKey("accounts.id"), comment="the default for everybody of it and below"),
    sa.Column("group_id", sa.ForeignKey("groups.id")),
    sa.Column("person_id", sa.ForeignKey("people.id")),
    sa.Column("grains", sa.BigInteger, nullable=False),
    sa.Column("at_limit", sa.String(8), nullable=False, server_default="tell", comment="tell, stop or grace"),
    sa.Column("tell_at", sa.Integer, nullable=False, server_default="90", comment="percent from which on it is told"),
    sa.Column("grace_days", sa.Integer, comment="after which it stops"),
    sa.UniqueConstraint("product_id", "account_id"),
    sa.UniqueConstraint("product_id", "group_id"),
    sa.UniqueConstraint("product_id", "person_id"),
)
