"""What is now, from the counters: of a few accounts and those above them, whatever the size of the tree; and what is in
use everywhere, as arrays.

Counters hold until the next instant at which something turns by itself. Where a pool's hold no longer (a job makes them
anew within the minute), the same comes from the facts.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import replace
from datetime import datetime, timedelta

import numpy as np

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.accounts.tables import accounts as accounts_table
from fair_ladle.app.allocations import seats, store
from fair_ladle.app.allocations.positions import (
    Positions,
    Snapshot,
    frame_of,
    positions_at,
    settle_snapshot,
    with_seats,
)
from fair_ladle.app.allocations.tables import counters
from fair_ladle.app.plumbing.database import Transaction, batched
from fair_ladle.app.plumbing.prepared import in_utc
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Pool, Product
from fair_ladle.app.usage import service as usage
from fair_ladle.core.allocations import AtCap, Follows, Grid
from fair_ladle.core.calendar import MICRO, local_day, micros
from fair_ladle.core.clocks import GraceClock, clock_from
from fair_ladle.core.settling import NO_LIMIT, Roots, pool_of
from fair_ladle.core.tree import Ints

LONGEST_FRESH_SECONDS = 26 * 3600
LARGE_BRANCH = 2000
"""Of more accounts what presses is looked for among all that presses, of fewer among the accounts."""


def is_fresh(until: datetime | None, now: datetime) -> bool:
    """Whether counters that hold until an instant can be trusted. They are made for a day at most: one further ahead
    was written by a clock that had jumped."""
    return until is not None and 0 < (in_utc(until) - now).total_seconds() <= LONGEST_FRESH_SECONDS


def counters_hold(tx: Transaction, pool_ids: Ints, until: Ints) -> bool:
    """Whether all of these pools' counters hold now, given until when they do (µs)."""
    ahead = until - micros(tx.now)
    if not ((ahead > 0) & (ahead <= LONGEST_FRESH_SECONDS * MICRO)).all():
        return False
    tx.once("are fresh", dict).update(dict.fromkeys(pool_ids.tolist(), True))
    return True


def are_current(tx: Transaction, pools: Iterable[Pool], read: Mapping[int, datetime | None] | None = None) -> bool:
    """Whether all counters of these pools hold now. What is only tried out has copies of some, which nobody keeps.

    ``read``: until when those of some pools (by number) hold, as it was read along with them.
    """
    if tx.is_rehearsal:
        return False
    now, ids = tx.now, {pool.id for pool in pools}
    known: dict[int, bool] = tx.once("are fresh", dict)
    known.update({each: is_fresh(until, now) for each, until in (read or {}).items()})
    unknown = ids - known.keys()
    if unknown:
        stale = store.not_holding(tx.connection, unknown, now, now + timedelta(seconds=LONGEST_FRESH_SECONDS))
        known.update({each: each not in stale for each in unknown})
    return all(known[each] for each in ids)


def snapshot(tx: Transaction, products: Sequence[Product]) -> Snapshot | None:
    """The present of the whole tree in the pools of these products; None where the counters do not tell."""
    now = tx.now
    frame = frame_of(tx, products, now)
    if not are_current(tx, frame.pools):
        return None
    own, clocks = np.zeros_like(frame.own), dict[tuple[int, int], GraceClock]()
    column = {product.id: place for place, product in enumerate(products)}
    column_of = {pool.id: column[pool.product.id] for pool in frame.pools}
    found = store.own_and_clocks(tx.connection, list(column_of))
    if found:
        pool_ids, account_ids, used, _, _ = zip(*found, strict=True)
        try:
            rows = frame.accounts.rows(np.array(account_ids, dtype=np.int64))
        except KeyError:  # the accounts are others by now
            return None
        columns = np.array([column_of[each] for each in pool_ids], dtype=np.int64)
        own[rows, columns] = np.array(used, dtype=np.int64)
        for place, each in enumerate(found):
            if each.past_cap_since is not None:
                clock = _clock(each.past_cap_since, each.grace_days, frame)
                clocks[int(rows[place]), int(columns[place])] = clock
    found_seats = with_seats(
        tx, replace(frame, at=now, own=own, clocks=clocks), lambda per: _own_of(tx, frame, per, now)
    )
    return _with_clocks_of_followers(found_seats)


def _own_of(tx: Transaction, frame: Snapshot, products: Sequence[Product], now: datetime) -> Ints:
    """What is in use of other products, by account: from their counters where these hold."""
    found = snapshot(tx, products)
    same = found is not None and found.accounts.tree is frame.accounts.tree
    return found.own if found is not None and same else usage.own_at(tx, frame.accounts, products, now)


def _with_clocks_of_followers(snapshot: Snapshot) -> Snapshot:
    """Where a cap follows seats the counter's clock may be a moment behind: none runs within the cap, and one that is
    not begun begins now."""
    if not any(snapshot.grid.grace[cell] for cell in snapshot.grid.following):
        return snapshot
    load = settle_snapshot(snapshot).settled.load
    clocks = dict(snapshot.clocks)
    for cell in snapshot.grid.following:
        if not snapshot.grid.grace[cell] or load[cell] <= snapshot.grid.cap[cell]:
            clocks.pop(cell, None)
        elif cell not in clocks:
            clocks[cell] = clock_from(micros(snapshot.at), snapshot.grace_days.get(cell, 0), snapshot.zone)
    return replace(snapshot, clocks=clocks)


def positions(
    tx: Transaction,
    products: Sequence[Product],
    rows: Collection[int],
    use: bool = False,
    only: Collection[tuple[int, int]] | None = None,
    known_use: Mapping[tuple[int, int], int] | None = None,
) -> Positions:
    """The present of these accounts (rows of today's tree) and of those above them, as a small tree of their own.

    ``use``: with Σ own of every account's branch; else of the pools alone. ``only``: of some cells (pool, account), of
    those above them and of the owners of their pools; where counters tell, what else there is counts but is not there.
    ``known_use``: Σ own by pool and account, as far as it has been read.
    """
    found = part(tx, products, rows, use, only, known_use)
    return positions_at(tx, products, tx.now) if found is None else settle_snapshot(found)


def part(
    tx: Transaction,
    products: Sequence[Product],
    rows: Collection[int],
    use: bool | None = False,
    only: Collection[tuple[int, int]] | None = None,
    known_use: Mapping[tuple[int, int], int] | None = None,
) -> Snapshot | None:
    """The present facts of these accounts (rows of today's tree) and of those above them, as a small tree of their own,
    with what counts of all others; None where the counters do not tell. ``use``: None where nobody asks for Σ own of
    any. The rest as in ``positions``."""
    whole, now = accounts_service.known(tx), tx.now
    accounts = whole.part(rows)
    day = local_day(now, accounts_service.zone(tx))
    every = pools_service.pools_of(tx, products, accounts.row_of_id)
    roots, pools = pools_service.layout(accounts, every, list(products))
    owner = pool_of(accounts.tree, roots, len(products))
    cells = _cells(accounts, roots, pools, owner)
    if only is not None:
        cells = _with_those_above(cells, accounts, owner, only)
    found = None if tx.is_rehearsal else _read(tx, owner.shape, cells)
    if found is None:
        return None
    own, load, grid, days, clocks, follow, fresh = found
    if not are_current(tx, pools, fresh):
        return None
    of_owners = {key: at for key, at in cells.items() if owner[at] == at[0]}
    snapshot = Snapshot(
        now,
        day,
        accounts_service.zone(tx),
        accounts,
        tuple(products),
        tuple(pools),
        roots,
        owner,
        pools_service.in_order(pools_service.supplies(tx, pools, day)),
        own,
        grid,
        days,
        clocks,
    )
    wanted = {} if use is None else cells if use else of_owners
    plan = seats.asked(tx, follow)
    owner_of = {pool.id: pool.owner_id for pool in pools} | plan.owner_of
    there = known_use or {}
    unread = {*wanted, *plan.signs} - there.keys()
    every_use = {**there, **(seats.branch_use(tx, whole, unread, owner_of) if unread else {})}
    grid.follow({follow[each]: figure for each, figure in plan.counted(follow, every_use).items()})
    used = np.zeros(owner.shape, dtype=np.int64)
    for key, at in wanted.items():
        used[at] = every_use[key]
    return _with_clocks_of_followers(snapshot.as_part(load, used))


def past_caps(
    tx: Transaction, products: Sequence[Product], cells: Collection[tuple[int, int]]
) -> dict[tuple[int, int], int] | None:
    """By how many grains the branches of accounts use more of one of these products than their cap, by account and
    product (numbers); None where the counters do not tell."""
    pools = pools_service.pools(tx, products)
    if not are_current(tx, pools):
        return None
    read = [row for keys in batched(cells) for row in store.caps_of(tx.connection, keys)]
    drawn = {pool_id for pool_id, *_ in read}
    owner_of = {pool.id: pool.owner_id for pool in pools if pool.id in drawn}
    use = seats.branch_use(tx, accounts_service.known(tx), {(pool, account) for pool, account, *_ in read}, owner_of)
    return {(account, product): max(0, use[pool, account] - cap) for pool, account, product, cap in read}


def held_beside(tx: Transaction, snapshot: Snapshot, top: int) -> HeldBeside:
    """What the accounts directly below a pool's owner hold that are not in this part of the tree, for the pools owned
    in the branch of a row."""
    whole, tree = accounts_service.known(tx), snapshot.accounts.tree
    inside = set(tree.branch(top).tolist())
    found: HeldBeside = {}
    for place, pool in enumerate(snapshot.pools):
        owner = int(snapshot.roots.rows[place])
        if owner in inside:
            rows = store.held_below(tx.connection, pool.id, pool.owner_id, tree.depth(owner) + 1)
            codes = ((whole.tree.codes[whole.row_of_id[each.account_id]], int(each.held)) for each in rows)
            found[tree.codes[owner], pool.product.code] = [each for each in codes if each[0] not in tree]
    return found


HeldBeside = dict[tuple[str, str], list[tuple[str, int]]]
"""By a pool's owner and product (codes): accounts directly below the owner (codes), and what each holds, in grains."""


def pressed(
    tx: Transaction, accounts: Accounts, row: int, products: Sequence[Product], limit: int
) -> tuple[int, int, set[tuple[int, int]]] | None:
    """How many accounts of a branch are over a cap, and near one, once for each pool, and the cells (pool, account) of
    those that press most (at least so many of each kind); None where the counters do not tell."""
    pools = pools_service.pools(tx, products)
    if not are_current(tx, pools):
        return None
    ids = [each.id for each in products]
    is_large = int(accounts.tree.branch_size[row]) > LARGE_BRANCH
    account_id = counters.c.account_id if is_large else accounts_table.c.id
    inside = accounts_service.in_branch(accounts, row, account_id)
    over, near, cells = store.pressed(tx.connection, ids, inside, is_large, limit)
    return over, near, {each for each in cells if each[1] in accounts.row_of_id}


Part = tuple[
    Ints,
    Ints,
    Grid,
    dict[tuple[int, int], int],
    dict[tuple[int, int], GraceClock],
    dict[seats.Followed, tuple[int, int]],
    dict[int, datetime | None],
]
Cells = dict[tuple[int, int], tuple[int, int]]
"""Row and column of a part by pool and account."""


def _cells(accounts: Accounts, roots: Roots, pools: Sequence[Pool], owner: Ints) -> Cells:
    at = zip(roots.rows.tolist(), roots.columns.tolist(), strict=True)
    pool_at = {cell: pool.id for cell, pool in zip(at, pools, strict=True)}
    ids = accounts.ids.tolist()
    rows, columns = np.nonzero(owner >= 0)
    owners = owner[rows, columns].tolist()
    return {
        (pool_at[above, column], ids[row]): (row, column)
        for row, column, above in zip(rows.tolist(), columns.tolist(), owners, strict=True)
    }


def _with_those_above(cells: Cells, accounts: Accounts, owner: Ints, only: Collection[tuple[int, int]]) -> Cells:
    """Some of these cells, and those above them up to the owners of the pools they are in."""
    wanted = set()
    for row, column in (cells[key] for key in only if key in cells):
        top, at = int(owner[row, column]), row
        while at != top and (at, column) not in wanted:
            wanted.add((at, column))
            at = int(accounts.tree.parent[at])
        wanted.add((top, column))
    return {key: at for key, at in cells.items() if at in wanted}


def _read(tx: Transaction, shape: tuple[int, ...], cells: Cells) -> Part | None:
    own, load, grid = np.zeros(shape, dtype=np.int64), np.zeros(shape, dtype=np.int64), Grid.empty(*shape)
    days: dict[tuple[int, int], int] = {}
    clocks: dict[tuple[int, int], GraceClock] = {}
    zone = accounts_service.zone(tx)
    follow: dict[seats.Followed, tuple[int, int]] = {}
    read = [row for keys in batched(cells) for row in store.counters_of(tx.connection, keys)]
    if not read:
        return None if cells else (own, load, grid, days, clocks, follow, {})
    places = [cells[row.pool_id, row.account_id] for row in read]
    at = tuple(np.array(places).T)
    own[at], load[at] = [row.own for row in read], [row.load for row in read]
    grid.reserve[at] = [row.reserve for row in read]
    grid.cap[at] = [NO_LIMIT if row.cap is None else row.cap for row in read]
    grid.burst[at] = [NO_LIMIT if row.burst is None else row.burst for row in read]
    grid.grace[at] = [row.at_cap == AtCap.GRACE for row in read]
    grid.overage[at] = [row.at_cap == AtCap.OVERAGE for row in read]
    grid.present[at] = [row.allocated for row in read]
    for row, place in zip(read, places, strict=True):
        if row.per is not None and row.fixed is not None and row.each is not None:
            grid.following[place] = Follows(row.fixed, row.each, row.per)
            follow[row.pool_id, row.account_id, row.per] = place
        if row.grace_days is not None:
            days[place] = row.grace_days
        if row.past_cap_since is not None and row.at_cap == AtCap.GRACE:
            clocks[place] = clock_from(micros(in_utc(row.past_cap_since)), row.grace_days or 0, zone)
    return own, load, grid, days, clocks, follow, fresh_until({row.pool_id: row.fresh_until for row in read})


def fresh_until(said: Mapping[int, str | None]) -> dict[int, datetime | None]:
    """Until when counters hold, by pool, as it is read along with them."""
    return {pool: None if until is None else in_utc(datetime.fromisoformat(until)) for pool, until in said.items()}


def _clock(since: datetime, days: int | None, frame: Snapshot) -> GraceClock:
    return clock_from(micros(in_utc(since)), days or 0, frame.zone)
