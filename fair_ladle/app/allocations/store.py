"""Queries over allocation versions."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from datetime import date, datetime, timedelta
from typing import Any

import numpy as np
import sqlalchemy as sa
from sqlalchemy.dialects import mysql

from fair_ladle.app.accounts.tables import accounts
from fair_ladle.app.allocations.rows import (
    EndingVersion,
    FreshCounter,
    HeldAhead,
    HeldBelow,
    KeptDayRecord,
    OwnAndClock,
    PoolLimit,
    PoolRoom,
    VersionRecord,
)
from fair_ladle.app.allocations.tables import allocations, branch_use, counters, kept_days, use_changes
from fair_ladle.app.allocations.tables import held_ahead as held_ahead_table
from fair_ladle.app.plumbing.arrays import in_micros, numbers
from fair_ladle.app.plumbing.database import batched, fetch, listed, pairs
from fair_ladle.app.pools.tables import pools, products
from fair_ladle.core.allocations import AtCap
from fair_ladle.core.settling import NO_LIMIT
from fair_ladle.core.tree import Ints

PER = (
    sa.select(products.c.code)
    .where(products.c.id == allocations.c.per_id)
    .correlate(allocations)
    .scalar_subquery()
    .label("per")
)
"""The counted product whose units a version's cap follows (its code)."""


def following(connection: sa.Connection, day: date) -> list[tuple[int, int]]:
    """(product, counted product) of every pair of which a cap follows seats, on a day or later."""
    a = allocations
    wanted = sa.select(a.c.product_id, a.c.per_id).distinct()
    runs = sa.or_(a.c.last_day.is_(None), a.c.last_day >= day)
    return [(row.product_id, row.per_id) for row in connection.execute(wanted.where(a.c.per_id.is_not(None), runs))]


def turned_since(connection: sa.Connection, product_id: int, since: date, day: date) -> list[int]:
    """The accounts of which a version began from a day on, or ended on the day before it or later; up to ``day``."""
    a = allocations
    began = sa.and_(a.c.first_day >= since, a.c.first_day <= day)
    ended = sa.and_(a.c.last_day >= since - timedelta(days=1), a.c.last_day <= day)
    return list(
        connection.scalars(sa.select(a.c.account_id).distinct().where(a.c.product_id == product_id, began | ended))
    )


def not_holding(connection: sa.Connection, pool_ids: Collection[int], since: datetime, until: datetime) -> set[int]:
    """Those of these pools whose counters do not hold until an instant after one and up to another."""
    n, fresh = listed(pool_ids), pools.c.fresh_until
    wanted = sa.select(pools.c.id).select_from(n.join(pools, pools.c.id == n.c.a))
    holds = sa.and_(fresh > since, fresh <= until)
    return set(connection.scalars(wanted.where(sa.or_(fresh.is_(None), sa.not_(holds)))))


def counters_of(connection: sa.Connection, cells: Collection[tuple[int, int]]) -> list[FreshCounter]:
    """The counters of these cells (pool, account), each with how long its pool's hold (``fresh_until``, as text: there
    are many cells of few pools)."""
    c, k = counters, pairs(cells)
    same = sa.and_(c.c.pool_id == k.c.a, c.c.account_id == k.c.b)
    joined = k.join(c, same).join(pools, pools.c.id == c.c.pool_id)
    wanted = sa.select(c, sa.func.concat(pools.c.fresh_until).label("fresh_until")).select_from(joined)
    return fetch(connection, wanted.prefix_with("STRAIGHT_JOIN"), FreshCounter)


def caps_of(connection: sa.Connection, cells: Collection[tuple[int, int]]) -> list[tuple[int, int, int, int]]:
    """(pool, account, product, cap; ``NO_LIMIT`` where there is none) of the counters of these accounts and products
    (account, product)."""
    k, c, p = pairs(cells), counters, pools
    joined = k.join(c, c.c.account_id == k.c.a).join(p, sa.and_(p.c.id == c.c.pool_id, p.c.product_id == k.c.b))
    cap: sa.ColumnElement[int] = sa.func.coalesce(c.c.cap, sa.literal_column(str(NO_LIMIT)))
    wanted = sa.select(c.c.pool_id, c.c.account_id, p.c.product_id, cap).select_from(joined)
    return [tuple(row) for row in numbers(connection, wanted.prefix_with("STRAIGHT_JOIN")).T.tolist()]


def stock_of(connection: sa.Connection, pool_ids: Collection[int]) -> tuple[Ints, Ints]:
    """Of these pools: (pool, the owner's load, what is added up of its use, until when the pool's counters hold, in µs,
    0 = they do not); and (pool, account, grains) of every change in them that is not added up. Both as of one
    instant."""
    n, c, b, u = listed(pool_ids), counters, branch_use, use_changes
    of_owner = [each.c.account_id == pools.c.owner_id for each in (c, b)]
    joined = n.join(pools, pools.c.id == n.c.a).join(c, sa.and_(c.c.pool_id == pools.c.id, of_owner[0]))
    joined = joined.outerjoin(b, sa.and_(b.c.pool_id == pools.c.id, of_owner[1]))
    until = sa.func.coalesce(in_micros(pools.c.fresh_until), 0)
    added = sa.select(c.c.pool_id, c.c.load, sa.func.coalesce(b.c.used, 0), until).select_from(joined)
    m = listed(pool_ids)
    changes = sa.select(u.c.pool_id, u.c.account_id, u.c.change, sa.literal(-1))
    changed = changes.select_from(m.join(u, u.c.pool_id == m.c.a)).prefix_with("STRAIGHT_JOIN")
    rows = numbers(connection, sa.union_all(added.prefix_with("STRAIGHT_JOIN"), changed))
    is_change = rows[3] < 0
    return rows[:, ~is_change], rows[:3, is_change]


def own_and_clocks(connection: sa.Connection, pool_ids: Collection[int]) -> list[OwnAndClock]:
    """(pool, account, own, since when a clock runs, its days) of the counters of these pools where there is any."""
    c = counters
    something = sa.or_(c.c.own != 0, c.c.past_cap_since.is_not(None))
    wanted = sa.select(c.c.pool_id, c.c.account_id, c.c.own, c.c.past_cap_since, c.c.grace_days)
    return fetch(connection, wanted.where(c.c.pool_id.in_(pool_ids), something), OwnAndClock)


def pressed(
    connection: sa.Connection,
    product_ids: Collection[int],
    inside: sa.ColumnElement[bool],
    is_large: bool,
    limit: int,
) -> tuple[int, int, set[tuple[int, int]]]:
    """How many counters of these products are over their cap, and near it, and the cells (pool, account) that press
    most: clocks by when they run out, over, and near, each by how far. Read from the accounts inside (``inside`` is of
    accounts.id), or, where those are many (``is_large``), from what presses (it is of counters.account_id)."""
    c, a, p = counters, accounts, pools
    of_pool, of_account = c.c.pool_id == p.c.id, c.c.account_id == a.c.id
    found = c.join(p, of_pool) if is_large else a.join(c, of_account).join(p, of_pool)
    here = [c.c.pressed == sa.true(), p.c.product_id.in_(product_ids), inside]
    runs = sa.and_(c.c.at_cap == "grace", c.c.past_cap_since.is_not(None))
    until = sa.func.timestampadd(sa.text("DAY"), sa.func.coalesce(c.c.grace_days, 0), c.c.past_cap_since)
    last_day = sa.case((runs, sa.func.to_days(until)), else_=0)
    columns = (c.c.pool_id, c.c.account_id, c.c.load, c.c.cap, sa.cast(last_day, sa.BigInteger))
    every = sa.select(*columns).prefix_with("STRAIGHT_JOIN").select_from(found).where(*here)
    pool_id, account_id, load, cap, day = numbers(connection, every)
    kind = np.where(day > 0, 0, np.where(load > cap, 1, 2))
    far = (load - cap) / np.maximum(cap, 1)
    order = np.lexsort((pool_id, account_id, -far, day, kind))
    first = [order[kind[order] == each][: 2 * limit if each == 0 else limit] for each in range(3)]
    cells = {(int(pool_id[place]), int(account_id[place])) for place in np.concatenate(first)}
    over = int(np.count_nonzero(load > cap))
    return over, len(load) - over, cells


def past_a_cap(connection: sa.Connection, product_ids: Collection[int], inside: sa.ColumnElement[bool]) -> list[int]:
    """The accounts with a counter of these products past its cap."""
    c = counters
    here = [c.c.pressed == sa.true(), c.c.load > c.c.cap, pools.c.product_id.in_(product_ids), inside]
    found = c.join(pools, pools.c.id == c.c.pool_id)
    return list(connection.scalars(sa.select(c.c.account_id).distinct().select_from(found).where(*here)))


def promised_unused(
    connection: sa.Connection, product_ids: Collection[int], inside: sa.ColumnElement[bool]
) -> list[int]:
    """The accounts with a counter of these products whose reserve is more than what is counted; not the pools'
    owners."""
    c = counters
    here = [pools.c.product_id.in_(product_ids), c.c.parent_id.is_not(None), c.c.reserve > c.c.load, inside]
    found = c.join(pools, pools.c.id == c.c.pool_id)
    return list(connection.scalars(sa.select(c.c.account_id).distinct().select_from(found).where(*here)))


def limits_in_pools(connection: sa.Connection, product_id: int) -> list[PoolLimit]:
    """pool_id, account_id, parent_id, cap and physical (both in grains, None = none) of every account in the pools of a
    product, those below before those above."""
    wanted = sa.select(*(counters.c[name] for name in ("pool_id", "account_id", "parent_id", "cap", "physical")))
    of_product = counters.c.pool_id.in_(sa.select(pools.c.id).where(pools.c.product_id == product_id))
    return fetch(connection, wanted.where(of_product).order_by(counters.c.pool_id, counters.c.depth.desc()), PoolLimit)


def rooms(connection: sa.Connection) -> list[PoolRoom]:
    """(owner, product, promisable, load) of every pool, by owner and product."""
    c, a, p = counters, accounts, products
    wanted = sa.select(a.c.code.label("owner"), p.c.code.label("product"), c.c.promisable, c.c.load)
    joined = wanted.select_from(pools).join(
        c, sa.and_(c.c.pool_id == pools.c.id, c.c.account_id == pools.c.owner_id, c.c.promisable.is_not(None))
    )
    joined = joined.join(a, a.c.id == pools.c.owner_id).join(p, p.c.id == pools.c.product_id)
    return fetch(connection, joined.order_by(a.c.code, p.c.code), PoolRoom)


def held_below(connection: sa.Connection, pool_id: int, owner_id: int, depth: int) -> list[HeldBelow]:
    """(account, held) of the accounts directly below a pool's owner, which stand at a depth."""
    c = counters
    held = sa.func.greatest(c.c.load, c.c.reserve).label("held")
    below = [c.c.pool_id == pool_id, c.c.depth == depth, c.c.parent_id == owner_id]
    return fetch(connection, sa.select(c.c.account_id, held).where(*below), HeldBelow)


def branch_use_of(
    connection: sa.Connection, cells: Collection[tuple[int, int]], pool_ids: Collection[int]
) -> list[tuple[int, int, int, int]]:
    """(pool, account, grains, whether it is a change) of what is added up of the branches of these cells (pool,
    account), and of every change in these pools that is not: both as of one instant."""
    b, u, k = branch_use, use_changes, pairs(cells)
    same = sa.and_(b.c.pool_id == k.c.a, b.c.account_id == k.c.b)
    of_cells = sa.select(b.c.pool_id, b.c.account_id, b.c.used, sa.literal(0)).select_from(k.join(b, same))
    added = of_cells.prefix_with("STRAIGHT_JOIN")
    n = listed(pool_ids)
    of_pools = sa.select(u.c.pool_id, u.c.account_id, u.c.change, sa.literal(1))
    changed = of_pools.select_from(n.join(u, u.c.pool_id == n.c.a)).prefix_with("STRAIGHT_JOIN")
    return [tuple(row) for row in connection.execute(sa.union_all(added, changed))]


def versions(
    connection: sa.Connection,
    product_ids: Collection[int],
    first: date | None = None,
    last: date | None = None,
    account_ids: Collection[int] | None = None,
) -> list[VersionRecord]:
    """Versions in force at some time from first to last (None = unlimited), by first day."""
    a = allocations
    wanted: list[sa.ColumnElement[bool]] = [a.c.product_id.in_(product_ids)]
    if last is not None:
        wanted.append(a.c.first_day <= last)
    if first is not None:
        wanted.append(sa.or_(a.c.last_day.is_(None), a.c.last_day >= first))
    if account_ids is not None:
        wanted.append(a.c.account_id.in_(account_ids))
    return fetch(connection, sa.select(a, PER).where(*wanted).order_by(a.c.first_day), VersionRecord)


def terms_between(
    connection: sa.Connection,
    product_ids: Collection[int],
    first: date,
    last: date,
    account_ids: Collection[int] | None = None,
) -> Ints:
    """(account, product, reserve, cap, burst, whether grace, whether overage, grace days, the product whose seats the
    cap follows, grains for each, first and last day) of the versions in force at some time from a day to another (of
    these accounts): ``NO_LIMIT`` where there is no cap, burst or last day, -1 where no days or no seats are said. Days
    are ordinals."""
    no_limit: sa.ColumnElement[int] = sa.literal_column(str(NO_LIMIT))
    start = date(1970, 1, 1)
    a = allocations
    wanted = sa.select(
        a.c.account_id,
        a.c.product_id,
        a.c.reserve,
        sa.func.coalesce(a.c.cap, no_limit),
        sa.func.coalesce(a.c.burst, no_limit),
        a.c.at_cap == AtCap.GRACE,
        a.c.at_cap == AtCap.OVERAGE,
        sa.func.coalesce(a.c.grace_days, -1),
        sa.func.coalesce(a.c.per_id, -1),
        sa.func.coalesce(a.c.each, 0),
        sa.func.datediff(a.c.first_day, start) + start.toordinal(),
        sa.func.coalesce(sa.func.datediff(a.c.last_day, start) + start.toordinal(), no_limit),
    ).where(
        a.c.product_id.in_(product_ids),
        a.c.first_day <= last,
        sa.or_(a.c.last_day.is_(None), a.c.last_day >= first),
    )
    if account_ids is not None:
        wanted = wanted.where(a.c.account_id.in_(account_ids))
    return numbers(connection, wanted).T


def kept_of(connection: sa.Connection, keys: Collection[tuple[int, date]]) -> list[KeptDayRecord]:
    """The days of products (product, day) that are kept."""
    k = kept_days
    return (
        fetch(connection, sa.select(k).where(sa.tuple_(k.c.product_id, k.c.day).in_(keys)), KeptDayRecord)
        if keys
        else []
    )


def made_of(connection: sa.Connection, product_id: int, since: date) -> dict[date, str]:
    """What the days of a product that are kept, from one on, are made of."""
    k = kept_days
    wanted = sa.select(k.c.day, k.c.made_of).where(k.c.product_id == product_id, k.c.day >= since)
    return {row.day: row.made_of for row in connection.execute(wanted)}


def keep_day(connection: sa.Connection, product_id: int, day: date, values: dict[str, Any]) -> None:
    """Keep a day of a product in place of what was kept of it."""
    new = mysql.insert(kept_days).values(product_id=product_id, day=day, **values)
    connection.execute(new.on_duplicate_key_update(**values))


def held_ahead(
    connection: sa.Connection, product_ids: Collection[int], owner_ids: Collection[int] | None = None
) -> list[HeldAhead]:
    """How much more is held of these products' pools (of these owners alone) on days ahead, by pool and day."""
    h = held_ahead_table
    wanted = sa.select(h).where(h.c.product_id.in_(product_ids))
    if owner_ids is not None:
        wanted = wanted.where(h.c.owner_id.in_(owner_ids))
    return fetch(connection, wanted.order_by(h.c.product_id, h.c.owner_id, h.c.day), HeldAhead)


def put_held_ahead(connection: sa.Connection, product_id: int, rows: Sequence[dict[str, Any]]) -> None:
    """Keep it of a product's pools, in place of what was kept."""
    h = held_ahead_table
    connection.execute(sa.delete(h).where(h.c.product_id == product_id))
    if rows:
        connection.execute(sa.insert(h), list(rows))


def next_boundary(connection: sa.Connection, product_ids: Collection[int], after: date) -> date | None:
    """The next day on which a version begins, or the day after one ends."""
    a = allocations
    of = a.c.product_id.in_(product_ids)
    begins = connection.scalar(sa.select(sa.func.min(a.c.first_day)).where(of, a.c.first_day > after))
    ends = connection.scalar(sa.select(sa.func.min(a.c.last_day)).where(of, a.c.last_day >= after))
    day_after = None if ends is None else date.fromordinal(ends.toordinal() + 1)
    return min((day for day in (begins, day_after) if day is not None), default=None)


def ending(
    connection: sa.Connection, branch: sa.ColumnElement[bool], first: date, last: date, limit: int
) -> list[EndingVersion]:
    """Versions of a branch's accounts that end within these days, the earliest first, with the terms that follow
    (``then_id`` NULL = none do)."""
    a, then = allocations, allocations.alias("following")
    follows = sa.and_(
        then.c.product_id == a.c.product_id,
        then.c.account_id == a.c.account_id,
        then.c.first_day == sa.func.adddate(a.c.last_day, 1),
    )
    return fetch(
        connection,
        sa.select(a, then.c.id.label("then_id"), then.c.reserve.label("then_reserve"), then.c.cap.label("then_cap"))
        .outerjoin(then, follows)
        .where(branch, a.c.last_day >= first, a.c.last_day <= last)
        .order_by(a.c.last_day, a.c.account_id, a.c.product_id)
        .limit(limit),
        EndingVersion,
    )


def write_versions(
    connection: sa.Connection,
    new: Sequence[dict[str, Any]],
    changed: Sequence[dict[str, Any]],
    shortened: Sequence[dict[str, Any]],
    moved: Sequence[dict[str, Any]],
    gone: Sequence[int],
) -> None:
    """Add versions, change some in place that have not outlived their first day, let some end or begin on another day
    (``version`` is their number), and take some out."""
    a = allocations
    for rows in (changed, shortened, moved):
        if rows:
            values: dict[str, sa.BindParameter[Any]] = {
                name: sa.bindparam(f"new_{name}") for name in rows[0] if name != "version"
            }
            named = [
                {"version": row["version"]} | {f"new_{name}": row[name] for name in row if name != "version"}
                for row in rows
            ]
            connection.execute(sa.update(a).where(a.c.id == sa.bindparam("version")).values(values), named)
    for part in batched(gone):
        connection.execute(sa.delete(a).where(a.c.id.in_(part)))
    if new:
        connection.execute(sa.insert(a), list(new))


def end_all(connection: sa.Connection, account_ids: Collection[int], day: date) -> None:
    """Let these accounts have no allocation from a day on, those ahead included."""
    a = allocations
    mine = a.c.account_id.in_(account_ids)
    connection.execute(sa.delete(a).where(mine, a.c.first_day >= day))
    connection.execute(
        sa.update(a)
        .where(mine, sa.or_(a.c.last_day.is_(None), a.c.last_day >= day))
        .values(last_day=date.fromordinal(day.toordinal() - 1))
    )


def lock_versions(
    connection: sa.Connection, account_ids: Collection[int], product_id: int, day: date
) -> list[VersionRecord]:
    """The versions of these accounts' allocations of a product in force on a day or later, the earlier first,
    locked."""
    a = allocations
    return fetch(
        connection,
        sa.select(a, PER)
        .where(
            a.c.product_id == product_id,
            a.c.account_id.in_(account_ids),
            sa.or_(a.c.last_day.is_(None), a.c.last_day >= day),
        )
        .order_by(a.c.account_id, a.c.first_day)
        .with_for_update(),
        VersionRecord,
    )
