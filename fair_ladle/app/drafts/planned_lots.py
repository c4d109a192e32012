"""The lots of a pool as a draft would have them: bought anew, and ended on another day."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace
from datetime import date, timedelta

from fair_ladle.app.drafts.change_types import Change, LotEnd, NewLot
from fair_ladle.app.pools.service import Pool, Product
from fair_ladle.app.statements.rate_cards import decimals_of
from fair_ladle.core.calendar import day_name
from fair_ladle.core.costing import Lot
from fair_ladle.core.quantities import MOST_GRAINS, to_units


def with_change(lots: Sequence[Lot], change: NewLot | LotEnd, product: Product) -> list[Lot]:
    """The lots after one sound change of them."""
    if isinstance(change, NewLot):
        return [*lots, _lot_of(change, product)]
    return [replace(lot, last_day=change.last_day) if _is_lot(lot, change) else lot for lot in lots]


def planned(pool: Pool, owner: str, changes: Iterable[Change], today: date) -> Pool:
    """The pool of an account (its code) with what these changes buy for it and end of it; faulty ones are left out."""
    lots = list(pool.lots)
    concerned = [each for each in changes if isinstance(each, NewLot | LotEnd)]
    for change in concerned:
        if (change.owner, change.product) != (owner, pool.product.code):
            continue
        if not faults(owner, change, pool.product, pool.currency, lots, today):
            lots = with_change(lots, change, pool.product)
    return replace(pool, lots=tuple(lots))


def faults(
    name: str, change: NewLot | LotEnd, product: Product, currency: str, lots: Sequence[Lot], today: date
) -> list[str]:
    """What is wrong with a change of these lots, and what would be right.

    Args:
        name: the pool owner's, for the sentence.
        currency: what the pool is bought in; empty if nothing was bought yet.
        lots: the pool's, as the changes before this one leave them.
    """
    same = any(_is_lot(lot, change) for lot in lots)
    said = change.reference
    if isinstance(change, LotEnd):
        yesterday, earliest = today - timedelta(days=1), day_name(today - timedelta(days=1))
        if not same:
            return [f"{name} has no lot {said} of {product.name} from {day_name(change.first_day)}."]
        if change.last_day is not None and change.first_day <= change.last_day < yesterday:
            return [f"A lot can end yesterday at the earliest, {earliest}: what has been is charged already."]
        return []
    wrong = []
    if same:
        wrong.append(
            f"There is a lot {said} of {product.name} from {day_name(change.first_day)} already; "
            "give this one another reference."
        )
    if not 1 <= change.quantity <= MOST_GRAINS:
        wrong.append(f"{said}: a quantity from {'0.001' if product.is_storage else 1} to {product.said(MOST_GRAINS)}.")
    if not 0 <= change.true_up <= MOST_GRAINS:
        wrong.append(f"{said}: a true-up from 0 to {product.said(MOST_GRAINS)}.")
    if change.last_day is not None and change.last_day < change.first_day:
        wrong.append(f"{said}: the last day is not before the first, {day_name(change.first_day)}.")
    if change.overcommit is not None and not product.is_storage:
        wrong.append(f"{said}: only storage can be overcommitted.")
    if currency and change.currency != currency:
        wrong.append(f"{said}: this pool is bought in {currency}; one pool has one currency.")
    try:
        decimals_of(change.currency)
    except ValueError:
        wrong.append(f"{said}: {change.currency} is no currency; three letters after ISO 4217, such as EUR.")
    return wrong


def _is_lot(lot: Lot, change: NewLot | LotEnd) -> bool:
    return (lot.reference, lot.first_day) == (change.reference, change.first_day)


def _lot_of(change: NewLot, product: Product) -> Lot:
    return Lot(
        change.reference,
        change.quantity,
        to_units(change.quantity, product.measure),
        change.first_day,
        change.last_day,
        change.unit_cost,
        change.true_up,
        change.overcommit,
        change.currency,
    )
