"""Days that are over, as they were settled: kept by a job, so that who looks at a few accounts of one reads neither its
facts nor the whole tree.

A day says what differs from the Monday before it. It holds while no fact of its product up to that day is changed
later (``generations.past``).
"""

from __future__ import annotations

import io
import zlib
from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime
from functools import cache, partial

import numpy as np

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.allocations import seats, store
from fair_ladle.app.allocations import service as allocations_service
from fair_ladle.app.allocations.positions import (
    Positions,
    Snapshot,
    laid_terms,
    settle_snapshot,
)
from fair_ladle.app.allocations.rows import KeptDayRecord
from fair_ladle.app.allocations.snapshots import end_of
from fair_ladle.app.plumbing.cache import Cache
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.core.calendar import local_day
from fair_ladle.core.clocks import clock_from
from fair_ladle.core.settling import Flags, pool_of
from fair_ladle.core.tree import Ints

KINDS = 5
OWN, LOAD, USE, SINCE, MARKS = range(KINDS)
PAST_A_CAP, UNUSED = 1, 2
"""Marks: it is past its cap; it holds a promise that nobody uses."""


ARCHIVE = b"PK"
"""How days begin that were packed array by array, as they once were."""


@dataclass(frozen=True)
class KeptDay:
    """The accounts (ids, ascending) of which there was anything, and their figures, one array of each kind: own, load
    and Σ own of the branch in grains, since when a clock ran (where that stands among ``instants``, in µs, 0 = none),
    and marks. Each array is as narrow as its figures allow. With a ``base`` it is only what differs from that day."""

    ids: Ints
    figures: Sequence[Ints]
    instants: Ints
    base: KeptDay | None = None

    @staticmethod
    def made(ids: Ints, figures: Iterable[Ints], base: KeptDay | None = None) -> KeptDay:
        """A day from the figures themselves: kinds of figures × accounts."""
        every = list(figures)
        instants = np.unique(every[SINCE])
        every[SINCE] = np.searchsorted(instants, every[SINCE])
        return KeptDay(_narrow(ids), [_narrow(each) for each in every], instants, base)

    @staticmethod
    def of(found: Positions) -> KeptDay:
        """A day of one product from positions."""
        snapshot, load, held = found.snapshot, found.settled.load[:, 0], found.settled.held[:, 0]
        since = np.zeros_like(load)
        for (row, _), clock in snapshot.clocks.items():
            since[row] = clock.since
        marks = PAST_A_CAP * (load > snapshot.grid.cap[:, 0]) + UNUSED * (held > load)
        order = np.argsort(snapshot.accounts.ids)
        figures = np.stack([snapshot.own[:, 0], load, found.used()[:, 0], since, marks])
        there = order[figures[:, order].any(axis=0)]
        return KeptDay.made(snapshot.accounts.ids[there], figures[:, there])

    def of_accounts(self, ids: Ints) -> Ints:
        """The figures of these accounts: kinds of figures × accounts; 0 where there was nothing."""
        found = np.zeros((KINDS, len(ids)), dtype=np.int64) if self.base is None else self.base.of_accounts(ids)
        if not len(self.ids):
            return found
        wanted = ids.astype(self.ids.dtype)  # or all that is kept would be made as wide as what is looked for
        places = np.minimum(np.searchsorted(self.ids, wanted), len(self.ids) - 1)
        there = self.ids[places] == ids
        for kind, each in enumerate(self.figures):
            mine = each[places[there]]
            found[kind, there] = self.instants[mine] if kind == SINCE else mine
        return found

    def marked(self, mark: int) -> Ints:
        """The accounts (ids) with a mark."""
        mine: Ints = self.ids[(self.figures[MARKS] & mark) != 0]
        if self.base is None:
            return mine
        return np.union1d(np.setdiff1d(self.base.marked(mark), self.ids, assume_unique=True), mine)

    def beyond(self, base: KeptDay) -> KeptDay:
        """What of this day differs from another one."""
        ids = np.union1d(self._every_id(), base._every_id())
        mine = self.of_accounts(ids)
        differs = (mine != base.of_accounts(ids)).any(axis=0)
        return KeptDay.made(ids[differs], mine[:, differs], base)

    def but_for(self, ids: Ints, figures: Ints) -> KeptDay:
        """The same day with other figures (kinds of figures × accounts) of these accounts."""
        every = np.union1d(self._every_id(), ids)
        mine = self.of_accounts(every)
        mine[:, np.searchsorted(every, ids)] = figures
        there = mine.any(axis=0)
        return KeptDay.made(every[there], mine[:, there])

    def _every_id(self) -> Ints:
        return self.ids if self.base is None else np.union1d(self.ids, self.base._every_id())

    def packed(self) -> bytes:
        """As it is kept, without its base."""
        into = io.BytesIO()
        own, load, use, since, marks = self.figures
        np.savez(into, self.ids, own, load, use, _narrow(self.instants[since]), marks)
        # A further step would take more than three times as long for a fiftieth less.
        return zlib.compress(into.getvalue(), 4)

    @staticmethod
    def unpacked(content: bytes) -> KeptDay:
        """As it was kept, without its base."""
        stored = content if content.startswith(ARCHIVE) else zlib.decompress(content)
        with np.load(io.BytesIO(stored), allow_pickle=False) as found:
            ids, *figures = (found[f"arr_{n}"] for n in range(1 + KINDS))
        return KeptDay.made(ids, figures)


def _narrow(whole: Ints) -> Ints:
    """The same numbers in as few bytes each as they all fit into; ids and figures are never below zero."""
    found: Ints = whole.astype(np.min_scalar_type(int(whole.max(initial=0))))
    return found


@dataclass(frozen=True)
class _Kept:
    """A day of a product as it is kept, and the day it differs from."""

    day: KeptDay
    base_day: date | None


_days: Cache[_Kept] = Cache(1000, megabytes=80)


class _NotKept(Exception):
    """A day is not kept as it is now."""


def ended_day(tx: Transaction, at: datetime) -> date | None:
    """The day that is over of which an instant is the end; None where it is of none."""
    day = local_day(at, accounts_service.zone(tx))
    return day if day < accounts_service.today(tx) and at == end_of(tx, day) else None


def days(tx: Transaction, products: Sequence[Product], at: datetime) -> list[KeptDay] | None:
    """The day that ends at an instant, of each of these products; None where one is not kept."""
    day = ended_day(tx, at)
    if day is None:
        return None
    try:
        mine = _read(tx, [(each, day) for each in products])
        based = [(each, on.base_day) for each, on in zip(products, mine, strict=True) if on.base_day]
        bases = dict(zip([each.id for each, _ in based], _read(tx, based), strict=True))
    except _NotKept:
        return None
    return [
        replace(on.day, base=bases[each.id].day) if on.base_day else on.day
        for each, on in zip(products, mine, strict=True)
    ]


def _read(tx: Transaction, wanted: Sequence[tuple[Product, date]]) -> list[_Kept]:
    """Days of products as they are kept: what this process has not read yet is read together."""
    keys = {(each.id, on): (tx.installation, each.id, on, made_of(tx, each, on)) for each, on in wanted}

    @cache
    def rows() -> dict[tuple[int, date], KeptDayRecord]:
        found = store.kept_of(tx.connection, [of for of, key in keys.items() if key not in _days])
        return {(row.product_id, row.day): row for row in found}

    def unpacked(of: tuple[int, date]) -> _Kept:
        row = rows().get(of) or next(iter(store.kept_of(tx.connection, [of])), None)
        if row is None or row.made_of != keys[of][-1]:
            raise _NotKept
        return _Kept(KeptDay.unpacked(row.figures), row.base_day)

    def read(of: tuple[int, date]) -> _Kept:
        return _days.get(keys[of], lambda: unpacked(of))

    # A request asks for its day more than once, where the cache has no room for all.
    return [tx.once(f"kept {of}", partial(read, of)) for of in keys]


def positions(tx: Transaction, products: Sequence[Product], codes: Collection[str], at: datetime) -> Positions | None:
    """Positions of these accounts and those above them at the end of a day, as a small tree of their own; None where
    the day is not kept."""
    kept = days(tx, products, at)
    if kept is None:
        return None
    whole = accounts_service.on_day(tx, local_day(at, accounts_service.zone(tx)))
    accounts = whole.part([whole.tree.row(code) for code in codes if code in whole.tree])
    snapshot = snapshot_of(tx, products, accounts, kept, at)
    grid = snapshot.grid
    per = seats.products(tx, grid.followed)
    if per:
        seated = days(tx, per, at)
        if seated is None:
            return None
        cells = {
            (row, column): (products[column], whole.tree.row(accounts.tree.codes[row]), each.per)
            for (row, column), each in grid.following.items()
        }
        use = {each.code: partial(_use_of, found) for each, found in zip(per, seated, strict=True)}
        grid.follow(seats.of_day_end(tx, whole, cells, use))
    return settle_snapshot(snapshot)


def snapshot_of(
    tx: Transaction, products: Sequence[Product], accounts: Accounts, kept: Sequence[KeptDay], at: datetime
) -> Snapshot:
    """The facts of a part of the tree at the end of a day, given that day of each product; caps that follow seats are
    not said yet."""
    zone = accounts_service.zone(tx)
    day = local_day(at, zone)
    every = pools_service.pools_of(tx, products, accounts.row_of_id)
    roots, pools = pools_service.layout(accounts, every, list(products))
    figures = np.zeros((KINDS, len(accounts.tree), len(products)), dtype=np.int64)
    for column, each in enumerate(kept):
        figures[:, :, column] = each.of_accounts(accounts.ids)
    grid, grace_days = laid_terms(tx, accounts, products, day, accounts.ids.tolist())
    clocks = {
        (row, column): clock_from(int(figures[SINCE, row, column]), grace_days.get((row, column), 0), zone)
        for row, column in np.argwhere(figures[SINCE]).tolist()
    }
    snapshot = Snapshot(
        at,
        day,
        zone,
        accounts,
        tuple(products),
        tuple(pools),
        roots,
        pool_of(accounts.tree, roots, len(products)),
        pools_service.supply(pools, day),
        figures[OWN],
        grid,
        grace_days,
        clocks,
    )
    snapshot.bar_unallocated()
    return snapshot.as_part(figures[LOAD], figures[USE])


def _use_of(found: KeptDay, ids: Ints) -> Ints:
    mine: Ints = found.of_accounts(ids)[USE]
    return mine


def marked(tx: Transaction, accounts: Accounts, products: Sequence[Product], at: datetime, mark: int) -> Flags | None:
    """The accounts with a mark in one of these products at the end of a day; None where it is not kept."""
    kept = days(tx, products, at)
    if kept is None:
        return None
    return accounts.flagged({each for day in kept for each in day.marked(mark).tolist()})


def made_of(tx: Transaction, product: Product, day: date) -> str:
    """While it stays the same, a day of a product is what it was kept as."""
    return f"{accounts_service.zone(tx)} {allocations_service.past(tx, product, day)}"
