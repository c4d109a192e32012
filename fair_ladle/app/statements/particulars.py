"""What stands on a statement about its two parties, and when it is due: kept with it when it is closed."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import date, timedelta
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import batched
from fair_ladle.app.statements import store
from fair_ladle.app.statements.rows import BillingDetails


@dataclass(frozen=True)
class Party:
    """Who charges, or is charged."""

    code: str
    name: str
    street: str | None
    postcode: str | None
    city: str | None
    country: str | None
    tax_number: str | None


@dataclass(frozen=True)
class Particulars:
    """Beside the figures: both parties, the day of closing and the day it is due (None = not closed, no term), where to
    pay, and what the buyer wants to find on it."""

    seller: Party
    buyer: Party
    issued: date | None
    due: date | None
    iban: str | None
    buyer_reference: str | None
    exemption_reason: str | None
    seller_email: str | None = None
    buyer_email: str | None = None
    names: Mapping[str, str] = field(default_factory=dict)
    """Of the accounts of the buyer's branch that have a part in it, by code."""


def details(connection: sa.Connection, account_ids: Mapping[str, int]) -> dict[str, Any]:
    """What stands on documents about accounts (ids by code), by code, as it is now."""
    found: dict[int, Any] = {}
    for part in batched(account_ids.values()):
        found |= store.billing_details(connection, part)
    return {code: found[account_id] for code, account_id in account_ids.items()}


def particulars(seller: Any, buyer: Any, issued: date | None, names: Mapping[str, str]) -> Particulars:
    """Those of a statement, by the details of both and names of accounts, as they are now."""
    term = None if issued is None or buyer.payment_days is None else timedelta(days=buyer.payment_days)
    return Particulars(
        _party(seller),
        _party(buyer),
        issued,
        None if issued is None or term is None else issued + term,
        seller.iban,
        buyer.buyer_reference,
        buyer.exemption_reason,
        seller.billing_email,
        buyer.billing_email,
        names,
    )


def _party(row: BillingDetails) -> Party:
    return Party(row.code, row.name, row.street, row.postcode, row.city, row.country, row.tax_number)
