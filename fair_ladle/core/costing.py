"""What a pool cost its owner in a period, and who bears it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal, localcontext

from fair_ladle.core.pricing import apportion
from fair_ladle.core.quantities import half_up
from fair_ladle.core.settling import Supply


@dataclass(frozen=True)
class Lot:
    """A purchase: quantity in grains and in units, first and last day (None = open), cost per unit and month."""

    reference: str
    quantity: int
    units: Decimal
    first_day: date
    last_day: date | None
    unit_cost: Decimal
    true_up: int = 0
    overcommit: int | None = None
    currency: str = ""

    def covers(self, day: date) -> bool:
        """Whether the lot counts on a day."""
        return self.first_day <= day and (self.last_day is None or day <= self.last_day)


def supply_on(lots: Sequence[Lot], day: date) -> Supply[int]:
    """What a pool's lots give on a day."""
    covering = [lot for lot in lots if lot.covers(day)]
    return Supply(
        sum(lot.quantity for lot in covering),
        sum(lot.true_up for lot in covering),
        max((lot.overcommit for lot in covering if lot.overcommit is not None), default=100),
    )


def currencies_of(lots: Sequence[Lot]) -> list[str]:
    """The currencies in which a pool is bought: its cost is summed, rounded and shared for each by itself."""
    return sorted({lot.currency for lot in lots})


def pool_cost(lots: Sequence[Lot], first: date, last: date, decimals: int) -> Decimal:
    """Σ quantity × unit cost × days covered / days of the period, rounded once."""
    with localcontext(prec=80):
        days = (last - first).days + 1
        cost_days = Decimal(0)
        for lot in lots:
            end = last if lot.last_day is None else min(lot.last_day, last)
            covered = (end - max(lot.first_day, first)).days + 1
            if covered > 0:
                cost_days += lot.units * lot.unit_cost * covered
        return half_up(cost_days / days, decimals)


@dataclass(frozen=True)
class Bearer:
    """Who bears a part of a pool's cost: weight in grain-seconds; account None = idle stock."""

    account: str | None
    weight: int
    cost: Decimal


def share_cost(
    cost: Decimal,
    owner: tuple[str, int],
    below: Sequence[tuple[str, int]],
    supply: int,
    decimals: int,
    spread_idle: bool = False,
) -> list[Bearer]:
    """The cost over the owner (Σ own), the accounts directly below it in tree order (Σ held), and idle stock.

    With ``spread_idle`` the idle row is left out and the others carry it. Where there is nothing to
    weigh by, the owner bears it all.
    """
    named: list[tuple[str | None, int]] = [owner, *below]
    if not spread_idle:
        named.append((None, max(0, supply - sum(weight for _, weight in named))))
    parts = apportion(cost, [weight for _, weight in named], decimals)
    if parts is None:
        parts = [cost, *[half_up(Decimal(0), decimals)] * (len(named) - 1)]
    return [Bearer(account, weight, part) for (account, weight), part in zip(named, parts, strict=True)]
