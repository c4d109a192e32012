"""What the statements' routes answer with. Amounts and quantities are decimals, as text."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel


class Buyer(BaseModel):
    """One buyer's month in one currency, before tax; cost null for whom it is none of the business, number while the
    month is open; ``of`` is what its seller charges all its buyers in that currency."""

    seller: str
    seller_name: str
    buyer: str
    name: str
    kind: str
    amount: str
    before: str
    cost: str | None
    currency: str
    unpriced: int
    number: str | None
    of: str


class ClosedMonth(BaseModel):
    """When and by whom the account one runs has closed the month."""

    at: str
    by: str
    reason: str


class Buyers(BaseModel):
    """Some of the buyers of a month, and how many there are."""

    total: int
    rows: list[Buyer]


class BuyersSum(BaseModel):
    """What so many buyers come to in a currency; ``cost`` of those whose cost is known, which are charged
    ``costed``."""

    currency: str
    buyers: int
    amount: str
    before: str
    cost: str
    costed: str


class BuyersSummary(BaseModel):
    """How many days of a month are read, how many buyers it has, of how many sellers, whether one sells to some
    oneself, whether any has a number or a cost to show, and what they come to."""

    month: str
    days: int
    days_read: int
    closed: ClosedMonth | None
    buyers: int
    sells: bool
    sellers: int
    numbered: bool
    costed: bool
    currencies: list[str]
    sums: list[BuyersSum]


class TierBody(BaseModel):
    """A part of the quantity at its price."""

    from_quantity: str
    quantity: str
    unit_price: str
    amount: str


class LinePart(BaseModel):
    """A department's part of a line."""

    account: str
    name: str
    quantity: str
    amount: str


class LineDay(BaseModel):
    """A day of a line: averages over the day, in units."""

    day: str
    hours: int
    used: str
    load: str
    held: str
    reserve: str
    cap: str | None


class RateUsed(BaseModel):
    """The rate a line is priced with; a markup only for whom the seller's cost is of their business."""

    seller: str
    buyer: str | None
    first_day: str
    basis: str
    aggregate: str
    tier_mode: str
    overage_price: str | None
    minimum: str | None
    is_markup: bool
    markup: str | None


class StatementLine(BaseModel):
    """A usage line and how it came about, step by step. ``before`` null where the month before has no such line; the
    minimum and the fixed fee count ``fee_days`` of ``period_days``."""

    product: str
    product_name: str
    vendor: str
    unit: str
    measure: str
    currency: str
    rate: RateUsed
    quantity: str
    overage_quantity: str
    included: str
    committed: str | None
    chargeable: str
    tiers: list[TierBody]
    overage_amount: str
    minimum_applied: bool
    fixed_fee: str
    fee_days: int
    period_days: int
    bought_for: str | None
    amount: str
    before: str | None
    by_use: str
    by_price: str
    cost: str | None
    parts: list[LinePart]
    days: list[LineDay]


class AdjustedBody(BaseModel):
    """What an earlier statement adjusted of the same."""

    month: str
    number: str | None
    amount: str


class LaterKnownBody(BaseModel):
    """A day as it was charged (null: it was not) and as it is known today, in units of what is charged for."""

    day: str
    was: str | None
    now: str


class AdjustmentBody(BaseModel):
    """What was charged for a closed month, what was adjusted of it since, and this adjustment; of a usage line also the
    days of which other facts are known today."""

    month: str
    number: str | None
    charged: str
    before: list[AdjustedBody]
    amount: str
    product: str | None
    product_name: str | None
    unit: str | None
    measure: str | None
    basis: str | None
    days: list[LaterKnownBody]


class MoreBody(BaseModel):
    """What ``units`` more (below 0: fewer), in use on every day that counts, would do to a line before tax and to the
    statement's total with tax."""

    units: int
    currency: str
    line: str
    total: str


class OtherRow(BaseModel):
    """A charge, discount, adjustment, credit or tax of a statement; what is taken off is below 0. ``base`` is what a
    tax is reckoned on."""

    kind: str
    reference: str
    says: str
    quantity: str | None
    unit_price: str | None
    base: str | None
    amount: str


class Gone(BaseModel):
    """A line the month before had and this one has not."""

    product_name: str
    amount: str


class SheetBody(BaseModel):
    """One statement: a month of one buyer in one currency. ``total`` is with tax, ``net`` without; ``before`` is the
    total of the month before, and the groups from ``by_use`` to ``by_tax`` add up to the difference. ``number`` null
    while the month is open."""

    currency: str
    number: str | None
    net: str
    total: str
    before: str
    by_use: str
    by_price: str
    by_new: str
    by_ended: str
    by_charges: str
    by_discounts: str
    by_adjustments: str
    by_tax: str
    cost: str | None
    lines: list[StatementLine]
    others: list[OtherRow]
    gone: list[Gone]


class StatementBody(BaseModel):
    """One buyer's month: a statement for each currency."""

    seller: str
    seller_name: str | None
    buyer: str
    name: str
    month: str
    days: int
    days_read: int
    hours_read: int
    sheets: list[SheetBody]
    unpriced: list[str]
    costs_wait: bool
    notes: list[str]


class EvidenceRow(BaseModel):
    """An assignment (figure: seconds in use that day) or a sample (figure: bytes)."""

    account: str
    account_name: str
    what: str
    name: str | None
    """Of the person, where one sees them."""
    whose: Literal["personal", "shared", "left behind", "other"] | None
    """Of a sample: whose the bytes of its category are today."""
    begins: str
    ends: str | None
    figure: str


class EvidenceBody(BaseModel):
    """What stands behind a day."""

    product: str
    measure: str
    begin: str
    end: str
    rows: list[EvidenceRow]
    more: bool


class ForecastBody(BaseModel):
    """A running month with tax: what it comes to so far, what is likely at its end, and the range around that."""

    currency: str
    so_far: str
    low: str
    likely: str
    high: str
    days_read: int
    days: int
