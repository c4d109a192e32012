"""A pool over time, the ways out of a shortfall ahead, and renewals as a calendar."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, timedelta

import numpy as np

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.allocations import service as allocations
from fair_ladle.app.allocations.ahead import ONE_DAY, loads_ahead, looked_at, reserves_on
from fair_ladle.app.allocations.positions import snapshot_at
from fair_ladle.app.allocations.stock import pools_below, stock_of
from fair_ladle.app.drafts import usecases as drafts
from fair_ladle.app.drafts.planned_lots import planned
from fair_ladle.app.plumbing import generations
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.cache import Cache
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Pool
from fair_ladle.app.purchases.ahead import pool_of_owner
from fair_ladle.app.usage import service as usage
from fair_ladle.core.costing import supply_on
from fair_ladle.core.settling import Roots, settle

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


@dataclass(frozen=True)
class PoolsSought:
    """Which pools: with all of these words in the names or codes of product and owner or in the reference of a lot, of
    a product, of an owner (codes)."""

    words: str = ""
    product: str | None = None
    owner: str | None = None


def pools(
    tx: Transaction, actor: Actor, sought: PoolsSought, offset: int = 0, limit: int | None = None
) -> tuple[int, list[tuple[Pool, str, str, Point]]]:
    """A part (all, if not said) of the pools that accounts of the branch own, by owner and product, each with its owner
    (code and name) and its present; how many there are of those sought."""
    products, known = pools_service.products(tx), accounts_service.known(tx)
    words, codes = sought.words.lower().split(), known.tree.codes

    def is_sought(row: int, pool: Pool) -> bool:
        if sought.product not in (None, pool.product.code) or sought.owner not in (None, codes[row]):
            return False
        if not words:
            return True
        said = (pool.product.name, pool.product.code, known.searchable[row], *(lot.reference for lot in pool.lots))
        text = " ".join(said).lower()
        return all(word in text for word in words)

    every = pools_below(tx, products, accounts_service.top_row(known, actor))
    mine = [(row, pool) for row, pool in every if is_sought(row, pool)]
    found = stock_of(tx, products, mine[offset : None if limit is None else offset + limit])
    figures = zip(found.pools, found.rows, found.load.tolist(), found.used.tolist(), strict=True)
    today = accounts_service.today(tx)
    return len(mine), [
        (pool, codes[row], known.name(row), _point(pool, today, load, used)) for pool, row, load, used in figures
    ]


def timeline(tx: Transaction, actor: Actor, owner: str, product: str, draft_id: int | None = None) -> Timeline:
    """One pool over time. The past is as it was; ahead, what is in use stays as it is, as far as it is not known to
    begin or end, and allocations come and go as they are written. From today on lots are as a draft of the actor's
    would have them, if one is named."""
    pool, row = pool_of_owner(tx, actor, owner, product)
    accounts, today = accounts_service.known(tx), accounts_service.today(tx)
    made_of = (generations.numbers(tx, "structure"), allocations.past(tx, pool.product, today - timedelta(days=1)))
    key = (tx.installation, pool.id, today, made_of)
    past = _was(tx, pool, owner) if tx.is_rehearsal else _past.get(key, lambda: _was(tx, pool, owner))
    bought = pool if draft_id is None else planned(pool, owner, drafts.get(tx, actor, draft_id).changes, today)
    return Timeline(pool, owner, accounts.name(row), today, [*past, *_ahead(tx, bought, row)])


_past: Cache[list[Point]] = Cache(200, megabytes=8)
"""The points of days that are over: kept in this process while nothing of them changes."""


def _was(tx: Transaction, pool: Pool, owner: str) -> list[Point]:
    snapshot = snapshot_at(tx, [pool.product], tx.now)
    row = snapshot.accounts.tree.row(owner)
    versions = allocations.all_versions(tx, [pool.product.id])
    days = [snapshot.day - BACK + n * STEP for n in range(BACK // STEP)]
    instants = np.array([looked_at(day, snapshot) for day in days], dtype=np.int64)
    own = usage.own_at_each(tx, snapshot.accounts, pool.product, instants)
    reserve = reserves_on(snapshot, versions, days, np.zeros_like(own))
    points: list[Point] = []
    for begin in range(0, len(days), AT_ONCE):
        part = slice(begin, begin + AT_ONCE)
        roots = Roots.of([(int(root), column) for root in snapshot.roots.rows for column in range(len(days[part]))])
        load = settle(snapshot.accounts.tree, own[:, part], reserve[:, part], roots).load[row]
        used = settle(snapshot.accounts.tree, own[:, part], np.zeros_like(own[:, part]), roots).load[row]
        points.extend(_point(pool, day, int(load[n]), int(used[n])) for n, day in enumerate(days[part]))
    return points


def _ahead(tx: Transaction, pool: Pool, row: int) -> list[Point]:
    """The present and the days ahead on which something changes, up to the last one looked at."""
    until = accounts_service.today(tx) + AHEAD
    turns = {day for lot in pool.lots for day in (lot.first_day, lot.last_day and lot.last_day + ONE_DAY) if day}
    held = loads_ahead(tx, pool.product, row, {*turns, until}, until)
    return [_point(pool, day, load, used) for day, load, used in held]


def _point(pool: Pool, day: date, load: int, used: int) -> Point:
    supply = supply_on(pool.lots, day)
    return Point(day, supply.quantity, supply.promisable, load, used, supply.shortfall(load, used))
