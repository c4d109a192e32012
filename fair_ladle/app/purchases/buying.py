"""What can be bought for a pool that will be short: what ends again, or anew."""

from __future__ import annotations

from calendar import monthrange
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from decimal import Decimal

from fair_ladle.app.drafts.change_types import Change, NewLot
from fair_ladle.app.pools.service import Pool
from fair_ladle.app.statements.rate_cards import decimals_of
from fair_ladle.core.costing import Lot, supply_on
from fair_ladle.core.quantities import half_up, to_units
from fair_ladle.core.settling import Supply


@dataclass(frozen=True)
class Option:
    """A way out of a shortfall: what it costs more a month, how many people it touches, what stays short, and its
    changes."""

    key: str
    name: str
    says: str
    cost: Decimal
    currency: str
    people: int
    still_short: int
    changes: Sequence[Change] = ()


def covering(supply: Supply[int], load: int, used: int, overcommit: int | None) -> int:
    """The least that has to be bought so that the pool is covered (grains); the lot may raise the overcommit."""
    least, most = 0, max(1, supply.shortfall(load, used))
    percent = max(supply.overcommit, overcommit or 100)
    while least < most:
        middle = (least + most) // 2
        with_it = Supply(supply.quantity + middle, supply.true_up, percent)
        least, most = (least, middle) if with_it.shortfall(load, used) == 0 else (middle + 1, most)
    return least


def monthly(pool: Pool, lots: Sequence[Lot | NewLot]) -> Decimal:
    costs = (to_units(lot.quantity, pool.product.measure) * lot.unit_cost for lot in lots)
    return sum((half_up(each, decimals_of(pool.currency)) for each in costs), Decimal(0))


def renewals(pool: Pool, owner: str, day: date, ending: Sequence[Lot], load: int, used: int) -> list[Option]:
    """Renew what ends for the same time at the same price: all of it, or only as much as is needed."""
    if not ending:
        return []
    supply = supply_on(pool.lots, day)
    whole = sum(lot.quantity for lot in ending)
    overcommit = max(supply.overcommit, *(lot.overcommit or 100 for lot in ending))
    needed = covering(supply, load, used, overcommit)
    wanted = {"renew": ("Renew all", whole)}
    if 0 < needed < whole:
        wanted["renew needed"] = ("Renew", needed)
    options = []
    for key, (name, quantity) in wanted.items():
        left, lots = quantity, list[NewLot]()
        for lot in sorted(ending, key=lambda each: each.unit_cost):
            part = min(left, lot.quantity)
            left -= part
            if part:
                lots.append(_renewal(pool, owner, day, lot, part))
        true_up = supply.true_up + sum(lot.true_up for lot in lots)
        still = Supply(supply.quantity + quantity, true_up, overcommit).shortfall(load, used)
        references = ", ".join(lot.renews or "" for lot in lots)
        options.append(
            Option(
                key,
                f"{name} {pool.product.said(quantity)}",
                f"{references} again, at the same price and for as long as before.",
                monthly(pool, lots),
                pool.currency,
                0,
                still,
                lots,
            )
        )
    return options


def _renewal(pool: Pool, owner: str, day: date, lot: Lot, quantity: int) -> NewLot:
    taken = {each.reference for each in pool.lots}
    number = next(n for n in range(1, 10_000) if f"{lot.reference}-R{n}" not in taken)
    assert lot.last_day is not None
    months = (day.year - lot.first_day.year) * 12 + day.month - lot.first_day.month
    same = months > 0 and day.day == lot.first_day.day
    until = _months_after(day, months) - timedelta(1) if same else day + (lot.last_day - lot.first_day)
    return NewLot(
        owner=owner,
        product=pool.product.code,
        reference=f"{lot.reference}-R{number}",
        quantity=quantity,
        first_day=day,
        last_day=until,
        unit_cost=lot.unit_cost,
        currency=pool.currency,
        true_up=lot.true_up,
        overcommit=lot.overcommit,
        renews=lot.reference,
    )


def _months_after(day: date, months: int) -> date:
    count = day.year * 12 + day.month - 1 + months
    return date(count // 12, count % 12 + 1, min(day.day, monthrange(count // 12, count % 12 + 1)[1]))


def _price(amount: Decimal) -> str:
    plain = f"{amount.normalize():f}"
    return plain if len(plain.partition(".")[2]) > 1 else f"{amount:.2f}"


def buy(pool: Pool, owner: str, day: date, load: int, used: int) -> Option:
    newest = max(pool.lots, key=lambda lot: (lot.first_day, lot.reference))
    quantity = covering(supply_on(pool.lots, day), load, used, newest.overcommit)
    taken = {lot.reference for lot in pool.lots}
    number = next(n for n in range(1, 10_000) if f"{newest.reference}-{n}" not in taken)
    lot = NewLot(
        owner=owner,
        product=pool.product.code,
        reference=f"{newest.reference}-{number}",
        quantity=quantity,
        first_day=day,
        last_day=None,
        unit_cost=newest.unit_cost,
        currency=pool.currency,
        overcommit=newest.overcommit,
    )
    units = to_units(quantity, pool.product.measure)
    return Option(
        "buy",
        f"Buy {pool.product.said(quantity)}",
        f"At {_price(newest.unit_cost)} {pool.currency} each per month, the price of {newest.reference}.",
        half_up(units * newest.unit_cost, decimals_of(pool.currency)),
        pool.currency,
        0,
        0,
        [lot],
    )
