"""Shared folders: space of an account and of no person; and when storage is full."""

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
    sa.Column(
        "group_id",
        sa.ForeignKey("groups.id", ondelete="SET NULL"),
        index=True,
        comment="the group whose it is; NULL = the account's",
    ),
    sa.Column("grains", sa.BigInteger, comment="its limit; NULL = none"),
    sa.Column("stops", sa.Boolean, nullable=False, comment="whether nothing more is written at the limit"),
    sa.Column("archived_at", Instant, comment="since when nothing more is written to it"),
    sa.Column("delete_at", Instant, index=True, comment="when what it stores is gone; NULL = stays"),
    sa.UniqueConstraint("account_id", "product_id", "code"),
)

storage_forecasts = sa.Table(
    "storage_forecasts",
    metadata,
    sa.Column("product_id", sa.ForeignKey("products.id"), primary_key=True),
    sa.Column("account_id", sa.ForeignKey("accounts.id"), primary_key=True),
    sa.Column("grains", sa.BigInteger, nullable=False, comment="what the branch stores"),
    sa.Column("most", sa.BigInteger, nullable=False, comment="its cap, or what its own pool has, in grains"),
    sa.Column("full_on", sa.Date, nullable=False, index=True, comment="at the middle pace"),
    sa.Column("soonest", sa.Date, nullable=False, comment="at the fastest"),
    sa.Column("latest", sa.Date, comment="at the slowest; NULL = not within ten years"),
    sa.Index("ix_storage_forecasts_account_id", "account_id"),
)
"""Of every branch that has a limit and grows towards it within a year. Kept by a job, read by index."""
