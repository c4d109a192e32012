"""What the screens ask of positions: the grid of a branch, and one cell with its ladder."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime, timedelta

import numpy as np

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.allocations import kept, present, store
from fair_ladle.app.allocations.ahead import KeptAhead
from fair_ladle.app.allocations.positions import Positions, positions_at, settle_snapshot, snapshot_at
from fair_ladle.app.allocations.rows import VersionRecord
from fair_ladle.app.allocations.snapshots import chosen_products, instant_of, present_snapshot
from fair_ladle.app.log import service as log_service
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import not_found
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Pool, Product
from fair_ladle.core.calendar import local_day
from fair_ladle.core.costing import supply_on
from fair_ladle.core.settling import NO_LIMIT, pool_of
from fair_ladle.core.tree import Ints

HORIZON = timedelta(days=90)
MOST_CELLS, ROWS_AT_ONCE = 5000, 500
SMALL_BRANCH = 500
"""Of so many accounts at most the counters are read one by one; beyond, arrays over the whole tree are quicker."""


@dataclass(frozen=True)
class Ending:
    """Lots of a pool that end on a day, what that leaves uncovered, and what is held then (grains)."""

    day: date
    quantity: int
    references: tuple[str, ...]
    uncovered: int
    held: int


@dataclass(frozen=True)
class GridView:
    """A branch's positions: rows in tree order; ``next_ending`` by product column for the pools of the top."""

    positions: Positions
    rows: Ints
    top: int
    endings: dict[int, Ending]


def grid(
    tx: Transaction,
    actor: Actor,
    codes: Sequence[str] | None = None,
    at: datetime | None = None,
    accounts: Sequence[str] = (),
) -> GridView:
    """The positions of the actor's branch, or of some accounts of it, now or at an instant."""
    products = chosen_products(tx, codes)
    if at is None:
        whole = _present_branch(tx, actor, products, accounts)
    else:
        whole = settle_snapshot(snapshot_at(tx, products, at))
    snapshot = whole.snapshot
    top = accounts_service.top_row(snapshot.accounts, actor)
    rows = snapshot.accounts.tree.branch(top)
    if accounts:
        named = [accounts_service.row_in_scope(snapshot.accounts, actor, code) for code in accounts]
        rows = rows[np.isin(rows, named)]
    return view_of(whole, rows, top)


def view_of(whole: Positions, rows: Ints, top: int) -> GridView:
    """Some rows of positions as whoever runs the branch of ``top`` sees them."""
    found = whole.seen_by(top)
    columns = range(len(whole.snapshot.products))
    endings = {column: ending for column in columns if (ending := _next_ending(found, top, column))}
    return GridView(found, rows, top, endings)


def parts(
    tx: Transaction,
    actor: Actor,
    codes: Sequence[str] | None = None,
    on: date | None = None,
    at: datetime | None = None,
    accounts: Collection[str] | None = None,
) -> Iterator[GridView]:
    """The grid now, as of a day or at an instant (of these accounts, if said), some hundreds of rows at a time."""
    whole = grid(tx, actor, codes, at or instant_of(tx, on))
    positions = whole.positions
    whole = replace(whole, positions=replace(positions, use=positions.used()))
    rows, tree = whole.rows, positions.snapshot.accounts.tree
    if accounts is not None:
        rows = np.array([row for row in rows.tolist() if tree.codes[row] in accounts], dtype=np.int64)
    for start in range(0, len(rows), ROWS_AT_ONCE):
        yield replace(whole, rows=rows[start : start + ROWS_AT_ONCE])


def _present_branch(tx: Transaction, actor: Actor, products: Sequence[Product], codes: Sequence[str]) -> Positions:
    """What is now: of the actor's branch (or some accounts of it) and those above where that is a small part of the
    tree, else of all."""
    accounts = accounts_service.known(tx)
    rows = accounts.tree.branch(accounts_service.top_row(accounts, actor))
    if codes:
        rows = np.array([accounts_service.row_in_scope(accounts, actor, code) for code in codes], dtype=np.int64)
    if len(rows) <= SMALL_BRANCH:
        return present.positions(tx, products, rows.tolist(), use=True)
    return settle_snapshot(present_snapshot(tx, products))


def _next_ending(found: Positions, top: int, column: int) -> Ending | None:
    snapshot = found.snapshot
    place = found.pool_at(top, column)
    if place < 0 or int(snapshot.owner[top, column]) != top:
        return None
    pool, load, used = snapshot.pools[place], int(found.pool_load()[place]), int(found.pool_used()[place])
    return next(iter(endings(pool, snapshot.day, load, used)), None)


def endings(pool: Pool, day: date, load: int, used: int, ahead: KeptAhead | None = None) -> list[Ending]:
    """The days within the horizon after a day on which lots of a pool, whose owner holds and uses so many grains, are
    gone, with what that leaves uncovered.

    Uncovered: what the pool's branch holds then, as far as it is known (without ``ahead``: what it holds now), beyond
    what the lots then give.
    """
    lots = pool.lots
    last_days = sorted({lot.last_day for lot in lots if lot.last_day and day <= lot.last_day <= day + HORIZON})
    result = []
    for last_day in last_days:
        ending = [lot for lot in lots if lot.last_day == last_day]
        then = supply_on(lots, last_day + timedelta(days=1))
        held, in_use = (0, 0) if ahead is None else ahead.more(pool, last_day + timedelta(days=1))
        result.append(
            Ending(
                last_day,
                sum(lot.quantity for lot in ending),
                tuple(lot.reference for lot in ending),
                then.shortfall(load + held, used + in_use),
                load + held,
            )
        )
    return result


@dataclass(frozen=True)
class Cell:
    """One account in one pool, with everything the ladder needs."""

    positions: Positions
    row: int
    version: VersionRecord | None
    """The allocation version in force (a row of the table), or None."""
    may_change: bool
    most_reserve: int


def cell(tx: Transaction, actor: Actor, account: str, product: str, at: datetime | None = None) -> Cell:
    """One account in one pool, now or at an instant."""
    wanted = pools_service.product(tx, product)
    known = accounts_service.known(tx)
    whole = (
        present.positions(tx, [wanted], [accounts_service.row_in_scope(known, actor, account)])
        if at is None
        else kept.positions(tx, [wanted], [account], at) or positions_at(tx, [wanted], at)
    )
    snapshot = whole.snapshot
    found = whole.seen_by(accounts_service.top_row(snapshot.accounts, actor))
    row = accounts_service.row_in_scope(snapshot.accounts, actor, account)
    if snapshot.owner[row, 0] < 0:
        raise not_found("pool of the product here", product)
    rows = store.versions(tx.connection, [wanted.id], snapshot.day, snapshot.day, [int(snapshot.accounts.ids[row])])
    top = accounts_service.top_row(snapshot.accounts, actor)
    return Cell(
        found, row, rows[0] if rows else None, may_change(found, top, row, 0), int(found.most_reserve()[row, 0])
    )


def may_change(found: Positions, top: int, row: int, column: int) -> bool:
    """Whether who runs the branch below ``top`` may change an allocation: its top's own only where it owns the pool."""
    return row != top or int(found.snapshot.owner[row, column]) == row


def visible_bound(found: Positions, rows: Ints, column: int) -> list[str | None]:
    """For these rows of the branch that the positions are seen from, which limit binds: an account's code,
    ``supply``, or None where nothing in sight limits."""
    codes = found.snapshot.accounts.tree.codes
    names: list[str | None] = []
    for row in rows.tolist():
        bound = int(found.headroom.bound_by[row, column])
        unlimited = visible_room(int(found.headroom.room[row, column])) is None
        names.append(None if unlimited else codes[bound] if bound >= 0 else "supply")
    return names


def visible_room(room: int) -> int | None:
    """Headroom as it is shown; None where nothing in sight limits."""
    return None if room >= NO_LIMIT // 2 else room


@dataclass(frozen=True)
class TermsInForce:
    """What stands in one cell now (``version``: a row of the table, or None); ``fixed`` says why it cannot be
    changed."""

    account: str
    product: str
    version: VersionRecord | None
    owner: bool
    reached: bool
    fixed: str | None


def terms(tx: Transaction, actor: Actor, cells: Sequence[tuple[str, str]]) -> list[TermsInForce]:
    """The allocations in force in many cells of the branch, in their order."""
    products = chosen_products(tx, [product for _, product in cells])
    column = {each.code: place for place, each in enumerate(products)}
    known, day = accounts_service.known(tx), accounts_service.today(tx)
    accounts = known.part([accounts_service.row_in_scope(known, actor, account) for account, _ in cells])
    roots, _ = pools_service.layout(accounts, pools_service.pools_of(tx, products, accounts.row_of_id), products)
    owners = pool_of(accounts.tree, roots, len(products))
    top = accounts_service.top_row(accounts, actor)
    rows = [accounts.tree.row(account) for account, _ in cells]
    there = {
        (row.account_id, row.product_id): row
        for row in store.versions(
            tx.connection, [each.id for each in products], day, day, {int(accounts.ids[row]) for row in rows}
        )
    }
    found = []
    for row, (account, product) in zip(rows, cells, strict=True):
        at = column[product]
        owner = int(owners[row, at])
        fixed = None
        if owner < 0:
            fixed = f"No pool of {products[at].name} reaches {accounts.name(row)}."
        elif row == top and owner != row:
            fixed = f"What {accounts.name(row)} gets is its parent's to give."
        found.append(
            TermsInForce(
                account,
                product,
                there.get((int(accounts.ids[row]), products[at].id)),
                owner == row,
                owner >= 0,
                fixed,
            )
        )
    return found


@dataclass(frozen=True)
class HistoryEntry:
    """A version of an allocation, with who made it, when and through what; by None = it came with an intake."""

    version: VersionRecord
    by: str | None
    at: datetime | None
    through: str | None


def history(tx: Transaction, actor: Actor, account: str, product: str) -> list[HistoryEntry]:
    """Every version of one allocation, past and ahead, the newest first."""
    found = cell(tx, actor, account, product)
    snapshot, wanted = found.positions.snapshot, found.positions.snapshot.products[0]
    account_id = int(snapshot.accounts.ids[found.row])
    made = {}
    for each in log_service.about(tx, actor, account_id, "allocation changed", product):
        made[local_day(each.at, snapshot.zone)] = each
    since = snapshot.accounts.since(found.row, accounts_service.top_row(snapshot.accounts, actor))
    entries = []
    for version in reversed(store.versions(tx.connection, [wanted.id], since, None, [account_id])):
        entry = made.get(version.first_day)
        entries.append(
            HistoryEntry(
                version,
                entry.actor if entry else None,
                entry.at if entry else None,
                (entry.after or {}).get("through") if entry else None,
            )
        )
    return entries
