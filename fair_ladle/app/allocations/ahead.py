"""What a pool's owner holds on days ahead, as far as it is written already."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Collection, Sequence
from datetime import date, timedelta
from typing import Any

import numpy as np

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.allocations import present
from fair_ladle.app.allocations import service as allocations
from fair_ladle.app.allocations.positions import Snapshot, snapshot_at
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.pools.service import Product
from fair_ladle.app.usage import service as usage
from fair_ladle.core.calendar import MICRO, day_start, micros
from fair_ladle.core.settling import Roots, settle
from fair_ladle.core.tree import Ints

ONE_DAY = timedelta(days=1)


def loads_ahead(tx: Transaction, product: Product, row: int, days: Collection[date], until: date) -> list[Held]:
    """What the account of a row of today's tree, which owns a pool of the product, holds today, on these days ahead and
    on every other up to the last one on which an allocation begins or has ended.

    What is in use stays as it is, as far as it is not known to begin or end; allocations come and go as they are
    written. Only accounts where something changes, and those above them, are settled.
    """
    known, today = accounts_service.known(tx), accounts_service.today(tx)
    end = accounts_service.start_of(tx, until + ONE_DAY)
    turning = allocations.turned_since(tx, product, today + ONE_DAY, until)
    moving = usage.changing_between(tx, product, tx.now, end)
    rows = {row, *(known.row_of_id[each] for each in (*turning, *moving) if each in known.row_of_id)}
    snapshot = present.part(tx, [product], rows) or snapshot_at(tx, [product], tx.now)
    tree, place = snapshot.accounts.tree, snapshot.accounts.tree.row(known.tree.codes[row])
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
    load = settle(tree, own + beside, reserve, roots).load[place]
    mine = snapshot.owner[:, 0] == place
    use = snapshot.use[place, 0] if snapshot.use is not None else snapshot.own[mine, 0].sum()
    used = use + (own[mine] - snapshot.own[mine]).sum(axis=0)
    return [(day, int(load[n]), int(used[n])) for n, day in enumerate(chosen)]


Held = tuple[date, int, int]
"""A day, what is held and what of it is used, in grains."""


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
