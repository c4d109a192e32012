"""The present as a snapshot kept between requests, and the products and instants that requests name. Trusted: the
caller has judged scope."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.allocations import present
from fair_ladle.app.allocations.positions import Snapshot, snapshot_at
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import not_found
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.core.layers import family_order


def present_snapshot(tx: Transaction, products: Sequence[Product]) -> Snapshot:
    """The present facts of some products, the newest there are: from the counters, or, where they hold no longer, from
    the facts."""
    return present.snapshot(tx, products) or snapshot_at(tx, products, tx.now)


def chosen_products(tx: Transaction, codes: Sequence[str] | None) -> list[Product]:
    """All products that have a pool, or those of these codes, in their order."""
    every = pools_service.products(tx)
    pooled = {pool.product.id for pool in pools_service.pools(tx, every)}
    if not codes:
        return [each for each in every if each.id in pooled]
    by_code = {each.code: each for each in every}
    for code in codes:
        if code not in by_code:
            raise not_found("product", code)
    return [by_code[code] for code in dict.fromkeys(codes)]


def products_in_sight(tx: Transaction, actor: Actor) -> list[Product]:
    """The products of which a pool reaches the actor's branch, or begins in it."""
    accounts = accounts_service.known(tx)
    top = accounts_service.top_row(accounts, actor)
    above = {int(accounts.ids[row]) for row in accounts.tree.path_up(top)}
    first, size = int(accounts.tree.depth_first[top]), int(accounts.tree.branch_size[top])

    def is_below(owner_id: int) -> bool:
        return 0 <= int(accounts.tree.depth_first[accounts.row_of_id[owner_id]]) - first < size

    every = pools_service.products(tx)
    reaching = {
        pool.product.id
        for pool in pools_service.pools(tx, every)
        if pool.owner_id in above or (pool.owner_id in accounts.row_of_id and is_below(pool.owner_id))
    }
    return [each for each in every if each.id in reaching]


def instant_of(tx: Transaction, on: date | None) -> datetime | None:
    """For "as of a day": the last instant of a day that is over, the first of one ahead; None = now."""
    today = accounts_service.today(tx)
    if on is None or on == today:
        return None
    if on > today:
        return accounts_service.start_of(tx, on)
    return end_of(tx, on)


def end_of(tx: Transaction, day: date) -> datetime:
    """The last instant of a day."""
    return accounts_service.start_of(tx, day + timedelta(days=1)) - timedelta(microseconds=1)


@dataclass(frozen=True)
class Related:
    """Products that go with another: its family from the lowest to the highest, itself included (none where it has no
    family), its bases, its add-ons, and what follows it."""

    family: list[Product]
    bases: list[Product]
    add_ons: list[Product]
    successor: Product | None


def product_in_sight(tx: Transaction, actor: Actor, code: str) -> tuple[Product, Related]:
    """A product that reaches the actor's branch, and what goes with it of those that do too."""
    every = products_in_sight(tx, actor)
    by_code = {each.code: each for each in every}
    found = by_code.get(code)
    if found is None:
        raise not_found("product", code)
    family = [each for each in every if found.family and each.family == found.family]
    places = {each.code: place for place, each in enumerate(family)}
    order = family_order([places.get(each.successor or "", -1) for each in family])
    return found, Related(
        [family[place] for place in order] if len(family) > 1 else [],
        [by_code[each] for each in found.requires if each in by_code],
        [each for each in every if code in each.requires],
        by_code.get(found.successor or ""),
    )
