"""What rows of pools have, as the database gives them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime
from decimal import Decimal


@dataclass(frozen=True)
class ProductRecord:
    """A row of ``products``."""

    id: int
    code: str
    name: str
    vendor: str | None
    measure: str
    unit: str
    family: str | None
    successor: str | None
    tax_class: str | None
    idle: str


@dataclass(frozen=True)
class PoolRecord:
    """A row of ``pools``."""

    id: int
    owner_id: int
    product_id: int
    fresh_until: datetime | None
    backed: bool
    touched: int


@dataclass(frozen=True)
class LotRecord:
    """A row of ``lots``."""

    id: int
    reference: str
    owner_id: int
    product_id: int
    quantity: int
    first_day: date
    last_day: date | None
    unit_cost: Decimal
    currency: str
    true_up: int
    overcommit: int | None
