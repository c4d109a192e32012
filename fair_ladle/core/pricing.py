"""Pricing a buyer's product for a period. Money is Decimal; quantities are exact fractions until rounded."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal, localcontext
from enum import StrEnum
from fractions import Fraction
from typing import NamedTuple

from fair_ladle.core.quantities import half_up, half_up_exactly, units_to_micro
from fair_ladle.core.sharing import largest_remainder


class Basis(StrEnum):
    """What a rate charges for."""

    USED = "used"
    HELD = "held"
    RESERVED = "reserved"


class Aggregate(StrEnum):
    """How the days become one quantity."""

    AVERAGE = "average"
    PEAK = "peak"
    P95 = "p95"


class TierMode(StrEnum):
    """Each slice at its own price, or all at one."""

    GRADUATED = "graduated"
    VOLUME = "volume"


class Fees(StrEnum):
    """Whether a minimum, a fixed fee or a charge counts whole, or by the days of the period it stands for."""

    WHOLE = "whole"
    BY_DAY = "by_day"


@dataclass(frozen=True)
class Tier:
    """A price per unit from a quantity on."""

    from_quantity: Decimal
    unit_price: Decimal


@dataclass(frozen=True)
class Rate:
    """How a seller prices one product, for one buyer or (buyer None) for all.

    ``committed`` units are charged at least. ``markup`` is percent on what the product cost the seller: such a rate has
    no tiers, nothing included and nothing committed.
    """

    seller: str
    buyer: str | None
    product: str
    first_day: date
    basis: Basis
    aggregate: Aggregate
    tier_mode: TierMode
    tiers: tuple[Tier, ...]
    included: Decimal = Decimal(0)
    overage_price: Decimal | None = None
    minimum: Decimal | None = None
    fixed_fee: Decimal | None = None
    currency: str | None = None
    committed: Decimal | None = None
    fees: Fees = Fees.WHOLE
    markup: Decimal | None = None

    @property
    def charges_anyway(self) -> bool:
        """Whether the buyer has a line even without an allocation and with nothing held: it has committed itself."""
        return self.buyer is not None and self.committed is not None


def rate_for(rates: Sequence[Rate], seller: str, buyer: str, product: str, first_day: date) -> Rate | None:
    """The seller's newest rate not after the period's first day; one written for the buyer goes first."""
    fitting = [
        rate
        for rate in rates
        if rate.seller == seller
        and rate.product == product
        and rate.first_day <= first_day
        and rate.buyer in (None, buyer)
    ]
    return max(fitting, key=lambda rate: (rate.buyer is not None, rate.first_day), default=None)


class BuyerDay(NamedTuple):
    """A buyer's figures of one day in grain-seconds: load, held, reserve, Σ own of its branch, and its cap.

    ``overage_cap`` is the cap where that day's policy is overage, else None; ``counts`` says whether the buyer had an
    allocation or held anything.
    """

    seconds: int
    load: int
    held: int
    reserve: int
    used: int
    overage_cap: int | None
    counts: bool = True


def with_more(day: BuyerDay, more: int) -> BuyerDay:
    """The same day with so many grains more (below 0: fewer, down to none) in use all day, where the day counts."""
    if not day.counts:
        return day
    used = max(0, day.used + more * day.seconds)
    load = day.load + used - day.used
    return day._replace(used=used, load=load, held=max(load, day.reserve))


@dataclass(frozen=True)
class Slice:
    """A part of the chargeable quantity at one price."""

    from_quantity: Decimal
    quantity: Decimal
    unit_price: Decimal
    amount: Decimal


@dataclass(frozen=True)
class Charge:
    """How a line came about, step by step; ``amount`` is what is owed, rounded once.

    Where the rate is a markup, ``cost`` is what the product cost the seller, in the line's currency. Minimum and fixed
    fee count ``fee_days`` of ``period_days``.
    """

    quantity: Decimal
    overage_quantity: Decimal
    included: Decimal
    chargeable: Decimal
    slices: tuple[Slice, ...]
    overage_amount: Decimal
    minimum_applied: bool
    fixed_fee: Decimal
    amount: Decimal
    committed: Decimal | None = None
    cost: Decimal | None = None
    fee_days: int = 1
    period_days: int = 1


def day_quantity(rate: Rate, day: BuyerDay) -> tuple[int, int]:
    """A day's quantity q and excess v in grain-seconds."""
    if rate.basis is Basis.RESERVED:
        excess = max(0, day.used - day.reserve) if rate.overage_price is not None else 0
        return day.reserve, excess
    quantity, measured = (day.used, day.used) if rate.basis is Basis.USED else (day.held, day.load)
    if rate.overage_price is None or day.overage_cap is None:
        return quantity, 0
    return quantity, max(0, measured - day.overage_cap)


def _aggregate(aggregate: Aggregate, days: Sequence[tuple[int, int]], per_unit: int) -> Decimal:
    """(grain-seconds, seconds) of each day as one quantity in units."""
    if aggregate is Aggregate.AVERAGE:
        top, bottom = sum(q for q, _ in days), sum(seconds for _, seconds in days)
    else:
        ordered = sorted(Fraction(quantity, seconds) for quantity, seconds in days)
        rank = len(ordered) if aggregate is Aggregate.PEAK else -(-95 * len(ordered) // 100)
        top, bottom = ordered[rank - 1].as_integer_ratio()
    return units_to_micro(top, bottom, per_unit)


def tier_slices(tiers: Sequence[Tier], mode: TierMode, quantity: Decimal) -> tuple[Slice, ...]:
    """The quantity cut into slices by the tiers (ascending, the first from 0)."""
    if mode is TierMode.VOLUME:
        tier = [tier for tier in tiers if tier.from_quantity <= quantity][-1]
        return (Slice(tier.from_quantity, quantity, tier.unit_price, quantity * tier.unit_price),)
    slices = []
    for place, tier in enumerate(tiers):
        end = tiers[place + 1].from_quantity if place + 1 < len(tiers) else quantity
        part = min(quantity, end) - tier.from_quantity
        if part > 0:
            slices.append(Slice(tier.from_quantity, part, tier.unit_price, part * tier.unit_price))
    return tuple(slices)


@dataclass(frozen=True)
class Summed:
    """A buyer's days of a period together: the quantity in units, what was past the cap (or beyond the reserve), and
    how many days count."""

    quantity: Decimal
    past_cap: Decimal
    counted: int


def summed(rate: Rate, days: Sequence[BuyerDay], per_unit: int) -> Summed:
    """Days together, ``per_unit`` grains a unit."""
    parts = [day_quantity(rate, day) for day in days]
    counted = [
        (q if rate.basis is Basis.RESERVED else max(0, q - v), day.seconds)
        for (q, v), day in zip(parts, days, strict=True)
    ]
    return Summed(
        _aggregate(rate.aggregate, counted, per_unit),
        units_to_micro(sum(v for _, v in parts), sum(day.seconds for day in days), per_unit),
        sum(day.counts for day in days),
    )


def charge(rate: Rate, days: Summed, decimals: int, period_days: int, cost: Fraction | None = None) -> Charge:
    """The buyer's charge for a period of so many days, of which ``days`` have been read.

    ``decimals`` of the currency, ``cost`` what the product cost the seller, in the line's currency: of a markup, None
    where that is not known, and the line is 0 then.
    """
    with localcontext(prec=80):
        slices: tuple[Slice, ...] = ()
        chargeable, amount = days.quantity, Decimal(0)
        if rate.markup is None:
            chargeable = max(Decimal(0), days.quantity - rate.included, rate.committed or Decimal(0))
            slices = tier_slices(rate.tiers, rate.tier_mode, chargeable)
            amount = sum((each.amount for each in slices), Decimal(0))
        overage_amount = days.past_cap * (rate.overage_price or 0)
        amount += overage_amount
        fee_days = days.counted if rate.fees is Fees.BY_DAY else period_days
        least, fixed_fee = rate.minimum or Decimal(0), rate.fixed_fee or Decimal(0)
        if rate.markup is None and fee_days == period_days:
            raised = amount < least
            owed = half_up(max(amount, least) + fixed_fee, decimals)
        else:
            marked_up = Fraction(0) if rate.markup is None else (cost or 0) * (1 + Fraction(rate.markup) / 100)
            standing = Fraction(fee_days, period_days)
            exact, standing_least = Fraction(amount) + marked_up, Fraction(least) * standing
            raised = exact < standing_least
            owed = half_up_exactly(max(exact, standing_least) + Fraction(fixed_fee) * standing, decimals)
        if rate.markup is not None and cost is None:
            owed, raised = half_up_exactly(Fraction(0), decimals), False
        return Charge(
            days.quantity,
            days.past_cap,
            rate.included,
            chargeable,
            slices,
            overage_amount,
            raised,
            fixed_fee,
            owed,
            rate.committed,
            None if cost is None else half_up_exactly(cost, 6),
            fee_days,
            period_days,
        )


def apportion(amount: Decimal, weights: Sequence[int], decimals: int) -> list[Decimal] | None:
    """An amount over weights in tree order by largest remainder in minor units; None without any weight."""
    parts = apportion_minor(amount, weights, decimals)
    return None if parts is None else [Decimal(part).scaleb(-decimals) for part in parts]


def apportion_minor(amount: Decimal, weights: Sequence[int], decimals: int) -> list[int] | None:
    """The same in minor units."""
    return largest_remainder(int(amount.scaleb(decimals)), weights) if any(weights) else None
