"""Positions at an instant, from the facts: the one place where the engine's settling meets the database."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, date, datetime
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.allocations import seats, store
from fair_ladle.app.allocations.ladders import ladder_members
from fair_ladle.app.allocations.rows import VersionRecord
from fair_ladle.app.plumbing import generations
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.cache import Cache
from fair_ladle.app.plumbing.database import Transaction, batched
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Pool, Product
from fair_ladle.app.usage import service as usage
from fair_ladle.core.allocations import AtCap, Follows, Grid, Terms, Version
from fair_ladle.core.calendar import local_day, micros
from fair_ladle.core.clocks import GraceClock, Steps, grace_clock, loads_over_time, version_steps
from fair_ladle.core.path import Ladder, Rung, ladder
from fair_ladle.core.settling import (
    BY_SUPPLY,
    NO_LIMIT,
    Flags,
    Headroom,
    Roots,
    Settled,
    Supply,
    hard_limits,
    headroom,
    is_near,
    most_reserve,
    pool_of,
    seen_from,
    settle,
    used_of_pools,
)
from fair_ladle.core.tree import Ints

SUPPLY = "supply"


@dataclass(frozen=True)
class Snapshot:
    """The facts of an instant, laid out for the engine; a draft is a World with another ``grid``."""

    at: datetime
    day: date
    zone: ZoneInfo
    accounts: Accounts
    products: tuple[Product, ...]
    pools: tuple[Pool, ...]
    roots: Roots
    owner: Ints
    supply: Supply[Ints]
    own: Ints
    grid: Grid
    grace_days: dict[tuple[int, int], int]
    clocks: dict[tuple[int, int], GraceClock]
    beside: Ints | None = None
    """Where the tree is a part: what counts in each cell of accounts below that are not in it."""
    use: Ints | None = None
    """Σ own of each account's branch in its pool, where the tree is a part and ``own`` does not tell."""

    def bar_unallocated(self) -> None:
        """Let accounts that hold nothing unallocated have reserve 0, cap 0 and block where no allocation is in
        force, in pools they do not own; that is no allocation all the same. The grid is changed in place, and twice
        is once."""
        grid = self.grid
        none = np.array([each.unallocated == "none" for each in self.accounts.facts], dtype=bool)
        rows = np.arange(len(none), dtype=np.int64)[:, None]
        grid.cap[~grid.present] = NO_LIMIT
        if none.any():
            barred = none[:, None] & ~grid.present & (self.owner >= 0) & (self.owner != rows)
            grid.cap[barred] = 0

    def as_part(self, load: Ints, use: Ints) -> Snapshot:
        """This tree as a part of a larger one, given load and Σ own of every cell there: with what counts of the
        accounts that are not in it."""
        held = np.maximum(load, self.grid.reserve)
        owners = self.roots.rows, self.roots.columns
        held[owners] = load[owners]
        parent = self.accounts.tree.parent[1:]
        passed_on = np.where(self.owner[1:] == self.owner[parent], held[1:], 0)
        here = np.zeros_like(load)
        np.add.at(here, parent, passed_on)
        return replace(self, beside=load - self.own - here, use=use)

    def follow_seats(self, own: Mapping[str, Ints], begin: Mapping[str, Collection[int]]) -> None:
        """Let caps that follow seats be what the units in use make them, by counted product (code) those of each
        account, and the rows where its pools begin. The grid is changed in place."""
        self.grid.follow(seats.of_cells(self.accounts, self.roots, self.grid, own, begin))

    def restricted(self) -> Flags:
        """Accounts whose grace has run out."""
        flags = np.zeros(self.own.shape, dtype=bool)
        for cell, clock in self.clocks.items():
            flags[cell] = clock.is_over(micros(self.at))
        return flags


@dataclass(frozen=True)
class Positions:
    """The live figures of every account in every pool: accounts × products, in grains."""

    snapshot: Snapshot
    settled: Settled
    hard: Ints
    headroom: Headroom
    restricted: Flags
    limits: tuple[Roots, Supply[Ints]] | None = None
    """Where headroom begins and from what, where that is not the pools themselves: see ``seen_by``."""
    use: Ints | None = None
    """Σ own of each account's branch in its pool, where it is known and not added up from what is here."""

    def states(self, rows: Ints | None = None) -> list[list[str]]:
        """The state of every cell (of these rows): within, near, over, grace or restricted."""
        rows = np.arange(len(self.settled.load)) if rows is None else rows
        load, cap = self.settled.load[rows], self.snapshot.grid.cap[rows]
        names = np.full(load.shape, "within", dtype=object)
        names[is_near(load, cap)] = "near"
        names[load > cap] = "over"
        place_of = {row: place for place, row in enumerate(rows.tolist())}
        for row, column in self.snapshot.clocks:
            if row in place_of:
                names[place_of[row], column] = "grace"
        names[self.restricted[rows]] = "restricted"
        return [[str(each) for each in row] for row in names]

    def bound_by(self, row: int, column: int) -> str:
        """The code of the account whose cap binds, or ``supply``."""
        bound = int(self.headroom.bound_by[row, column])
        return SUPPLY if bound == BY_SUPPLY else self.snapshot.accounts.tree.codes[bound]

    def pool_at(self, row: int, column: int) -> int:
        """The place, in the world's pools, of the pool that serves a cell; -1 where none does."""
        owner = int(self.snapshot.owner[row, column])
        places = np.flatnonzero((self.snapshot.roots.rows == owner) & (self.snapshot.roots.columns == column))
        return int(places[0]) if len(places) else -1

    def pool_load(self) -> Ints:
        """load of the pools' owners, in the order of the pools."""
        return self.settled.load[self.snapshot.roots.rows, self.snapshot.roots.columns]

    def pool_used(self) -> Ints:
        """Σ own of the pools, in their order."""
        if self.use is not None:
            return self.use[self.snapshot.roots.rows, self.snapshot.roots.columns]
        return used_of_pools(self.snapshot.accounts.tree, self.snapshot.roots, self.snapshot.own)

    def used(self) -> Ints:
        """Σ own of every account's branch in its pool."""
        if self.use is not None:
            return self.use
        snapshot = self.snapshot
        return settle(snapshot.accounts.tree, snapshot.own, np.zeros_like(snapshot.own), snapshot.roots).load

    def shortfalls(self) -> Ints:
        """By how many grains each pool is in shortfall (0 = covered)."""
        return self.snapshot.supply.shortfall(self.pool_load(), self.pool_used())

    def pool_standing(self) -> Ints:
        """What of each pool is unallocated; below 0 by how much it is in shortfall."""
        return self.snapshot.supply.standing(self.pool_load(), self.pool_used())

    def seen_by(self, top: int) -> Positions:
        """The same for whoever runs the branch of an account: every figure of room ends there."""
        if top == 0:
            return self
        snapshot = self.snapshot
        tree = snapshot.accounts.tree
        roots, supply = seen_from(top, snapshot.owner, tree, snapshot.roots, snapshot.supply)
        used = used_of_pools(tree, roots, snapshot.own) if self.use is None else self.use[roots.rows, roots.columns]
        room = headroom(tree, self.settled, self.hard, roots, supply, used)
        return replace(self, headroom=room, limits=(roots, supply))

    def most_reserve(self) -> Ints:
        """The most each account's reserve can be raised to."""
        snapshot = self.snapshot
        roots, supply = self.limits or (snapshot.roots, snapshot.supply)
        # What is barred for want of an allocation does not limit the reserve that is given by one.
        cap = np.where(snapshot.grid.present, snapshot.grid.cap, NO_LIMIT)
        return most_reserve(snapshot.accounts.tree, self.settled, cap, roots, supply)

    def way_up(self, row: int, column: int) -> list[Rung]:
        """The rungs from an account up to the pool's owner."""
        snapshot, rungs = self.snapshot, []
        owner = int(snapshot.owner[row, column])
        for each in snapshot.accounts.tree.path_up(row):
            cap, burst = int(snapshot.grid.cap[each, column]), int(snapshot.grid.burst[each, column])
            bursting = bool(
                (snapshot.grid.grace | snapshot.grid.overage)[each, column] and not self.restricted[each, column]
            )
            rungs.append(
                Rung(
                    snapshot.accounts.tree.codes[each],
                    int(self.settled.load[each, column]),
                    0 if each == owner else int(snapshot.grid.reserve[each, column]),
                    None if cap >= NO_LIMIT else cap,
                    None if burst >= NO_LIMIT else burst,
                    bursting,
                )
            )
            if each == owner:
                break
        return rungs

    def ladder(self, row: int, column: int) -> Ladder:
        """The limits on the way up and the one that binds."""
        place = self.pool_at(row, column)
        supply = self.snapshot.supply
        left = int(supply.physical[place]) - int(self.pool_used()[place])
        return ladder(self.way_up(row, column), int(supply.promisable[place]), left)

    def visible_ladder(self, row: int, column: int, actor: Actor, asked: int | None = None) -> dict[str, Any]:
        """The ladder for an answer, with names, as far as the actor may see; ``asked`` is what it refuses (grains)."""
        accounts, way = self.snapshot.accounts, self.way_up(row, column)
        promisable = int(self.snapshot.supply.promisable[self.pool_at(row, column)])
        names = {rung.account: accounts.name(accounts.tree.row(rung.account)) for rung in way}
        # Of the figures above the actor's scope none gets into the answer; of the names only the first.
        found, product = self.ladder(row, column), self.snapshot.products[column]
        return ladder_members(found, way, product, promisable, actor, names, asked)


AT_CAP = {each.value: each for each in AtCap}
"""By its word, for there are versions by the million: asking the enumeration takes far longer."""


def to_version(row: VersionRecord, code: str) -> Version:
    """A row of the table as the engine's version."""
    return Version(
        code,
        row.first_day,
        row.last_day,
        row.reserve,
        row.cap,
        AT_CAP[row.at_cap],
        row.burst,
        row.grace_days,
        row.per,
        row.each,
    )


_frames: Cache[Snapshot] = Cache(32, megabytes=64)
"""Snapshots without what is in use and what follows from it, by day and the generations of what they are made of."""


def snapshot_at(tx: Transaction, products: Sequence[Product], at: datetime) -> Snapshot:
    """The facts of an instant for these products. What is in use is read anew each time; the rest is kept while
    accounts, pools and allocations stay the same."""
    frame = frame_of(tx, products, at)
    own = usage.own_at(tx, frame.accounts, products, at)
    # Of a day ahead the seats are today's.
    seen = min(at, tx.now)
    snapshot = with_seats(tx, replace(frame, at=at, own=own), lambda per: usage.own_at(tx, frame.accounts, per, seen))
    return replace(snapshot, clocks=replayed_clocks(tx, snapshot))


def with_seats(tx: Transaction, snapshot: Snapshot, own_of: Callable[[list[Product]], Ints]) -> Snapshot:
    """The same with caps that follow seats as they are; ``own_of`` says what is in use of counted products: accounts ×
    products."""
    if not snapshot.grid.following:
        return snapshot
    per = seats.products(tx, snapshot.grid.followed)
    own = own_of(per)
    found = replace(snapshot, grid=snapshot.grid.copy())
    of_each = {each.code: own[:, place] for place, each in enumerate(per)}
    found.follow_seats(of_each, seats.owners(tx, snapshot.accounts, per))
    return found


def frame_of(tx: Transaction, products: Sequence[Product], at: datetime) -> Snapshot:
    """A snapshot of the day of an instant, without what is in use."""
    day = local_day(at, accounts_service.zone(tx))
    made_of = generations.numbers(tx, "structure", "allocations")
    key = (tx.installation, made_of, day, tuple(products), accounts_service.today(tx) == day)
    return _frames.get(key, lambda: _frame(tx, products, day))


def _frame(tx: Transaction, products: Sequence[Product], day: date) -> Snapshot:
    zone = accounts_service.zone(tx)
    accounts = accounts_service.on_day(tx, day)
    roots, pools = pools_service.layout(accounts, pools_service.pools(tx, products), list(products))
    grid, grace_days = laid_terms(tx, accounts, products, day)
    snapshot = Snapshot(
        datetime.min.replace(tzinfo=UTC),
        day,
        zone,
        accounts,
        tuple(products),
        tuple(pools),
        roots,
        pool_of(accounts.tree, roots, len(products)),
        pools_service.supply(pools, day),
        np.zeros((len(accounts.tree), len(products)), dtype=np.int64),
        grid,
        grace_days,
        {},
    )
    snapshot.bar_unallocated()
    return snapshot


def laid_terms(
    tx: Transaction, accounts: Accounts, products: Sequence[Product], day: date, ids: Collection[int] | None = None
) -> tuple[Grid, dict[tuple[int, int], int]]:
    """The allocations in force on a day, accounts × products, and the days of grace by cell; with ``ids`` of these
    accounts alone."""
    column = {product.id: place for place, product in enumerate(products)}
    grid = Grid.empty(len(accounts.tree), len(products))
    ahead = [] if ids is not None or tx.kept is None else [tx.kept.get(_ahead(each)) for each in products]
    if ahead and all(each is not None and each[0] <= day <= each[1] for each in ahead):
        every: Ints = np.concatenate([each[2] for each in ahead if each is not None])
        terms = every[(every[:, 10] <= day.toordinal()) & (every[:, 11] >= day.toordinal())]
    else:
        parts = [None] if ids is None else batched(ids)
        found = [store.terms_between(tx.connection, list(column), day, day, part) for part in parts]
        terms = np.concatenate(found or [np.empty((0, 12), dtype=np.int64)])
    terms = terms[np.isin(terms[:, 0], accounts.ids)]
    rows = accounts.rows(terms[:, 0])
    columns = np.array([column[each] for each in terms[:, 1].tolist()], dtype=np.int64)
    grid.lay(rows, columns, terms_of(terms))
    said = terms[:, 7] >= 0
    cells = zip(rows[said].tolist(), columns[said].tolist(), strict=True)
    follows = followed(tx, terms)
    grid.following.update({(int(rows[at]), int(columns[at])): each for at, each in follows.items()})
    return grid, dict(zip(cells, terms[:, 7][said].tolist(), strict=True))


def terms_of(versions: Ints) -> Terms:
    """Versions, as they are read in numbers, as the engine's terms."""
    _, _, reserve, cap, burst, grace, overage, *_ = versions.T
    return Terms(reserve, cap, burst, grace != 0, overage != 0)


def followed(tx: Transaction, versions: Ints) -> dict[int, Follows]:
    """Which seats caps follow, by the place of those versions that do."""
    per = versions[:, 8]
    if not (per >= 0).any():
        return {}
    code_of = {each.id: each.code for each in pools_service.products(tx)}
    return {
        at: Follows(0 if versions[at, 3] >= NO_LIMIT else int(versions[at, 3]), int(versions[at, 9]), code_of[per[at]])
        for at in np.flatnonzero(per >= 0).tolist()
    }


def read_terms_ahead(tx: Transaction, product: Product, first: date, last: date) -> None:
    """Read the allocations of a product from a day to another in one go: ``laid_terms`` finds those days there, as long
    as the facts of one instant are seen."""
    if tx.kept is not None:
        tx.kept[_ahead(product)] = (first, last, store.terms_between(tx.connection, [product.id], first, last))


def _ahead(product: Product) -> str:
    return f"terms of {product.id}"


def settle_snapshot(snapshot: Snapshot) -> Positions:
    """Settle a snapshot: positions, headroom and binding limits of every account."""
    tree, grid, roots, use = snapshot.accounts.tree, snapshot.grid, snapshot.roots, snapshot.use
    own = snapshot.own if snapshot.beside is None else snapshot.own + snapshot.beside
    settled = settle(tree, own, grid.reserve, roots)
    restricted = snapshot.restricted()
    hard = hard_limits(grid.cap, grid.burst, (grid.grace | grid.overage) & ~restricted)
    used = used_of_pools(tree, roots, snapshot.own) if use is None else use[roots.rows, roots.columns]
    room = headroom(tree, settled, hard, roots, snapshot.supply, used)
    return Positions(snapshot, settled, hard, room, restricted, use=use)


def positions_at(tx: Transaction, products: Sequence[Product], at: datetime) -> Positions:
    """Positions at an instant, from the facts."""
    return settle_snapshot(snapshot_at(tx, products, at))


def replayed_clocks(
    tx: Transaction, snapshot: Snapshot, among: Flags | None = None
) -> dict[tuple[int, int], GraceClock]:
    """The grace clocks that run at the instant, from the history of each account (of these cells) now past its cap
    under grace."""
    load = settle_snapshot(snapshot).settled.load
    is_past = snapshot.grid.grace & (load > snapshot.grid.cap)
    past = np.argwhere(is_past if among is None else is_past & among)
    by_column: dict[int, list[int]] = {}
    for row, column in past.tolist():
        by_column.setdefault(column, []).append(row)
    clocks = {}
    codes = snapshot.accounts.tree.codes
    for column, rows in by_column.items():
        accounts, owner = snapshot.accounts, snapshot.owner[:, column]
        if snapshot.beside is not None:
            accounts = accounts_service.on_day(tx, snapshot.day)
            owner = _owner(tx, accounts, snapshot.products[column])
        row_of = {accounts.tree.row(codes[row]): row for row in rows}
        histories = _histories(tx, accounts, owner, snapshot, snapshot.products[column], list(row_of))
        for there, (steps, versions, follows) in histories.items():
            clock = grace_clock(steps, versions, micros(snapshot.at), snapshot.zone, follows)
            if clock is not None:
                clocks[row_of[there], column] = clock
    return clocks


def _owner(tx: Transaction, accounts: Accounts, product: Product) -> Ints:
    """For every account of today's tree the row of the owner of the product's pool that serves it, -1 = none."""
    roots, _ = pools_service.layout(accounts, pools_service.pools(tx, [product]), [product])
    return pool_of(accounts.tree, roots, 1)[:, 0]


def _histories(
    tx: Transaction, accounts: Accounts, owner: Ints, snapshot: Snapshot, product: Product, wanted: Sequence[int]
) -> dict[int, tuple[Steps, list[Version], dict[str, Steps]]]:
    """load of some accounts over time up to the snapshot's instant, their allocations' versions, and the seats that
    these follow: two queries for all, and one for each account whose cap follows seats."""
    tree = accounts.tree
    branches = {row: [int(each) for each in tree.branch(row) if int(owner[each]) == int(owner[row])] for row in wanted}
    rows = sorted({each for branch in branches.values() for each in branch})
    own = usage.own_over_time(tx, accounts, product, rows, snapshot.at)
    versions: dict[int, list[Version]] = {each: [] for each in rows}
    ids = [int(accounts.ids[each]) for each in rows]
    for found in store.versions(tx.connection, [product.id], None, snapshot.day, ids):
        place = accounts.row_of_id[found.account_id]
        versions[place].append(to_version(found, tree.codes[place]))

    def load_of(row: int) -> Steps:
        return loads_over_time(
            branches[row],
            lambda each: int(tree.parent[each]) if each != row else -1,
            lambda each: own.get(each, Steps.nothing()),
            lambda each: version_steps(versions[each], snapshot.zone, lambda version: version.reserve),
        )[row]

    follow = seats.SeatsOverTime(tx, accounts, owner, versions)
    return {row: (load_of(row), versions[row], follow.of(row, versions[row])) for row in wanted}
