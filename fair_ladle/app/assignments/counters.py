"""Counters as a figure derived from the facts: making them, and saying where they differ."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import replace
from datetime import datetime, timedelta
from typing import Any

import numpy as np

from fair_ladle.app.allocations.positions import Positions, positions_at, replayed_clocks
from fair_ladle.app.allocations.present import is_fresh
from fair_ladle.app.assignments import store
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.prepared import in_utc
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.usage import service as usage
from fair_ladle.core.allocations import AtCap
from fair_ladle.core.calendar import MICRO, day_start, instant, micros
from fair_ladle.core.clocks import clock_from
from fair_ladle.core.settling import NO_LIMIT

TICK = timedelta(microseconds=1)
LONGEST_FRESH = timedelta(hours=26)


def use_rows(found: Positions) -> list[dict[str, Any]]:
    """Σ own of every branch in its pool that follows from positions."""
    snapshot, used = found.snapshot, found.used()
    pool_at = {
        (int(row), int(column)): pool.id
        for row, column, pool in zip(snapshot.roots.rows, snapshot.roots.columns, snapshot.pools, strict=True)
    }
    ids = snapshot.accounts.ids.tolist()
    rows, columns = np.nonzero((snapshot.owner >= 0) & (used != 0))
    owners = snapshot.owner[rows, columns].tolist()
    return [
        {"pool_id": pool_at[owner, column], "account_id": ids[row], "used": figure}
        for row, column, owner, figure in zip(
            rows.tolist(), columns.tolist(), owners, used[rows, columns].tolist(), strict=True
        )
    ]


def counter_rows(found: Positions, cells: Iterable[tuple[int, int]] | None = None) -> list[dict[str, Any]]:
    """The counters that follow from positions: of these cells (row, column), or of all that a pool reaches."""
    snapshot, load = found.snapshot, found.settled.load
    tree, grid = snapshot.accounts.tree, snapshot.grid
    depth = np.repeat(np.arange(len(tree.level_start) - 1), np.diff(tree.level_start))
    place_of = {
        (int(row), int(column)): place
        for place, (row, column) in enumerate(zip(snapshot.roots.rows, snapshot.roots.columns, strict=True))
    }
    wanted = np.argwhere(snapshot.owner >= 0) if cells is None else np.array(list(cells), dtype=np.int64).reshape(-1, 2)
    at = (wanted[:, 0], wanted[:, 1])
    figures = zip(
        wanted.tolist(),
        depth[at[0]].tolist(),
        *(
            array[at].tolist()
            for array in (
                snapshot.owner,
                snapshot.own,
                load,
                grid.reserve,
                grid.cap,
                grid.burst,
                grid.grace,
                grid.overage,
                grid.present,
            )
        ),
        strict=True,
    )
    ids, parent = snapshot.accounts.ids.tolist(), tree.parent.tolist()
    rows = []
    for (row, column), deep, owner, own, loaded, reserve, cap, burst, grace, overage, present in figures:
        place = place_of[owner, column]
        clock = snapshot.clocks.get((row, column))
        at_cap = AtCap.GRACE if grace else AtCap.OVERAGE if overage else AtCap.BLOCK
        follows = grid.following.get((row, column))
        is_owner = owner == row
        rows.append(
            {
                "pool_id": snapshot.pools[place].id,
                "account_id": ids[row],
                "parent_id": None if is_owner else ids[parent[row]],
                "depth": deep,
                "own": own,
                "load": loaded,
                "reserve": 0 if is_owner else reserve,
                "cap": None if cap >= NO_LIMIT else cap,
                "at_cap": str(at_cap),
                "burst": None if burst >= NO_LIMIT else burst,
                "grace_days": snapshot.grace_days.get((row, column)),
                "allocated": present,
                "per": follows and follows.per,
                "each": follows and follows.each,
                "fixed": follows and follows.fixed,
                "past_cap_since": None if clock is None else instant(clock.since),
                "promisable": int(snapshot.supply.promisable[place]) if is_owner else None,
                "physical": int(snapshot.supply.physical[place]) if is_owner else None,
            }
        )
    return rows


def rebuild(tx: Transaction, products: Sequence[Product], also_fresh: bool = False) -> int:
    """Make the counters of these products' stale pools anew from the facts; how many rows were written.

    Locks every counter of the pools first: whoever takes or releases is before or after, never between. What
    is stored is brought up to the present under the same locks.
    """
    pools = pools_service.pools(tx, products)
    if not pools:
        return 0
    ids = [pool.id for pool in pools]
    if not also_fresh and all(is_fresh(row.fresh_until, tx.now) for row in store.read_pool_rows(tx.connection, ids)):
        return 0
    there = {(row.pool_id, row.account_id): row for row in store.lock_pools(tx.connection, ids)}
    now = tx.now
    fresh = {row.id: row.fresh_until for row in store.lock_pool_rows(tx.connection, ids)}
    if not also_fresh and all(is_fresh(until, now) for until in fresh.values()):
        return 0
    for product in [] if tx.is_rehearsal else products:
        if product.is_storage:
            usage.take_in(tx, product)  # or what is written from now on would be rounded without it
    found = positions_at(tx, products, now)
    written = store.replace(tx.connection, there, counter_rows(found))
    store.put_use(tx.connection, ids, use_rows(found))
    tomorrow = instant(day_start(found.snapshot.day + timedelta(days=1), found.snapshot.zone) * MICRO)
    backed = found.snapshot.supply.is_backed(found.pool_load())
    for place, pool in enumerate(found.snapshot.pools):
        change = usage.next_change(tx, [pool.product], now)
        until = min(tomorrow, change) if change else tomorrow
        store.set_fresh(tx.connection, pool.id, until, bool(backed[place]))
    return written


def follow(tx: Transaction, before: Positions, after: Positions) -> int:
    """Let locked counters that hold follow other allocations over the same tree and pools; how many were written.

    Only what differs is written, and only its clocks are replayed from the facts.
    """
    was, now = before.snapshot, after.snapshot
    differs = (before.settled.load != after.settled.load) | (was.own != now.own)
    for name in ("reserve", "cap", "burst", "grace", "overage", "present"):
        differs |= getattr(was.grid, name) != getattr(now.grid, name)
    for cell in was.grid.following.keys() | now.grid.following.keys():
        differs[cell] |= was.grid.following.get(cell) != now.grid.following.get(cell)
    for cell in was.grace_days.keys() | now.grace_days.keys():
        differs[cell] |= was.grace_days.get(cell) != now.grace_days.get(cell)
    differs &= now.owner >= 0
    kept = {cell: clock for cell, clock in was.clocks.items() if not differs[cell]}
    clocks = kept | replayed_clocks(tx, now, differs)
    cells = np.argwhere(differs)
    rows = counter_rows(replace(after, snapshot=replace(now, clocks=clocks)), [(int(r), int(c)) for r, c in cells])
    store.keep(tx.connection, rows)
    backed = now.supply.is_backed(after.pool_load())
    for place, pool in enumerate(now.pools):
        if differs[now.roots.rows[place], now.roots.columns[place]]:
            store.set_backed(tx.connection, pool.id, bool(backed[place]))
    return len(rows)


def _was_made(until: datetime | None, now: datetime) -> bool:
    return until is not None and until <= now + LONGEST_FRESH


def differences(tx: Transaction) -> list[tuple[str, str, str, str]]:
    """Every counter that is not what the facts make it: (what, where, found, evidence).

    Counters known to be stale are compared with the facts of the last instant for which they hold.
    """
    found: list[tuple[str, str, str, str]] = []
    for product in pools_service.products(tx):
        pools = pools_service.pools(tx, [product])
        ids = [pool.id for pool in pools]
        if not ids:
            continue
        there = {(row.pool_id, row.account_id): row for row in store.read_pools(tx.connection, ids)}
        fresh = {row.id: row.fresh_until for row in store.read_pool_rows(tx.connection, ids)}
        known = {each: min(tx.now, until - TICK) for each, until in fresh.items() if until and _was_made(until, tx.now)}
        if known:
            found.extend(_compare(tx, product, there, set(known), min(known.values())))
    return found


def _compare(
    tx: Transaction, product: Product, there: dict[tuple[int, int], Any], pool_ids: set[int], at: datetime
) -> list[tuple[str, str, str, str]]:
    positions = positions_at(tx, [product], at)
    code_of = {
        int(each): code
        for each, code in zip(positions.snapshot.accounts.ids, positions.snapshot.accounts.tree.codes, strict=True)
    }
    zone = positions.snapshot.zone
    found = _compare_use(tx, product, positions, code_of, pool_ids)
    for row in counter_rows(positions):
        if row["pool_id"] not in pool_ids:
            continue
        place = f"{product.code} {code_of[row['account_id']]}"
        counter = there.get((row["pool_id"], row["account_id"]))
        if counter is None:
            found.append(("counter", place, "missing", f"own {row['own']}, load {row['load']}"))
            continue
        # A cap that follows seats is made up anew whenever it is read.
        cap = "fixed" if row["per"] is not None else "cap"
        for name in ("own", "load", "reserve", cap, "allocated", "promisable", "physical", "per", "each"):
            if getattr(counter, name) != row[name]:
                found.append((f"counter: {name}", place, str(getattr(counter, name)), str(row[name])))

        def deadline(since: datetime | None, days: int | None) -> str:
            return "none" if since is None else str(clock_from(micros(since), days or 0, zone).deadline_day)

        mine, facts = (
            deadline(counter.past_cap_since, counter.grace_days),
            deadline(row["past_cap_since"], row["grace_days"]),
        )
        if mine != facts:
            found.append(("counter: grace deadline", place, mine, facts))
    return found


def _compare_use(
    tx: Transaction, product: Product, positions: Positions, code_of: dict[int, str], pool_ids: set[int]
) -> list[tuple[str, str, str, str]]:
    facts = {(row["pool_id"], row["account_id"]): row["used"] for row in use_rows(positions)}
    kept: dict[tuple[int, int], int] = defaultdict(int)
    tree, accounts = positions.snapshot.accounts.tree, positions.snapshot.accounts
    owner_of = {pool.id: pool.owner_id for pool in positions.snapshot.pools}
    for pool_id, account_id, figure, is_change in store.use_of(tx.connection, pool_ids):
        way = tree.path_up(accounts.row_of_id[account_id]) if account_id in accounts.row_of_id else []
        for row in way if is_change else way[:1]:
            kept[pool_id, int(accounts.ids[row])] += figure
            if int(accounts.ids[row]) == owner_of[pool_id]:
                break
    return [
        ("use of a branch", f"{product.code} {code_of[at[1]]}", str(kept.get(at, 0)), str(facts.get(at, 0)))
        for at in sorted(facts.keys() | kept.keys())
        if at[0] in pool_ids and kept.get(at, 0) != facts.get(at, 0)
    ]


def is_restricted(counter: Any, now: datetime, zone: Any) -> bool:
    """Whether a counter's grace has run out."""
    if counter.past_cap_since is None or counter.at_cap != AtCap.GRACE:
        return False
    return clock_from(micros(in_utc(counter.past_cap_since)), counter.grace_days or 0, zone).is_over(micros(now))
