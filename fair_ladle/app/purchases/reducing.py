"""What a smaller renewal would ask of each account."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import date
from decimal import Decimal

from fair_ladle.app.allocations.positions import settle_snapshot
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import invalid
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.purchases.ahead import owned_pool
from fair_ladle.app.purchases.releasing import below_owner, lowered
from fair_ladle.core.costing import Lot
from fair_ladle.core.quantities import MOST_GRAINS, to_units


@dataclass(frozen=True)
class Reduction:
    """An account below a pool: what counts there now and is used of it, and what it would have to give by either way
    (None = no way)."""

    account: str
    name: str
    counted: int
    used: int
    to_one_level: int | None
    where_least_used: int | None


@dataclass(frozen=True)
class Renewal:
    """What a purchase of a quantity would leave uncovered on its first day, and whom that would touch, in grains."""

    short: int
    gives: list[Reduction]


def renewal(
    tx: Transaction, actor: Actor, owner: str, product: str, quantity: int, true_up: int, first_day: date
) -> Renewal:
    """What buying so much from a day on, with what is in use and promised now, would do to each account below."""
    found, place, row = owned_pool(tx, actor, owner, product, first_day)
    snapshot, pool = found.snapshot, found.snapshot.pools[place]
    if not 1 <= quantity <= MOST_GRAINS or not 0 <= true_up <= MOST_GRAINS:
        raise invalid(f"A quantity from 1 to {pool.product.said(MOST_GRAINS)}.", "quantity")
    lot = Lot("", quantity, to_units(quantity, pool.product.measure), snapshot.day, None, Decimal(0), true_up, None)
    pools = [replace(each, lots=(*each.lots, lot)) if each.id == pool.id else each for each in snapshot.pools]
    found = settle_snapshot(replace(snapshot, pools=tuple(pools), supply=pools_service.supply(pools, snapshot.day)))
    short = int(found.shortfalls()[place])
    if not short:
        return Renewal(0, [])
    below, used = below_owner(found, row), found.used()
    held = [int(found.settled.held[each, 0]) for each in below]
    ways = [lowered(found, below, held, way, short) for way in ("max-min", "least harm")]
    return Renewal(
        short,
        [
            Reduction(
                snapshot.accounts.tree.codes[each],
                snapshot.accounts.name(each),
                held[n],
                int(used[each, 0]),
                *(None if parts is None else held[n] - parts[n] for parts in ways),
            )
            for n, each in enumerate(below)
            if held[n]
        ],
    )
