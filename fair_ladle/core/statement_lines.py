"""What stands on a statement besides its usage lines: charges, discounts, credits and tax, and how they fall on them.

Amounts are Decimal in the statement's currency. A period is given by its first and last day.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from enum import StrEnum
from fractions import Fraction

from fair_ladle.core.pricing import Fees
from fair_ladle.core.quantities import half_up, half_up_exactly, plain
from fair_ladle.core.sharing import largest_remainder


class Kind(StrEnum):
    """The kinds of lines of a statement, in their order."""

    USAGE = "usage"
    CHARGE = "charge"
    DISCOUNT = "discount"
    ADJUSTMENT = "adjustment"
    CREDIT = "credit"
    TAX = "tax"


class Every(StrEnum):
    """When a charge is made."""

    ONCE = "once"
    MONTH = "month"


class TaxStatus(StrEnum):
    """What a buyer is taxed."""

    NORMAL = "normal"
    REVERSE_CHARGE = "reverse_charge"
    EXEMPT = "exempt"


def days_covered(first_day: date, last_day: date | None, first: date, last: date) -> int:
    """How many days of a period lie between two days, the last one open where it is None."""
    end = last if last_day is None else min(last_day, last)
    return max(0, (end - max(first_day, first)).days + 1)


@dataclass(frozen=True)
class ChargeTerms:
    """Something charged by itself: quantity × unit price, once or every month; ``last_day`` None = open."""

    reference: str
    description: str
    tax_class: str | None
    quantity: Decimal
    unit_price: Decimal
    currency: str
    first_day: date
    last_day: date | None
    every: Every = Every.ONCE
    fees: Fees = Fees.WHOLE

    def is_in(self, first: date, last: date) -> bool:
        """Whether a period has it."""
        if self.every is Every.ONCE:
            return first <= self.first_day <= last
        return days_covered(self.first_day, self.last_day, first, last) > 0

    def amount(self, first: date, last: date, decimals: int) -> Decimal:
        """What it comes to in a period that has it, rounded once."""
        whole = Fraction(self.quantity) * Fraction(self.unit_price)
        if self.every is Every.MONTH and self.fees is Fees.BY_DAY:
            covered = days_covered(self.first_day, self.last_day, first, last)
            whole *= Fraction(covered, (last - first).days + 1)
        return half_up_exactly(whole, decimals)


@dataclass(frozen=True)
class DiscountTerms:
    """Percent off: of one product's line, or (product None) of all usage lines and charges; ``currency`` None = every
    one. With a ceiling it takes no more than that in all."""

    reference: str
    product: str | None
    percent: Decimal
    first_day: date
    last_day: date | None
    ceiling: Decimal | None = None
    currency: str | None = None

    @property
    def has_memory(self) -> bool:
        """Whether what it gave before counts."""
        return self.ceiling is not None


@dataclass(frozen=True)
class CreditTerms:
    """An amount that pays for what is owed, until it is used up or its last day is over."""

    reference: str
    amount: Decimal
    currency: str
    first_day: date
    last_day: date | None


@dataclass(frozen=True)
class Owed:
    """Something owed by itself: a usage line (its reference is the product), a charge or an adjustment; ``percent`` is
    its tax, None = untaxed."""

    kind: Kind
    reference: str
    amount: Decimal
    percent: Decimal | None = None


@dataclass(frozen=True)
class Taken:
    """A discount or credit: what it takes off, as an amount above 0, and how much of that off each thing owed."""

    kind: Kind
    reference: str
    amount: Decimal
    parts: tuple[Decimal, ...]


@dataclass(frozen=True)
class Tax:
    """A row of tax: a percentage without trailing zeros, or ``reverse_charge`` or ``exempt``."""

    name: str
    base: Decimal
    amount: Decimal


@dataclass(frozen=True)
class Composed:
    """Everything of one statement, in order."""

    owed: tuple[Owed, ...]
    discounts: tuple[Taken, ...]
    credits: tuple[Taken, ...]
    taxes: tuple[Tax, ...]

    @property
    def net(self) -> Decimal:
        """The total before tax."""
        taken = sum((each.amount for each in (*self.discounts, *self.credits)), Decimal(0))
        return sum((each.amount for each in self.owed), Decimal(0)) - taken

    @property
    def total(self) -> Decimal:
        """What is owed; below 0 it is a credit note."""
        return self.net + sum((each.amount for each in self.taxes), Decimal(0))


def _spread(amount: Decimal, over: Mapping[int, Decimal], places: int, decimals: int) -> tuple[Decimal, ...]:
    """An amount over lines (by place) in proportion to theirs, by largest remainder in minor units."""
    found = [Decimal(0)] * places
    weights = [int(each.scaleb(decimals)) for each in over.values()]
    for place, part in zip(over, largest_remainder(int(amount.scaleb(decimals)), weights), strict=True):
        found[place] = Decimal(part).scaleb(-decimals)
    return tuple(found)


def compose(
    owed: Sequence[Owed],
    discounts: Collection[DiscountTerms],
    credits: Collection[CreditTerms],
    given: Mapping[tuple[Kind, str], Decimal],
    tax_status: TaxStatus,
    first: date,
    last: date,
    decimals: int,
) -> Composed:
    """A statement of what is owed in a period, all of one currency.

    ``owed`` stands in the statement's order. ``discounts`` and ``credits`` are those of the buyer in this currency,
    whether the period has a day of theirs or not; ``given`` is what each gave before (discounts with a ceiling and
    credits).
    """
    off = [Decimal(0)] * len(owed)
    taken_off = []
    for discount in sorted(discounts, key=lambda each: (each.first_day, each.reference)):
        covered = days_covered(discount.first_day, discount.last_day, first, last)
        lines = {place: each.amount for place, each in enumerate(owed) if _names(discount, each)}
        base = sum(lines.values(), Decimal(0))
        if not covered or base <= 0:
            continue
        share = Fraction(discount.percent) / 100 * Fraction(covered, (last - first).days + 1)
        amount = half_up_exactly(Fraction(base) * share, decimals)
        amount = min(amount, sum((each - off[place] for place, each in lines.items()), Decimal(0)))
        if discount.ceiling is not None:
            amount = min(amount, discount.ceiling - given.get((Kind.DISCOUNT, discount.reference), Decimal(0)))
        if amount <= 0:
            continue
        amount = half_up(amount, decimals)
        parts = _spread(amount, lines, len(owed), decimals)
        off = [was + part for was, part in zip(off, parts, strict=True)]
        taken_off.append(Taken(Kind.DISCOUNT, discount.reference, amount, parts))
    left = {place: each.amount - off[place] for place, each in enumerate(owed) if each.amount > off[place]}
    total = sum((each.amount for each in owed), Decimal(0)) - sum(off, Decimal(0))
    paid = []
    for credit in sorted(credits, key=lambda each: (each.first_day, each.reference)):
        if not days_covered(credit.first_day, credit.last_day, first, last):
            continue
        amount = min(total, credit.amount - given.get((Kind.CREDIT, credit.reference), Decimal(0)))
        if amount <= 0:
            continue
        amount = half_up(amount, decimals)
        parts = _spread(amount, left, len(owed), decimals)
        off = [was + part for was, part in zip(off, parts, strict=True)]
        total -= amount
        paid.append(Taken(Kind.CREDIT, credit.reference, amount, parts))
    return Composed(tuple(owed), tuple(taken_off), tuple(paid), _taxes(owed, off, tax_status, decimals))


def _names(discount: DiscountTerms, owed: Owed) -> bool:
    if discount.product is None:
        return owed.kind in (Kind.USAGE, Kind.CHARGE)
    return owed.kind is Kind.USAGE and owed.reference == discount.product


def _taxes(owed: Sequence[Owed], off: Sequence[Decimal], status: TaxStatus, decimals: int) -> tuple[Tax, ...]:
    if not owed:
        return ()
    bases: dict[Decimal, Decimal] = {}
    for each, less in zip(owed, off, strict=True):
        if each.percent is not None:
            bases[each.percent] = bases.get(each.percent, Decimal(0)) + each.amount - less
    if status is not TaxStatus.NORMAL:
        every = sum((each.amount for each in owed), Decimal(0)) - sum(off, Decimal(0))
        return (Tax(str(status), every, Decimal(0).scaleb(-decimals)),)
    return tuple(
        Tax(plain(percent), base, half_up_exactly(Fraction(base) * Fraction(percent) / 100, decimals))
        for percent, base in sorted(bases.items())
    )


def split_by_tax(
    amount: Decimal, lines: Mapping[Decimal | None, Decimal], decimals: int
) -> dict[Decimal | None, Decimal]:
    """An amount over percentages of tax in proportion to what each had of it, in whole minor units; with nothing to go
    by it is untaxed."""
    weights = [int(abs(each).scaleb(decimals)) for each in lines.values()]
    if not any(weights):
        return {None: half_up(amount, decimals)}
    sign = -1 if amount < 0 else 1
    parts = largest_remainder(int(abs(amount).scaleb(decimals)), weights)
    return {percent: Decimal(sign * part).scaleb(-decimals) for percent, part in zip(lines, parts, strict=True) if part}
