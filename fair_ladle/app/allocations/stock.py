"""What pools hold and what of them is in use now, pool by pool, without what stands below them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.allocations import present, seats, store
from fair_ladle.app.allocations.positions import positions_at
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Pool, Product
from fair_ladle.core.tree import Ints

NOTHING: Ints = np.zeros(0, dtype=np.int64)


@dataclass(frozen=True)
class Stock:
    """Pools, with their owners' rows in today's tree, what these hold (load) and Σ own of each, in grains: by owner
    and product."""

    pools: list[Pool]
    rows: list[int]
    load: Ints
    used: Ints


def pools_below(tx: Transaction, products: Sequence[Product], top: int) -> list[tuple[int, Pool]]:
    """The pools of these products that begin in the branch of a row, each with its owner's: by owner and product."""
    known, every = accounts_service.known(tx), pools_service.pools(tx, products)
    inside = [each for each in every if known.tree.is_inside(known.row_of_id[each.owner_id], top)]
    roots, pools = pools_service.layout(known, inside, list(products))
    return list(zip(roots.rows.tolist(), pools, strict=True))


def stock(tx: Transaction, products: Sequence[Product], top: int) -> Stock:
    """What the pools of these products have that begin in the branch of a row."""
    return stock_of(tx, products, pools_below(tx, products, top))


def stock_of(tx: Transaction, products: Sequence[Product], wanted: Sequence[tuple[int, Pool]]) -> Stock:
    """What these pools (of these products) have, each with its owner's row: by their owners' counters, or, where these
    do not tell, by the facts."""
    known, rows, pools = accounts_service.known(tx), [row for row, _ in wanted], [pool for _, pool in wanted]
    if not pools:
        return Stock([], [], NOTHING, NOTHING)
    read = [] if tx.is_rehearsal else store.loads_of_owners(tx.connection, [each.id for each in pools])
    fresh = present.fresh_until({each.pool_id: each.fresh_until for each in read})
    if len(fresh) == len(pools) and present.are_current(tx, pools, fresh):
        load, owner_of = {each.pool_id: each.load for each in read}, {each.id: each.owner_id for each in pools}
        use = seats.branch_use(tx, known, owner_of.items(), owner_of)
        loads = np.array([load[each.id] for each in pools], dtype=np.int64)
        uses = np.array([use[each.id, each.owner_id] for each in pools], dtype=np.int64)
        return Stock(pools, rows, loads, uses)
    found = positions_at(tx, products, tx.now)
    place = {each.id: place for place, each in enumerate(found.snapshot.pools)}
    places = [place[each.id] for each in pools]
    return Stock(pools, rows, found.pool_load()[places], found.pool_used()[places])
