"""What rows of statements have, as the database gives them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime
from decimal import Decimal


@dataclass(frozen=True)
class RateRecord:
    """A row of ``rates``."""

    id: int
    seller_id: int
    buyer_id: int | None
    product_id: int
    first_day: date
    basis: str
    aggregate: str
    tier_mode: str
    included: Decimal | None
    overage_price: Decimal | None
    minimum: Decimal | None
    fixed_fee: Decimal | None
    currency: str | None
    committed: Decimal | None
    fees: str
    markup: Decimal | None


@dataclass(frozen=True)
class TierRecord:
    """A row of ``rate_tiers``."""

    rate_id: int
    from_quantity: Decimal
    unit_price: Decimal


@dataclass(frozen=True)
class ChargeRecord:
    """A row of ``charges``, with its buyer's code."""

    id: int
    seller_id: int
    buyer_id: int
    reference: str
    currency: str | None
    first_day: date
    last_day: date | None
    description: str | None
    tax_class: str | None
    quantity: Decimal
    unit_price: Decimal
    every: str
    fees: str
    buyer: str


@dataclass(frozen=True)
class DiscountRecord:
    """A row of ``discounts``, with its buyer's and product's codes."""

    id: int
    seller_id: int
    buyer_id: int
    reference: str
    currency: str | None
    first_day: date
    last_day: date | None
    product_id: int | None
    percent: Decimal
    ceiling: Decimal | None
    buyer: str
    product: str | None


@dataclass(frozen=True)
class CreditRecord:
    """A row of ``credits``, with its buyer's code."""

    id: int
    seller_id: int
    buyer_id: int
    reference: str
    currency: str | None
    first_day: date
    last_day: date | None
    amount: Decimal
    buyer: str


@dataclass(frozen=True)
class TaxRateRecord:
    """A row of ``tax_rates``."""

    id: int
    seller_id: int
    tax_class: str
    first_day: date
    percent: Decimal


@dataclass(frozen=True)
class ExchangeRateRecord:
    """A row of ``exchange_rates``."""

    id: int
    day: date
    of: str
    into: str
    rate: Decimal


@dataclass(frozen=True)
class BillingDetails:
    """What a statement says of an account."""

    id: int
    code: str
    name: str
    billing_email: str | None
    tax: str
    exemption_reason: str | None
    street: str | None
    postcode: str | None
    city: str | None
    country: str | None
    tax_number: str | None
    payment_days: int | None
    iban: str | None
    buyer_reference: str | None
    cost_centre: str | None


@dataclass(frozen=True)
class KeptMonth:
    """A row of ``kept_months``."""

    product_id: int
    first_day: date
    made_of: str
    days: int
    late: str | None


@dataclass(frozen=True)
class KeptCharge:
    """What a month of a product comes to for a buyer."""

    amount: str | None
    currency: str | None
    cost: str | None
    code: str


@dataclass(frozen=True)
class KeptPool:
    """A row of ``kept_pools``, with its owner's code."""

    first_day: date
    product_id: int
    owner_id: int
    currency: str
    cost: str
    own: str
    idle: str
    owner: str


@dataclass(frozen=True)
class ClosedMonthRecord:
    """A seller's closed month, and what it was made of."""

    seller_id: int
    first_day: date
    made_of: str
    hash: str


@dataclass(frozen=True)
class Closing:
    """When and by whom a month was closed."""

    closed_at: datetime
    closed_by: str
    reason: str


@dataclass(frozen=True)
class ClosedAmount:
    """A line of a closed statement, with what its statement says."""

    buyer_id: int
    first_day: date
    currency: str
    tax: str
    kind: str
    reference: str
    amount: Decimal
    taxed: str


@dataclass(frozen=True)
class ClosedDocument:
    """A closed statement as it was given out."""

    seller_id: int
    year: int
    number: int
    document: bytes
    hash: str


@dataclass(frozen=True)
class NumberedDocument:
    """A closed statement's document."""

    id: int
    document: bytes


@dataclass(frozen=True)
class ClosedTotal:
    """What a closed statement comes to."""

    currency: str
    year: int
    number: int
    net: Decimal
    total: Decimal
    seller: str
    buyer: str


@dataclass(frozen=True)
class ClosedStatementRecord:
    """A row of ``closed_statements``, with its seller's code."""

    id: int
    seller_id: int
    buyer_id: int
    first_day: date
    currency: str
    year: int
    number: int
    tax: str
    net: Decimal
    total: Decimal
    due_day: date | None
    document: bytes
    hash: str
    seller: str


@dataclass(frozen=True)
class ClosedLineRecord:
    """A row of ``closed_lines``."""

    statement_id: int
    place: int
    kind: str
    reference: str
    amount: Decimal
    taxed: str


@dataclass(frozen=True)
class ClosedPeriodRecord:
    """A row of ``closed_periods``, with its seller's code."""

    seller_id: int
    first_day: date
    closed_at: datetime
    closed_by: str
    reason: str
    kept: bytes
    made_of: str
    hash: str
    seller: str


@dataclass(frozen=True)
class GivenNumbers:
    """The numbers a seller gave in a year."""

    year: int
    code: str
    count: int
    first: int
    last: int


@dataclass(frozen=True)
class NumbersRecord:
    """A row of ``statement_numbers``."""

    seller_id: int
    closed_until: date | None
    year: int
    number: int
