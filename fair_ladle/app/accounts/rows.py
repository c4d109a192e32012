"""What rows of accounts have, as the database gives them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date


@dataclass(frozen=True)
class AccountRecord:
    """A row of ``accounts``."""

    id: int
    code: str
    kind: str
    name: str
    currency: str | None
    time_zone: str | None
    admin_email: str | None
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
    made_on: date | None
    path: str


@dataclass(frozen=True)
class PlacedAccount(AccountRecord):
    """An account as it stands on a day: under which parent and since when, and its own status (None = active)."""

    parent_id: int | None
    placed_since: date | None
    status: str | None
    charged: bool | None
    status_since: date | None
    unallocated: str


@dataclass(frozen=True)
class Uncharged:
    """Days within which an account is suspended and not charged."""

    account_id: int
    first_day: date
    last_day: date | None
