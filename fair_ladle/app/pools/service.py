"""Products and pools as others need them."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from functools import cached_property
from typing import Any, TypeVar

import numpy as np

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.plumbing import generations
from fair_ladle.app.plumbing.cache import Cache
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.merge import Merged, merge
from fair_ladle.app.plumbing.problems import not_found
from fair_ladle.app.pools import store
from fair_ladle.app.pools.rows import LotRecord, ProductRecord
from fair_ladle.app.pools.tables import lots as lots_table
from fair_ladle.app.pools.tables import products as products_table
from fair_ladle.core.costing import Lot, currencies_of, supply_on
from fair_ladle.core.quantities import STORAGE, grains_per_unit, to_units
from fair_ladle.core.settling import Roots, Supply
from fair_ladle.core.tree import Ints


@dataclass(frozen=True)
class Product:
    """A product as the engine and the screens need it."""

    id: int
    code: str
    name: str
    vendor: str
    measure: str
    unit: str
    family: str | None
    requires: tuple[str, ...]
    components: tuple[str, ...] = ()
    mandatory: tuple[str, ...] = ()
    successor: str | None = None
    tax_class: str | None = None
    spreads_idle: bool = False
    """Whether idle units are paid for by who holds the others, and not by the owner."""

    @property
    def per_unit(self) -> int:
        """Grains a unit."""
        return grains_per_unit(self.measure)

    def said(self, grains: int) -> str:
        """A quantity as people say it: 1 seat, 12 seats, 3.5 GB."""
        plural = "s" if not self.is_storage and grains != 1 else ""
        return f"{to_units(grains, self.measure):f} {self.unit}{plural}"

    @property
    def is_personal(self) -> bool:
        """Whether its units are people's: seats and sessions."""
        return self.measure in ("seat", "session")

    @property
    def stands_alone(self) -> bool:
        """Whether who may have it depends on nothing else they have: no seat, no session, no family, no base
        product."""
        return self.measure in ("device", "item") and not self.family and not self.requires

    @property
    def is_storage(self) -> bool:
        """Whether it is measured in bytes over time."""
        return self.measure == STORAGE


@dataclass(frozen=True)
class Pool:
    """A pool: its owner and its lots."""

    id: int
    owner_id: int
    product: Product
    lots: tuple[Lot, ...]
    currency: str

    @cached_property
    def currencies(self) -> list[str]:
        """The currencies in which it is bought."""
        return currencies_of(self.lots)


def products(tx: Transaction) -> list[Product]:
    """Every product, by code; kept in this process while the structure stays the same."""
    return list(_known.get((tx.installation, generations.numbers(tx, "structure")), lambda: _read(tx)))


_known: Cache[tuple[Product, ...]] = Cache(16, megabytes=4)


@dataclass(frozen=True)
class _AllPools:
    """Every pool, by its number, and those of each product."""

    pools: list[Pool]
    of_product: Mapping[int, Sequence[Pool]]


_pools: Cache[_AllPools] = Cache(8, megabytes=16)


def _all_pools(tx: Transaction) -> _AllPools:
    of_product: dict[int, list[Pool]] = {}
    found = _read_pools(tx, products(tx))
    for each in found:
        of_product.setdefault(each.product.id, []).append(each)
    return _AllPools(found, of_product)


def _read(tx: Transaction) -> tuple[Product, ...]:
    bases, components = store.bases(tx.connection), store.components(tx.connection)
    return tuple(
        _product(row, bases.get(row.id, []), components.get(row.id, [])) for row in store.all_products(tx.connection)
    )


def product(tx: Transaction, code: str) -> Product:
    """One product; refused where there is none of that code."""
    found = next((each for each in products(tx) if each.code == code), None)
    if found is None:
        raise not_found("product", code)
    return found


def _product(row: ProductRecord, bases: list[str], components: list[tuple[str, bool]]) -> Product:
    return Product(
        row.id,
        row.code,
        row.name,
        row.vendor or "",
        row.measure,
        row.unit,
        row.family,
        tuple(bases),
        tuple(code for code, _ in components),
        tuple(code for code, mandatory in components if mandatory),
        row.successor or None,
        row.tax_class,
        row.idle == "spread",
    )


def pools(tx: Transaction, of: Collection[Product]) -> list[Pool]:
    """The pools of these products with their lots, by their numbers; kept in this process while the structure stays the
    same."""
    wanted = {each.id for each in of}
    key = (tx.installation, generations.numbers(tx, "structure"))
    every = _all_pools(tx) if tx.is_rehearsal else _pools.get(key, lambda: _all_pools(tx))
    if len(wanted) == 1:
        return list(every.of_product.get(next(iter(wanted)), ()))
    return [pool for pool in every.pools if pool.product.id in wanted]


def pools_of(tx: Transaction, of: Collection[Product], owner_ids: Collection[int]) -> list[Pool]:
    """The pools of these products that these accounts own."""
    return [pool for pool in pools(tx, of) if pool.owner_id in owner_ids]


def _read_pools(tx: Transaction, of: Collection[Product]) -> list[Pool]:
    by_id = {each.id: each for each in of}
    lots: dict[tuple[int, int], list[LotRecord]] = {}
    for lot in store.lots_of(tx.connection, list(by_id)):
        lots.setdefault((lot.owner_id, lot.product_id), []).append(lot)
    found = []
    for pool in store.pools_of(tx.connection, list(by_id)):
        mine = lots.get((pool.owner_id, pool.product_id), [])
        product_of = by_id[pool.product_id]
        found.append(
            Pool(
                pool.id,
                pool.owner_id,
                product_of,
                tuple(_lot(each, product_of.measure) for each in mine),
                mine[0].currency if mine else "",
            )
        )
    return found


def _lot(row: LotRecord, measure: str) -> Lot:
    return Lot(
        row.reference,
        row.quantity,
        to_units(row.quantity, measure),
        row.first_day,
        row.last_day,
        Decimal(row.unit_cost),
        row.true_up,
        row.overcommit,
        row.currency,
    )


def drawn_below(tx: Transaction, accounts: Accounts, rows: Collection[int]) -> dict[int, set[int]]:
    """The products (ids) that accounts below each of these (rows) can draw from it or through it: those with a pool at
    it or above it."""
    owned: dict[int, set[int]] = {}
    for pool in pools(tx, products(tx)):
        owned.setdefault(pool.owner_id, set()).add(pool.product.id)
    of_row = {row: owned.get(int(accounts.ids[row]), set()) for way in map(accounts.tree.path_up, rows) for row in way}
    return {row: set().union(*(of_row[above] for above in accounts.tree.path_up(row))) for row in rows}


def layout(accounts: Accounts, pool_list: list[Pool], columns: list[Product]) -> tuple[Roots, list[Pool]]:
    """Where the pools begin, by account row and product column; the pools in the same order."""
    column = {each.id: place for place, each in enumerate(columns)}
    placed = sorted(
        (
            (accounts.row_of_id[pool.owner_id], column[pool.product.id], pool)
            for pool in pool_list
            if pool.owner_id in accounts.row_of_id
        ),
        key=lambda each: each[:2],
    )
    return Roots.of([(row, place) for row, place, _ in placed]), [pool for _, _, pool in placed]


def supplies(tx: Transaction, pool_list: Sequence[Pool], day: date) -> list[Supply[int]]:
    """What the lots of each of these pools, as they are, give on a day."""
    return _of_lots(tx, pool_list, f"supply {day}", lambda pool: supply_on(pool.lots, day))


def costs(tx: Transaction, pool_list: Sequence[Pool], day: date) -> list[Decimal]:
    """What the lots of each of these pools, as they are, cost on a day for a month, in the pool's currency."""

    def cost(pool: Pool) -> Decimal:
        running = [lot for lot in pool.lots if lot.covers(day) and lot.currency == pool.currency]
        return sum((lot.units * lot.unit_cost for lot in running), Decimal(0))

    return _of_lots(tx, pool_list, f"cost {day}", cost)


Figure = TypeVar("Figure")
# The pools themselves are there anyway.
_figures: Cache[Any] = Cache(64, megabytes=16, bytes_of=lambda kept: 400 * len(kept))


def _of_lots(tx: Transaction, pool_list: Sequence[Pool], what: str, figure: Callable[[Pool], Figure]) -> list[Figure]:
    """A figure of the lots of each of these pools; that of pools as they stand is kept in this process while the
    structure stays the same."""
    if tx.is_rehearsal:
        return [figure(pool) for pool in pool_list]
    key = (tx.installation, generations.numbers(tx, "structure"), what)
    kept: dict[int, tuple[Pool, Figure]] = _figures.get(
        key, lambda: {pool.id: (pool, figure(pool)) for pool in pools(tx, products(tx))}
    )
    every = ((pool, kept.get(pool.id, (None, None))) for pool in pool_list)
    return [there[1] if there[0] is pool else figure(pool) for pool, there in every]


_supplies: Cache[Supply[Ints]] = Cache(64, megabytes=4, bytes_of=lambda kept: 3 * kept.quantity.nbytes)


def standing_supply(tx: Transaction, pool_list: Sequence[Pool], day: date) -> Supply[Ints]:
    """What the lots of these pools, all of them as they stand (``pools``), give on a day, in their order; kept in this
    process while the structure stays the same."""
    if tx.is_rehearsal:
        return supply(pool_list, day)
    key = (tx.installation, generations.numbers(tx, "structure"), day, tuple(each.id for each in pool_list))
    return _supplies.get(key, lambda: supply(pool_list, day))


def supply(pool_list: Sequence[Pool], day: date) -> Supply[Ints]:
    """What the pools' lots give on a day, in the order of the pools."""
    return in_order([supply_on(pool.lots, day) for pool in pool_list])


def in_order(figures: Sequence[Supply[int]]) -> Supply[Ints]:
    """The supply of several pools, one entry a pool."""
    return Supply(
        np.array([each.quantity for each in figures], dtype=np.int64),
        np.array([each.true_up for each in figures], dtype=np.int64),
        np.array([each.overcommit for each in figures], dtype=np.int64),
    )


def mark_stale(tx: Transaction, of: Collection[Product] | None = None) -> None:
    """Counters of these products' pools (all, if not said) are rebuilt before their next use."""
    store.mark_stale(tx.connection, None if of is None else [each.id for each in of])


def load_products(tx: Transaction, rows: list[dict[str, Any]]) -> Merged:
    """Create and change products by code; ``requires`` are codes of products, ``components`` codes, mandatory ones with
    ! behind."""
    before = {(each.code,): {"requires": each.requires, "components": _marked(each)} for each in _read(tx)}
    wanted = {
        (row["code"],): {name: tuple(dict.fromkeys(row[name])) for name in ("requires", "components")} for row in rows
    }
    merged = merge(
        tx.connection,
        products_table,
        ["code"],
        [{name: value for name, value in row.items() if name not in ("requires", "components")} for row in rows],
        beside={
            key: {name: (before[key][name], after) for name, after in lists.items()}
            for key, lists in wanted.items()
            if key in before
        },
    )
    ids = {each.code: each.id for each in _read(tx)}
    changed = {key[0]: lists for key, lists in wanted.items() if lists != before.get(key)}
    store.set_bases(
        tx.connection,
        [(ids[code], [ids[base] for base in lists["requires"]]) for code, lists in changed.items()],
    )
    store.set_components(
        tx.connection,
        [
            (ids[code], list({each.rstrip("!"): each.endswith("!") for each in lists["components"]}.items()))
            for code, lists in changed.items()
        ],
    )
    generations.renew(tx, "structure")
    return merged


def _marked(product: Product) -> tuple[str, ...]:
    return tuple(f"{code}!" if code in product.mandatory else code for code in product.components)


def load_lots(tx: Transaction, rows: list[dict[str, Any]]) -> Merged:
    """Create and change lots by product, owner, reference and first day; pools come with them."""
    since: dict[int, date] = {}
    merged = merge(tx.connection, lots_table, ["product_id", "owner_id", "reference", "first_day"], rows)
    if merged.created or merged.changed:
        for row in rows:
            since[row["product_id"]] = min(row["first_day"], since.get(row["product_id"], row["first_day"]))
    _lots_changed(tx, since)
    return merged


def add_lot(tx: Transaction, row: dict[str, Any]) -> None:
    """Record a purchase; its pool comes with it. The counters are the caller's."""
    store.add_lot(tx.connection, row)
    _lots_changed(tx, {row["product_id"]: row["first_day"]})


def _lots_changed(tx: Transaction, since: Mapping[int, date]) -> None:
    """Lots of products (ids) are others from a day on, which may be over. A pool that is new was always there."""
    new = dict.fromkeys(store.ensure_pools(tx.connection), date.min)
    today = accounts_service.today(tx)
    generations.renew_past(tx, {each: day for each, day in ({**since} | new).items() if day < today})
    generations.renew(tx, "places")


def end_lot(
    tx: Transaction, owner_id: int, product_id: int, reference: str, first_day: date, last_day: date | None
) -> None:
    """Let a lot end on another day; one that would end before it begins is taken out. The counters are the caller's."""
    before = store.last_day_of(tx.connection, owner_id, product_id, reference, first_day)
    last_days = [each for each in (before, last_day) if each is not None]
    _lots_changed(tx, {product_id: max(first_day, min(last_days, default=first_day))})
    if last_day is not None and last_day < first_day:
        store.take_out_lot(tx.connection, owner_id, product_id, reference, first_day)
    else:
        store.end_lot(tx.connection, owner_id, product_id, reference, first_day, last_day)
