"""A pool over time, the ways out of a shortfall ahead, and renewals as a calendar."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any

import numpy as np

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.allocations import present
from fair_ladle.app.allocations import service as allocations
from fair_ladle.app.allocations.positions import Snapshot
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Pool
from fair_ladle.app.purchases.ahead import owned_pool
from fair_ladle.app.usage import service as usage
from fair_ladle.core.calendar import MICRO, day_start, micros
from fair_ladle.core.costing import supply_on
from fair_ladle.core.settling import Roots, settle
from fair_ladle.core.tree import Ints

BACK, AHEAD, STEP = timedelta(days=364), timedelta(days=400), timedelta(days=7)
AT_ONCE = 16
"""Days settled together: what bounds the memory of a timeline."""


@dataclass(frozen=True)
class Point:
    """What a day has, in grains: supply, what could be promised of it, what is promised, what is used."""

    day: date
    supply: int
    promisable: int
    promised: int
    used: int
    short: int
    """By how much it is in shortfall."""


@dataclass(frozen=True)
class Timeline:
    """A pool from a year back to a year ahead: its lots, and days on which its figures are known."""

    pool: Pool
    owner: str
    owner_name: str
    today: date
    points: list[Point]


def timelines(tx: Transaction, actor: Actor) -> list[tuple[Pool, str, str, Point]]:
    """Every pool that an account of the branch owns, with its present."""
    products = pools_service.products(tx)
    known = accounts_service.known(tx)
    branch = set(known.tree.branch(accounts_service.top_row(known, actor)).tolist())
    owners = {known.row_of_id[pool.owner_id] for pool in pools_service.pools(tx, products)} & branch
    if not owners:
        return []
    found = present.positions(tx, products, owners)
    snapshot = found.snapshot
    inside = set(snapshot.accounts.tree.branch(accounts_service.top_row(snapshot.accounts, actor)).tolist())
    result = []
    for place, row in enumerate(snapshot.roots.rows.tolist()):
        if row in inside:
            point = _point(
                snapshot.pools[place], snapshot.day, int(found.pool_load()[place]), int(found.pool_used()[place])
            )
            result.append(
                (snapshot.pools[place], snapshot.accounts.tree.codes[row], snapshot.accounts.name(row), point)
            )
    return result


def timeline(tx: Transaction, actor: Actor, owner: str, product: str) -> Timeline:
    """One pool over time. The past is as it was; ahead, what is in use stays as it is and allocations come and go as
    they are written."""
    found, place, row = owned_pool(tx, actor, owner, product)
    snapshot, pool = found.snapshot, found.snapshot.pools[place]
    versions = allocations.all_versions(tx, [pool.product.id])
    days = [*(snapshot.day - BACK + n * STEP for n in range(BACK // STEP + 1)), *_turns(pool, versions, snapshot.day)]
    instants = np.array([_looked_at(day, snapshot) for day in days], dtype=np.int64)
    own = usage.own_at_each(tx, snapshot.accounts, pool.product, instants)
    reserve = _reserves(snapshot, versions, days)
    points: list[Point] = []
    for begin in range(0, len(days), AT_ONCE):
        part = slice(begin, begin + AT_ONCE)
        roots = Roots.of([(int(root), column) for root in snapshot.roots.rows for column in range(len(days[part]))])
        load = settle(snapshot.accounts.tree, own[:, part], reserve[:, part], roots).load[row]
        used = settle(snapshot.accounts.tree, own[:, part], np.zeros_like(own[:, part]), roots).load[row]
        points.extend(_point(pool, day, int(load[n]), int(used[n])) for n, day in enumerate(days[part]))
    return Timeline(pool, owner, snapshot.accounts.name(row), snapshot.day, points)


def _looked_at(day: date, snapshot: Snapshot) -> int:
    """The instant a day is told by: the last of one that is over, the present one, the first of one ahead."""
    if day < snapshot.day:
        return day_start(day + timedelta(days=1), snapshot.zone) * MICRO - 1
    return micros(snapshot.at) if day == snapshot.day else day_start(day, snapshot.zone) * MICRO


def _reserves(snapshot: Snapshot, versions: Sequence[Any], days: Sequence[date]) -> Ints:
    """Every account's reserve on each of these days, over today's tree: accounts × days."""
    reserve = np.zeros((len(snapshot.accounts.tree), len(days)), dtype=np.int64)
    for version in versions:
        if version.reserve:
            end = len(days) if version.last_day is None else bisect_right(days, version.last_day)
            reserve[snapshot.accounts.row_of_id[version.account_id], bisect_left(days, version.first_day) : end] = (
                version.reserve
            )
    return reserve


def _point(pool: Pool, day: date, load: int, used: int) -> Point:
    supply = supply_on(pool.lots, day)
    return Point(day, supply.quantity, supply.promisable, load, used, supply.shortfall(load, used))


def _turns(pool: Pool, versions: Sequence[Any], today: date) -> list[date]:
    """The days ahead on which a lot or an allocation of the product begins or has ended, and the last one looked at."""
    days = {
        day for lot in pool.lots for day in (lot.first_day, lot.last_day and lot.last_day + timedelta(days=1)) if day
    }
    for version in versions:
        days |= {day for day in (version.first_day, version.last_day and version.last_day + timedelta(days=1)) if day}
    return [*sorted(day for day in days if today < day < today + AHEAD), today + AHEAD]
