"""What a pool's owner holds on days ahead, as far as it is written already."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any

import numpy as np

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.allocations import present, store
from fair_ladle.app.allocations import service as allocations
from fair_ladle.app.allocations.positions import Snapshot, snapshot_at
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Pool, Product
from fair_ladle.app.usage import service as usage
from fair_ladle.core.calendar import MICRO, day_start, micros
from fair_ladle.core.settling import Roots, settle
from fair_ladle.core.tree import Ints

ONE_DAY = timedelta(days=1)


Held = tuple[date, int, int]
"""A day, what is held and what of it is used, in grains."""
HORIZON = timedelta(days=400)
"""So far ahead it is kept what is held."""


@dataclass(frozen=True)
class _Ahead:
    """Some accounts of a product today (the first day) and on days ahead: arrays are accounts × days."""

    snapshot: Snapshot
    days: list[date]
    own: Ints
    load: Ints

    def of(self, place: int) -> list[Held]:
        """What the owner of a pool, by its row here, holds and uses on these days."""
        mine = self.snapshot.owner[:, 0] == place
        use = self.snapshot.use[place, 0] if self.snapshot.use is not None else self.snapshot.own[mine, 0].sum()
        used = use + (self.own[mine] - self.snapshot.own[mine]).sum(axis=0)
        return [(day, int(self.load[place, n]), int(used[n])) for n, day in enumerate(self.days)]


def loads_ahead(tx: Transaction, product: Product, row: int, days: Collection[date], until: date) -> list[Held]:
    """What the account of a row of today's tree, which owns a pool of the product, holds today, on these days ahead and
    on every other up to the last one on which an allocation begins or has ended.

    What is in use stays as it is, as far as it is not known to begin or end; allocations come and go as they are
    written. Only accounts where something changes, and those above them, are settled.
    """
    known = accounts_service.known(tx)
    found = _settled(tx, product, {row}, days, until)
    return found.of(found.snapshot.accounts.tree.row(known.tree.codes[row])) if found is not None else []


def _settled(tx: Transaction, product: Product, rows: set[int], days: Collection[date], until: date) -> _Ahead | None:
    """These accounts (rows of today's tree) and those where something changes by then; None where there is neither."""
    known, today = accounts_service.known(tx), accounts_service.today(tx)
    end = accounts_service.start_of(tx, until + ONE_DAY)
    turning = allocations.turned_since(tx, product, today + ONE_DAY, until)
    moving = usage.changing_between(tx, product, tx.now, end)
    rows = rows | {known.row_of_id[each] for each in (*turning, *moving) if each in known.row_of_id}
    if not rows:
        return None
    snapshot = present.part(tx, [product], rows) or snapshot_at(tx, [product], tx.now)
    tree = snapshot.accounts.tree
    versions = allocations.versions_of(tx, product, turning)
    turns = {day for each in versions for day in (each.first_day, each.last_day and each.last_day + ONE_DAY) if day}
    chosen = [today, *sorted(day for day in turns | set(days) if today < day <= until)]
    own = np.repeat(snapshot.own, len(chosen), axis=1)
    if moving:
        instants = np.array([looked_at(day, snapshot) for day in chosen], dtype=np.int64)
        changed = [snapshot.accounts.row_of_id[each] for each in moving if each in snapshot.accounts.row_of_id]
        own[changed] = usage.own_at_each(tx, snapshot.accounts, product, instants, moving)[changed]
    reserve = np.repeat(snapshot.grid.reserve, len(chosen), axis=1)
    reserve[[snapshot.accounts.row_of_id[each] for each in turning if each in snapshot.accounts.row_of_id], 1:] = 0
    reserve[:, 1:] = reserves_on(snapshot, versions, chosen, reserve)[:, 1:]
    roots = Roots.of([(int(root), column) for root in snapshot.roots.rows for column in range(len(chosen))])
    beside = 0 if snapshot.beside is None else snapshot.beside
    return _Ahead(snapshot, chosen, own, settle(tree, own + beside, reserve, roots).load)


def keep(tx: Transaction, product: Product) -> None:
    """Work out by how much more is held of a product's pools on days ahead (those on which allocations or lots begin or
    have ended, and the first of each month), and keep it where it is another than what is kept. Locks: the kept rows
    of the product."""
    today = accounts_service.today(tx)
    lots = [lot for pool in pools_service.pools(tx, [product]) for lot in pool.lots]
    turns = {day for lot in lots for day in (lot.first_day, lot.last_day and lot.last_day + ONE_DAY) if day}
    found = _settled(tx, product, set(), turns | _months(today), today + HORIZON)
    made = [] if found is None else sorted(_changes(found))
    there = store.held_ahead(tx.connection, [product.id])
    if [(each.owner_id, each.day, each.held, each.used, each.made_on) for each in there] != [
        (*each, today) for each in made
    ]:
        of = {"product_id": product.id, "made_on": today}
        rows = [{**of, "owner_id": at, "day": day, "held": held, "used": used} for at, day, held, used in made]
        store.put_held_ahead(tx.connection, product.id, rows)


def _months(today: date) -> set[date]:
    months, day = set(), today
    while (day := (day.replace(day=1) + timedelta(days=32)).replace(day=1)) <= today + HORIZON:
        months.add(day)
    return months


def _changes(found: _Ahead) -> Iterator[tuple[int, date, int, int]]:
    """The pools' owners (ids) with the days from which on more or less is held than today, and by how much."""
    for place in found.snapshot.roots.rows.tolist():
        (_, held_now, used_now), *ahead = found.of(place)
        said = (0, 0)
        for day, held, used in ahead:
            if (held - held_now, used - used_now) != said:
                said = held - held_now, used - used_now
                yield int(found.snapshot.accounts.ids[place]), day, *said


class KeptAhead:
    """By how much more is held of pools on days ahead, as a job keeps it; nothing where nothing is known to change."""

    def __init__(self, tx: Transaction, pools: Collection[Pool]):
        today = accounts_service.today(tx)
        products, owners = {each.product.id for each in pools}, {each.owner_id for each in pools}
        self._by_pool: dict[tuple[int, int], list[Held]] = {}
        for row in store.held_ahead(tx.connection, products, owners) if pools else ():
            if row.made_on == today:
                self._by_pool.setdefault((row.owner_id, row.product_id), []).append((row.day, row.held, row.used))

    def knows(self, pool: Pool) -> bool:
        """Whether anything is known to change."""
        return (pool.owner_id, pool.product.id) in self._by_pool

    def more(self, pool: Pool, day: date) -> tuple[int, int]:
        """How much more of a pool is held, and used, on a day ahead than now (grains)."""
        ahead = self._by_pool.get((pool.owner_id, pool.product.id), [])
        return next(((held, used) for first, held, used in reversed(ahead) if first <= day), (0, 0))


def looked_at(day: date, snapshot: Snapshot) -> int:
    """The instant a day is told by: the last of one that is over, the present one, the first of one ahead."""
    if day < snapshot.day:
        return day_start(day + ONE_DAY, snapshot.zone) * MICRO - 1
    return micros(snapshot.at) if day == snapshot.day else day_start(day, snapshot.zone) * MICRO


def reserves_on(snapshot: Snapshot, versions: Sequence[Any], days: Sequence[date], others: Ints) -> Ints:
    """Every account's reserve on each of these days, over today's tree: accounts × days, by these versions, and of the
    others as said."""
    reserve = others.copy()
    for version in versions:
        if version.reserve and version.account_id in snapshot.accounts.row_of_id:
            end = len(days) if version.last_day is None else bisect_right(days, version.last_day)
            reserve[snapshot.accounts.row_of_id[version.account_id], bisect_left(days, version.first_day) : end] = (
                version.reserve
            )
    return reserve
