"""Requests and every step of theirs."""

from __future__ import annotations

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import Instant, id_column, metadata

requests = sa.Table(
    "requests",
    metadata,
    id_column(),
    sa.Column("account_id", sa.ForeignKey("accounts.id"), nullable=False, index=True),
    sa.Column("product_id", sa.ForeignKey("products.id"), nullable=False),
    sa.Column("amount", sa.BigInteger, nullable=False, comment="grains asked for; below 0 = offered back"),
    sa.Column("as_what", sa.String(16), nullable=False, comment="cap, or reserve (and the cap with it)"),
    sa.Column("reason", sa.Text, nullable=False),
    sa.Column("wish_day", sa.Date),
    sa.Column("last_day", sa.Date, comment="wanted until then; NULL = for good"),
    sa.Column("state", sa.String(16), nullable=False, comment="waiting, granted, refused or withdrawn"),
    sa.Column("granted", sa.BigInteger, comment="grains given in the end"),
    sa.Column("asked_by_id", sa.ForeignKey("sign_ins.id"), nullable=False),
    sa.Column("asked_by", sa.String(200), nullable=False),
    sa.Column("asked_at", Instant, nullable=False),
    sa.Column(
        "passed_up_id", sa.BigInteger, comment="the request the parent made of its own parent because of this one"
    ),
    sa.Index("ix_requests_state", "state"),
)

request_steps = sa.Table(
    "request_steps",
    metadata,
    id_column(),
    sa.Column("request_id", sa.ForeignKey("requests.id"), nullable=False, index=True),
    sa.Column("at", Instant, nullable=False),
    sa.Column("by", sa.String(200), nullable=False),
    sa.Column("what", sa.String(32), nullable=False),
    sa.Column("text", sa.Text, nullable=False),
)
