"""Shared folders: space of an account and of no person."""

from __future__ import annotations

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import Instant, code_column, id_column, metadata

shared_folders = sa.Table(
    "shared_folders",
    metadata,
    id_column(),
    sa.Column("touched", sa.BigInteger, nullable=False, server_default="0", comment="goes up with each lock"),
    sa.Column("account_id", sa.ForeignKey("accounts.id"), nullable=False),
    sa.Column("product_id", sa.ForeignKey("products.id"), nullable=False),
    code_column("code", nullable=False, comment="its bytes stand in folder/CODE of the account"),
    sa.Column("name", sa.String(200), nullable=False),
    sa.Column("owner_id", sa.ForeignKey("people.id"), index=True, comment="who looks after it"),
    sa.Column("grains", sa.BigInteger, comment="its limit; NULL = none"),
    sa.Column("stops", sa.Boolean, nullable=False, comment="whether nothing more is written at the limit"),
    sa.Column("archived_at", Instant, comment="since when nothing more is written to it"),
    sa.Column("delete_at", Instant, index=True, comment="when what it stores is gone; NULL = stays"),
    sa.UniqueConstraint("account_id", "product_id", "code"),
)
