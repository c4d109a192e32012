"""Counters of caps that follow seats, brought up to the seats there are."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Sequence
from datetime import datetime
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.allocations import present
from fair_ladle.app.allocations.positions import replayed_clocks
from fair_ladle.app.assignments import store
from fair_ladle.app.assignments.walk import caps_now
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.core.allocations import AtCap
from fair_ladle.core.calendar import instant


def follow_seats(tx: Transaction, products: Collection[str] | None = None) -> int:
    """Let the counters of caps that follow seats of these products (codes; None = of any) say what their caps are now,
    and begin or end their clocks; how many were written. Who reads such a cap makes it up anew all the same: this is
    for what is found by it.

    Locks: the counters that differ, pool by pool, the deeper account first.
    """
    wanted: dict[int, dict[int, set[int]]] = defaultdict(lambda: defaultdict(set))
    by_pool: dict[int, list[Any]] = defaultdict(list)
    for row in store.followers(tx.connection, products):
        by_pool[row.pool_id].append(row)
    for pool_id, rows in by_pool.items():
        caps = caps_now(tx, pool_id, rows)
        for row in rows:
            if row.cap != caps[row.account_id] or _clock_is_other(row, caps[row.account_id]):
                wanted[pool_id][row.depth].add(row.account_id)
    by_id = {pool.id: pool for pool in pools_service.pools(tx, pools_service.products(tx))} if wanted else {}
    written = 0
    for pool_id, levels in sorted(wanted.items()):
        locked = [
            row for depth in sorted(levels, reverse=True) for row in store.lock(tx.connection, pool_id, levels[depth])
        ]
        caps = caps_now(tx, pool_id, locked)
        late = [row.account_id for row in locked if _clock_is_other(row, caps[row.account_id])]
        begun = _clocks_from_facts(tx, by_id[pool_id].product, late)
        rows = [
            {
                "pool_id": pool_id,
                "account_id": row.account_id,
                "cap": caps[row.account_id],
                "past_cap_since": begun.get(row.account_id) if row.account_id in late else row.past_cap_since,
            }
            for row in locked
            if row.account_id in caps
        ]
        store.keep(tx.connection, rows)
        written += len(rows)
    return written


def _clock_is_other(counter: Any, cap: int) -> bool:
    return bool(counter.at_cap == AtCap.GRACE and (counter.load > cap) != (counter.past_cap_since is not None))


def _clocks_from_facts(tx: Transaction, product: Product, account_ids: Sequence[int]) -> dict[int, datetime]:
    """Since when the clocks of these accounts run, by account: the instant of the fact that began them."""
    accounts = accounts_service.known(tx)
    rows = [accounts.row_of_id[each] for each in account_ids if each in accounts.row_of_id]
    part = present.part(tx, [product], rows) if rows else None
    if part is None:
        return {}
    found = replayed_clocks(tx, part)
    return {int(part.accounts.ids[row]): instant(clock.since) for (row, _), clock in found.items()}
