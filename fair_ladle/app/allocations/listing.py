"""Which accounts the grid lists, and a window of them with their positions: cost follows what is on screen."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime
from typing import Any, Literal

import numpy as np
import sqlalchemy as sa

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.allocations import kept, present, store, views
from fair_ladle.app.allocations import service as allocations_service
from fair_ladle.app.allocations.positions import Positions, settle_snapshot, snapshot_at
from fair_ladle.app.allocations.snapshots import chosen_products, instant_of, present_snapshot, products_in_sight
from fair_ladle.app.allocations.tables import counters
from fair_ladle.app.plumbing import generations
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.cache import Cache
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.core.calendar import local_day
from fair_ladle.core.settling import NO_LIMIT, Flags
from fair_ladle.core.tree import Ints

Show = Literal["all", "attention", "idle", "closed"]
AT_ONCE = 100
"""Rows of a window where nothing else is asked for."""
MOST_DIFFERENCES = 1000


@dataclass(frozen=True)
class Wanted:
    """What a grid is to list, and which part of it.

    ``products`` None = all in sight; with ``names_alone`` they say what is listed, and no figures come. ``branches``
    are open, or, with ``all_open``, the ones that are shut; the top is always open. ``show`` and ``find`` list what
    they say with those above. ``below`` lists only those directly below one account. ``around`` asks for the window
    that has this account, with all above it opened; else the window begins at ``first``.
    """

    products: Sequence[str] | None = None
    names_alone: bool = False
    branches: frozenset[str] = frozenset()
    all_open: bool = False
    show: Show = "all"
    find: str = ""
    below: str | None = None
    around: str | None = None
    first: int = 0
    limit: int = AT_ONCE
    at: datetime | None = None
    against: datetime | None = None
    compares: bool = False

    @property
    def is_plain(self) -> bool:
        """Whether it is the tree as it is opened, and nothing is left out of it."""
        return self.show == "all" and not self.find.strip()


@dataclass(frozen=True)
class Listing:
    """A window of what is listed.

    ``rows`` are its accounts in the positions' tree; ``above`` says for each where its parent is listed (-1 = nowhere),
    ``opened`` what had to be opened to show the account asked for and ``place`` where it is listed.
    """

    view: views.GridView
    first: int
    count: int
    above: list[int]
    open: list[bool]
    below: list[int]
    opened: list[str]
    place: int | None
    attention: int
    closed: int
    made_of: str
    """Another for every other list."""
    products: list[Product]
    differing: Flags | None = field(default=None)


def listing(tx: Transaction, actor: Actor, wanted: Wanted) -> Listing:
    """A window of the accounts that are listed, with the positions of those alone."""
    sight = {each.id for each in products_in_sight(tx, actor)}
    none = wanted.products is not None and not wanted.products
    products = [each for each in ([] if none else chosen_products(tx, wanted.products)) if each.id in sight]
    day = local_day(wanted.at or tx.now, accounts_service.zone(tx))
    accounts = accounts_service.on_day(tx, day)
    top = accounts_service.top_row(accounts, actor)
    pressing = _pressing(tx, accounts, top, products, wanted.at)
    branches, opened = set(wanted.branches), list[str]()
    around = wanted.around
    if around is not None and not accounts_service.is_in_scope(accounts, actor, around):
        around = None
    if around is not None and wanted.is_plain:
        row = accounts.tree.row(around)
        path = accounts.tree.path_up(row)
        inside = [accounts.tree.codes[each] for each in path[1 : path.index(top)]]
        opened = [code for code in inside if (code in branches) == wanted.all_open]
        branches.symmetric_difference_update(opened)
    is_open = _open(accounts, top, branches, wanted)
    rows = _listed(tx, actor, accounts, top, products, wanted, is_open, pressing)
    if wanted.at is not None:
        rows = rows[accounts.was_there(day)[rows]]
    place_of = np.full(len(accounts.tree), -1, dtype=np.int64)
    place_of[rows] = np.arange(len(rows))
    place = None
    if around is not None:
        found = int(place_of[accounts.tree.row(around)])
        place = found if found >= 0 else None
    first = wanted.first if around is None else (place or 0) // wanted.limit * wanted.limit
    window = rows[first : first + wanted.limit]
    products = [] if wanted.names_alone else products
    view = _positions(tx, accounts, top, window, products, wanted.at)
    parents = accounts.tree.parent[window]
    closed = accounts.closed[accounts.tree.branch(top)]
    return Listing(
        view,
        first,
        len(rows),
        [int(place_of[each]) if each >= 0 else -1 for each in parents],
        [bool(each) for each in is_open[window]],
        [int(each) - 1 for each in accounts.tree.branch_size[window]],
        opened,
        place,
        int(pressing.sum()),
        int(closed.sum()),
        hashlib.blake2b(accounts.ids[rows].tobytes(), digest_size=8).hexdigest(),
        products,
        _differing(tx, view, products, wanted.against) if wanted.compares else None,
    )


def _open(accounts: Accounts, top: int, branches: Collection[str], wanted: Wanted) -> Flags:
    flags = np.full(len(accounts.tree), wanted.all_open, dtype=bool)
    if not wanted.is_plain:
        flags[:] = True
        return flags
    flags[[accounts.tree.row(code) for code in branches if code in accounts.tree]] = not wanted.all_open
    flags[top] = True
    return flags


def _listed(
    tx: Transaction,
    actor: Actor,
    accounts: Accounts,
    top: int,
    products: Sequence[Product],
    wanted: Wanted,
    is_open: Flags,
    pressing: Flags,
) -> Ints:
    """The rows that are listed, in tree order."""
    tree = accounts.tree
    branch = tree.branch(top)
    shown = np.zeros(len(tree), dtype=bool)
    if wanted.below is not None:
        shown[:] = tree.parent == accounts_service.row_in_scope(accounts, actor, wanted.below)
        return branch[(shown & ~accounts.closed)[branch]]
    if wanted.is_plain:
        shown[top] = True
        for level in tree.levels_down():
            above = tree.parent[level]
            shown[level] |= shown[above] & is_open[above]
        return branch[(shown & ~accounts.closed)[branch]]
    shown[branch] = True
    if wanted.show == "attention":
        shown &= pressing
    elif wanted.show == "idle":
        shown &= _idle(tx, accounts, top, products, wanted.at)
    elif wanted.show == "closed":
        shown &= accounts.closed
    words = wanted.find.lower().split()
    if words:
        texts = accounts.searchable
        shown[[row for row in np.flatnonzero(shown).tolist() if any(word not in texts[row] for word in words)]] = False
    for level in reversed(tree.levels_down()):
        shown[tree.parent[level][shown[level]]] = True
    return branch[shown[branch]]


def _pressing(tx: Transaction, accounts: Accounts, top: int, products: Sequence[Product], at: datetime | None) -> Flags:
    """The accounts of a branch that are past a cap in one of these products."""

    def is_past(whole: Positions) -> Flags:
        found: Flags = whole.settled.load > whole.snapshot.grid.cap
        return found

    return _in_branch(tx, accounts, top, products, at, store.past_a_cap, kept.PAST_A_CAP, is_past)


def _idle(tx: Transaction, accounts: Accounts, top: int, products: Sequence[Product], at: datetime | None) -> Flags:
    """The accounts of a branch that hold a promise in one of these products that nobody uses."""

    def is_unused(whole: Positions) -> Flags:
        found: Flags = whole.settled.held > whole.settled.load
        return found

    return _in_branch(tx, accounts, top, products, at, store.promised_unused, kept.UNUSED, is_unused)


def _in_branch(
    tx: Transaction,
    accounts: Accounts,
    top: int,
    products: Sequence[Product],
    at: datetime | None,
    by_counters: Callable[[sa.Connection, list[int], sa.ColumnElement[bool]], list[int]],
    mark: int,
    by_positions: Callable[[Positions], Flags],
) -> Flags:
    """The accounts of a branch of which something holds in one of these products: by the counters, or the mark of a day
    that is kept, or, where neither tells, by positions."""
    pools = pools_service.pools(tx, products)
    if at is None and present.are_current(tx, pools):
        inside = accounts_service.in_branch(accounts, top, counters.c.account_id)
        return accounts.flagged(by_counters(tx.connection, [each.id for each in products], inside))
    branch, found = accounts.tree.branch(top), np.zeros(len(accounts.tree), dtype=bool)
    marked = None if at is None else kept.marked(tx, accounts, products, at, mark)
    if marked is not None:
        found[branch] = marked[branch]
        return found
    found[branch] = by_positions(whole_at(tx, products, at))[branch].any(axis=1)
    return found


def _positions(
    tx: Transaction, accounts: Accounts, top: int, window: Ints, products: Sequence[Product], at: datetime | None
) -> views.GridView:
    codes = accounts.tree.codes
    if at is None:
        whole = present.positions(tx, products, {top, *window.tolist()}, use=True)
    else:
        whole = on_day(tx, products, {codes[top], *(codes[row] for row in window.tolist())}, at)
    tree = whole.snapshot.accounts.tree
    here = tree.row(codes[top])
    rows = np.array([tree.row(codes[row]) for row in window.tolist()], dtype=np.int64)
    return views.view_of(whole, rows, here)


def on_day(tx: Transaction, products: Sequence[Product], codes: Collection[str], at: datetime) -> Positions:
    """Positions that have these accounts, at an instant: those and the ones above them, or, where the day is not kept,
    every account."""
    return kept.positions(tx, products, codes, at) or whole_at(tx, products, at)


_settled: Cache[Positions] = Cache(3, megabytes=48, at_once=1)
"""Days that are over, as they were settled: kept while nothing of them changes."""


def whole_at(tx: Transaction, products: Sequence[Product], at: datetime | None) -> Positions:
    """Positions of every account, now or at an instant; those of days that are over are kept."""
    if at is None:
        return settle_snapshot(present_snapshot(tx, products))
    if at >= accounts_service.start_of(tx, accounts_service.today(tx)):
        asked = f"positions of {[each.id for each in products]} at {at}"
        return tx.once(asked, lambda: settle_snapshot(snapshot_at(tx, products, at)))
    structure, day = generations.numbers(tx, "structure"), local_day(at, accounts_service.zone(tx))
    made_of = tuple(allocations_service.past(tx, each, day) for each in products)
    key = (tx.installation, structure, made_of, at, tuple(products))
    return _settled.get(key, lambda: settle_snapshot(snapshot_at(tx, products, at)))


def _differing(tx: Transaction, view: views.GridView, products: Sequence[Product], against: datetime | None) -> Flags:
    """Which cells of a window have other terms or amounts at another instant: rows of the window × products."""
    snapshot = view.positions.snapshot
    codes = [snapshot.accounts.tree.codes[row] for row in view.rows.tolist()]
    if against is None:
        known = accounts_service.known(tx)
        other = present.positions(tx, products, [known.tree.row(code) for code in codes if code in known.tree])
    else:
        other = on_day(tx, products, codes, against)
    there = other.snapshot.accounts.tree
    places = np.array([there.row(code) if code in there else -1 for code in codes], dtype=np.int64)
    return _differ(view.positions, view.rows, other, places)


def _differ(one: Positions, rows: Ints, other: Positions, places: Ints) -> Flags:
    """Which cells differ between rows of some positions and rows of others (-1 = not there): rows × products."""
    here, there = one.snapshot, other.snapshot
    differ = (here.owner[rows] >= 0) != ((there.owner[places] >= 0) & (places >= 0)[:, None])
    for mine, theirs in (
        (here.grid.reserve, there.grid.reserve),
        (here.grid.cap, there.grid.cap),
        (one.settled.load, other.settled.load),
    ):
        differ |= mine[rows] != theirs[places]
    differ |= (places < 0)[:, None]
    found: Flags = differ & (here.owner[rows] >= 0)
    return found


@dataclass(frozen=True)
class Difference:
    """One cell on two days: (reserve, cap, what is counted), in grains, None where the account had no pool."""

    account: str
    name: str
    product: Product
    before: tuple[int, int | None, int] | None
    after: tuple[int, int | None, int] | None


@dataclass(frozen=True)
class Differences:
    """How many cells differ between two days, and the first of them."""

    earlier: date
    later: date
    count: int
    cells: list[Difference]


def differences(
    tx: Transaction, actor: Actor, codes: Sequence[str] | None, on: date, against: date | None
) -> Differences:
    """The cells of a branch that are others on one day than on another (None = today), from the earlier to the
    later."""
    products, other_day = chosen_products(tx, codes), against or accounts_service.today(tx)
    one, other = (whole_at(tx, products, instant_of(tx, day)) for day in (on, against))
    tree, there = one.snapshot.accounts.tree, other.snapshot.accounts.tree
    rows = tree.branch(accounts_service.top_row(one.snapshot.accounts, actor))
    places = np.array([there.row(code) if code in there else -1 for code in (tree.codes[row] for row in rows)])
    differ = _differ(one, rows, other, places)
    found = []
    for at_row, column in np.argwhere(differ)[:MOST_DIFFERENCES].tolist():
        row, place = int(rows[at_row]), int(places[at_row])
        mine, theirs = _figures(one, row, column), _figures(other, place, column)
        pair = (mine, theirs) if on < other_day else (theirs, mine)
        code, name = tree.codes[row], one.snapshot.accounts.name(row)
        found.append(Difference(code, name, products[column], *pair))
    return Differences(min(on, other_day), max(on, other_day), int(differ.sum()), found)


def _figures(positions: Positions, row: int, column: int) -> tuple[int, int | None, int] | None:
    if row < 0 or positions.snapshot.owner[row, column] < 0:
        return None
    grid: Any = positions.snapshot.grid
    cap = int(grid.cap[row, column])
    load = int(positions.settled.load[row, column])
    return int(grid.reserve[row, column]), None if cap >= NO_LIMIT else cap, load
