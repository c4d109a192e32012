"""Live counters, one row an account in a pool, derived from the facts; and requests that happened once."""

from __future__ import annotations

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import Instant, code_column, metadata

counters = sa.Table(
    "counters",
    metadata,
    sa.Column("pool_id", sa.ForeignKey("pools.id"), primary_key=True),
    sa.Column("account_id", sa.ForeignKey("accounts.id"), primary_key=True),
    sa.Column("parent_id", sa.BigInteger, comment="NULL for the pool's owner"),
    sa.Column("depth", sa.Integer, nullable=False),
    sa.Column("own", sa.BigInteger, nullable=False),
    sa.Column("load", sa.BigInteger, nullable=False),
    sa.Column("reserve", sa.BigInteger, nullable=False),
    sa.Column("cap", sa.BigInteger),
    sa.Column("at_cap", sa.String(16), nullable=False),
    sa.Column("burst", sa.BigInteger),
    sa.Column("grace_days", sa.Integer),
    sa.Column("past_cap_since", Instant, comment="since when a grace clock runs"),
    sa.Column("promisable", sa.BigInteger, comment="only for the pool's owner"),
    sa.Column("physical", sa.BigInteger, comment="only for the pool's owner"),
)
LOCK_ORDER = sa.Index("ix_counters_lock_order", counters.c.pool_id, counters.c.depth.desc(), counters.c.account_id)
"""The order in which counters are locked: whoever locks many walks along it."""

answered_requests = sa.Table(
    "answered_requests",
    metadata,
    sa.Column("sign_in_id", sa.BigInteger, primary_key=True, autoincrement=False),
    code_column("key", 128, primary_key=True),
    sa.Column("fingerprint", sa.String(64), nullable=False),
    sa.Column("answer", sa.JSON, nullable=False),
    sa.Column("at", Instant, nullable=False, index=True),
)
