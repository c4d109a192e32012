"""What stands on a printed statement, and how an amount is printed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal


@dataclass(frozen=True)
class PdfParty:
    """Who charges or is charged; lines of the address as they are printed."""

    name: str
    address: Sequence[str]
    tax_number: str | None


@dataclass(frozen=True)
class PdfRow:
    """A row of the statement: what, how it is reckoned, the quantity in words, and the amount."""

    what: str
    how: str
    quantity: str
    amount: Decimal


@dataclass(frozen=True)
class PdfStatement:
    """One statement, all of one currency; amounts with as many decimals as the currency has."""

    title: str
    month: str
    facts: Sequence[tuple[str, str]]
    """What stands beside the addresses: number, dates, order number."""
    seller: PdfParty
    buyer: PdfParty
    currency: str
    rows: Sequence[PdfRow]
    net: Decimal
    taxes: Sequence[PdfRow]
    total: Decimal
    notes: Sequence[str]
    departments: Sequence[tuple[str, Decimal]]
    months: Sequence[tuple[str, Decimal]]
    """The months up to this one, with their totals."""


def figure(amount: Decimal) -> str:
    """An amount as it is printed: thousands apart, a true minus."""
    return f"{amount:,f}".replace(",", "\u00a0").replace("-", "\u2212")
