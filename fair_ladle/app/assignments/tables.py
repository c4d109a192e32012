"""Live counters, one row an account in a pool, and claims: both derived from the facts, and kept for their locks."""

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

claims = sa.Table(
    "claims",
    metadata,
    code_column("what", 80, primary_key=True, comment="product and its code, or family and its name"),
    code_column("subject", 140, primary_key=True),
)
"""Who has, or will have, a unit: one a product and device or number, one a family (or product) and person. The key
keeps it so, whoever comes at the same moment. Sessions claim nothing; a reserved seat is a subject of its own."""
