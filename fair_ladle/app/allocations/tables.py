"""Versions of allocations, and what is in use now against them; in grains."""

from __future__ import annotations

import sqlalchemy as sa
from sqlalchemy.dialects.mysql import MEDIUMBLOB, MEDIUMTEXT

from fair_ladle.app.plumbing.database import Instant, code_column, id_column, metadata

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
    sa.Column("per_id", sa.ForeignKey("products.id"), comment="the counted product whose units the cap follows"),
    sa.Column("each", sa.BigInteger, comment="grains more for each of them"),
    sa.UniqueConstraint("product_id", "account_id", "first_day"),
    sa.Index("ix_allocations_last_day", "last_day"),
)

counters = sa.Table(
    "counters",
    metadata,
    sa.Column("pool_id", sa.BigInteger, primary_key=True, autoincrement=False),
    sa.Column("account_id", sa.BigInteger, primary_key=True, autoincrement=False, index=True),
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
    sa.Column("allocated", sa.Boolean, nullable=False, server_default="0", comment="whether an allocation is in force"),
    code_column("per", index=True, comment="the counted product whose units the cap follows, a moment later"),
    sa.Column("each", sa.BigInteger, comment="grains more for each of them"),
    sa.Column("fixed", sa.BigInteger, comment="the cap without any"),
    sa.Column(
        "pressed",
        sa.Boolean,
        sa.Computed("`cap` is not null and (`load` > `cap` or `cap` > 0 and `load` * 10 >= `cap` * 9)", persisted=True),
        comment="over its cap or near it",
    ),
    sa.Index("ix_counters_pressed", "pressed", "account_id"),
)
"""Live counters, one row an account in a pool: derived from the facts, and kept for their locks and for who looks.
Nothing refers them to their pool and account: to write one would hold these rows until the transaction ends."""
LOCK_ORDER = sa.Index("ix_counters_lock_order", counters.c.pool_id, counters.c.depth.desc(), counters.c.account_id)
"""The order in which counters are locked: whoever locks many walks along it."""

branch_use = sa.Table(
    "branch_use",
    metadata,
    sa.Column("pool_id", sa.BigInteger, primary_key=True, autoincrement=False),
    sa.Column("account_id", sa.BigInteger, primary_key=True, autoincrement=False),
    sa.Column("used", sa.BigInteger, nullable=False),
)
"""Σ own of an account's branch in its pool, as far as it is added up: what changed since stands in ``use_changes``, so
that no two takings meet in a row of it."""

use_changes = sa.Table(
    "use_changes",
    metadata,
    id_column(),
    sa.Column("pool_id", sa.BigInteger, nullable=False, index=True),
    sa.Column("account_id", sa.BigInteger, nullable=False),
    sa.Column("change", sa.BigInteger, nullable=False),
)
"""What was taken or released by an account and is not added up yet."""

kept_days = sa.Table(
    "kept_days",
    metadata,
    sa.Column("product_id", sa.ForeignKey("products.id"), primary_key=True),
    sa.Column("day", sa.Date, primary_key=True),
    sa.Column("made_of", sa.String(80), nullable=False, comment="while it is this, what is kept holds"),
    sa.Column("late", MEDIUMTEXT, comment="the late facts it has, as JSON; NULL = it cannot be corrected"),
    sa.Column("base_day", sa.Date, comment="the day from which it says what differs; NULL = it says all"),
    sa.Column("base_made_of", sa.String(80), comment="what that day was made of"),
    sa.Column("figures", MEDIUMBLOB, nullable=False, comment="arrays, packed"),
)
"""Days that are over, as they were settled: of each product the accounts where there was anything."""

held_ahead = sa.Table(
    "held_ahead",
    metadata,
    sa.Column("product_id", sa.ForeignKey("products.id"), primary_key=True),
    sa.Column("owner_id", sa.ForeignKey("accounts.id"), primary_key=True, comment="of the pool"),
    sa.Column("day", sa.Date, primary_key=True, comment="from which on it is so"),
    sa.Column("held", sa.BigInteger, nullable=False, comment="more is held than on the day it is of, in grains"),
    sa.Column("used", sa.BigInteger, nullable=False, comment="more is in use"),
    sa.Column("made_on", sa.Date, nullable=False, comment="the day it was worked out; it holds on that day"),
    sa.Index("ix_held_ahead_owner_id", "owner_id"),
)
"""What a job works out of pools of which allocations or use are known to begin or end; of others there is nothing."""
