"""Rate cards as the engine needs them, and bringing them in."""

from __future__ import annotations

from collections import defaultdict
from decimal import Decimal
from typing import Any

from fair_ladle.app.plumbing.database import Unit
from fair_ladle.app.plumbing.merge import Merged, merge
from fair_ladle.app.statements import store
from fair_ladle.core.pricing import Aggregate, Basis, Rate, Tier, TierMode


def rates(unit: Unit, code_of: dict[int, str], product_code: dict[int, str]) -> list[Rate]:
    """Every rate with its tiers."""
    tiers: dict[int, list[Tier]] = defaultdict(list)
    for row in store.all_tiers(unit.connection):
        tiers[row.rate_id].append(Tier(_short(row.from_quantity), _short(row.unit_price)))
    return [
        Rate(
            code_of[row.seller_id], None if row.buyer_id is None else code_of[row.buyer_id],
            product_code[row.product_id], row.first_day, Basis(row.basis), Aggregate(row.aggregate),
            TierMode(row.tier_mode), tuple(tiers[row.id]), _short(row.included or Decimal(0)),
            _or_none(row.overage_price), _or_none(row.minimum), _or_none(row.fixed_fee), row.currency,
        )
        for row in store.all_rates(unit.connection)
        if row.seller_id in code_of and (row.buyer_id is None or row.buyer_id in code_of)
    ]


def _short(number: Decimal) -> Decimal:
    return number.normalize() + Decimal(0)


def _or_none(number: Decimal | None) -> Decimal | None:
    return None if number is None else _short(number)


KEY = ("seller_id", "buyer_id", "product_id", "first_day")


def keys(unit: Unit) -> list[Any]:
    """Every rate's row."""
    return store.all_rates(unit.connection)


def bring_in(unit: Unit, rows: list[dict[str, Any]], tiers: list[dict[str, Any]]) -> tuple[Merged, Merged]:
    """Create and change rates by seller, buyer, product and first day; tiers come as a rate's whole set.

    Tiers carry the key of their rate beside from_quantity and unit_price.
    """
    merged = merge(unit.connection, store.rates, KEY, rows)
    ids = {tuple(getattr(row, name) for name in KEY): row.id for row in store.all_rates(unit.connection)}
    there: dict[int, dict[Decimal, Decimal]] = defaultdict(dict)
    for row in store.all_tiers(unit.connection):
        there[row.rate_id][row.from_quantity] = row.unit_price
    wanted: dict[int, dict[Decimal, Decimal]] = defaultdict(dict)
    for tier in tiers:
        wanted[ids[tuple(tier[name] for name in KEY)]][tier["from_quantity"]] = tier["unit_price"]
    merged_tiers = Merged()
    other = []
    for rate_id, new in wanted.items():
        old = there.get(rate_id, {})
        if old == new:
            merged_tiers.left += len(new)
            continue
        other.append(rate_id)
        for quantity, price in new.items():
            same = old.get(quantity)
            if same is None:
                merged_tiers.created += 1
            elif same == price:
                merged_tiers.left += 1
            else:
                merged_tiers.changed += 1
        if old:
            merged_tiers.changes.append(((rate_id,), {"tiers": _told(old)}, {"tiers": _told(new)}))
    if other:
        store.replace_tiers(
            unit.connection, other,
            [
                {"rate_id": rate_id, "from_quantity": quantity, "unit_price": price}
                for rate_id in other for quantity, price in wanted[rate_id].items()
            ],
        )
    return merged, merged_tiers


def _told(tiers: dict[Decimal, Decimal]) -> str:
    return "; ".join(f"from {_short(quantity):f}: {_short(price):f}" for quantity, price in sorted(tiers.items()))
