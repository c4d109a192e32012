"""What pools hold and what of them is in use now, pool by pool, without what stands below them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.allocations import present, store
from fair_ladle.app.allocations.positions import positions_at
from fair_ladle.app.plumbing import generations
from fair_ladle.app.plumbing.cache import Cache
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

    def use(self) -> dict[tuple[int, int], int]:
        """Σ own by pool and owner (by number)."""
        return {(pool.id, pool.owner_id): used for pool, used in zip(self.pools, self.used.tolist(), strict=True)}


_below: Cache[list[tuple[int, Pool]]] = Cache(64, megabytes=4, bytes_of=lambda kept: 100 * len(kept))
# The pools themselves are there anyway.


def pools_below(tx: Transaction, products: Sequence[Product], top: int) -> Sequence[tuple[int, Pool]]:
    """The pools of these products that begin in the branch of a row, each with its owner's: by owner and product. Kept
    in this process while the structure stays the same."""

    def read() -> list[tuple[int, Pool]]:
        known, every = accounts_service.known(tx), pools_service.pools(tx, products)
        inside = [each for each in every if known.tree.is_inside(known.row_of_id[each.owner_id], top)]
        roots, pools = pools_service.layout(known, inside, list(products))
        return list(zip(roots.rows.tolist(), pools, strict=True))

    key = (tx.installation, generations.numbers(tx, "structure"), accounts_service.today(tx), top)
    return read() if tx.is_rehearsal else _below.get((*key, tuple(each.id for each in products)), read)


def stock(tx: Transaction, products: Sequence[Product], top: int) -> Stock:
    """What the pools of these products have that begin in the branch of a row."""
    return stock_of(tx, products, pools_below(tx, products, top))


def stock_of(tx: Transaction, products: Sequence[Product], wanted: Sequence[tuple[int, Pool]]) -> Stock:
    """What these pools (of these products) have, each with its owner's row: by their owners' counters, or, where these
    do not tell, by the facts."""
    known, rows, pools = accounts_service.known(tx), [row for row, _ in wanted], [pool for _, pool in wanted]
    if not pools:
        return Stock([], [], NOTHING, NOTHING)
    if not tx.is_rehearsal:
        (ids, load, used, until), changes = store.stock_of(tx.connection, [each.id for each in pools])
        if len(ids) == len(pools) and present.counters_hold(tx, ids, until):
            place_of = {each: place for place, each in enumerate(ids.tolist())}
            places = [place_of[each.id] for each in pools]
            row_of = dict(zip([each.id for each in pools], rows, strict=True))
            for pool_id, account_id, change in changes.T.tolist():
                row = known.row_of_id.get(account_id)
                if row is not None and known.tree.is_inside(row, row_of[pool_id]):
                    used[place_of[pool_id]] += change
            return Stock(pools, rows, load[places], used[places])
    found = positions_at(tx, products, tx.now)
    place = {each.id: place for place, each in enumerate(found.snapshot.pools)}
    places = [place[each.id] for each in pools]
    return Stock(pools, rows, found.pool_load()[places], found.pool_used()[places])
