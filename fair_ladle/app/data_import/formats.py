"""The tables of an intake: their columns, what each cell may hold, and what would be right where it does not."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, date, datetime
from decimal import Decimal
from functools import lru_cache
from typing import Any
from zoneinfo import available_timezones

from iso4217 import Currency

from fair_ladle.app.plumbing.addresses import is_country, is_iban
from fair_ladle.app.plumbing.days import YEARS
from fair_ladle.core.allocations import AtCap
from fair_ladle.core.pricing import Aggregate, Basis, Fees, TierMode
from fair_ladle.core.statement_lines import Every, TaxStatus

KINDS = ("operator", "reseller", "client", "sub-account")
MEASURES = ("seat", "device", "session", "item", "storage")
STATUSES = ("active", "invited", "suspended")
NEVER_CODES = ("supply", "idle")
NUMBER = re.compile(r"\d{1,18}(\.\d{1,10})?")
EMAIL = re.compile(r"[^@\s,;<>]+@[^@\s,;<>]+")
MOST_BYTES = 10**17
Parser = Callable[[str], Any]


class Expected(ValueError):
    """The cell holds something else; the message says what would be right."""


def code(text: str) -> str:
    """A code: up to 64 characters, no ; and none of the engine's own words."""
    if len(text) > 64 or ";" in text or text in NEVER_CODES:
        raise Expected(f"a code of at most 64 characters without ; (and not {' or '.join(NEVER_CODES)})")
    return text


def up_to(length: int) -> Parser:
    """Text of at most so many characters."""

    def parse(text: str) -> str:
        if len(text) > length:
            raise Expected(f"at most {length} characters")
        return text

    return parse


def one_of(*names: str) -> Parser:
    """One of these words."""

    def parse(text: str) -> str:
        if text not in names:
            raise Expected("one of " + ", ".join(names))
        return text

    return parse


@lru_cache(4096)
def day(text: str) -> date:
    """A day, YYYY-MM-DD."""
    try:
        if len(text) != 10:
            raise ValueError
        found = date.fromisoformat(text)
    except ValueError:
        raise Expected("a day like 2026-10-01") from None
    if not YEARS[0] <= found.year <= YEARS[1]:
        raise Expected(f"a day between {YEARS[0]} and {YEARS[1]}")
    return found


def instant(text: str) -> datetime:
    """An instant with its offset, ISO 8601."""
    try:
        found = datetime.fromisoformat(text)
        if found.tzinfo is None or len(text) < 16:
            raise ValueError
        found = found.astimezone(UTC)
    except (ValueError, OverflowError):
        raise Expected("an instant with its offset, like 2026-10-01T09:30:00+01:00") from None
    if not YEARS[0] <= found.year <= YEARS[1]:
        raise Expected("an instant between 1970 and 2200")
    return found


def number(text: str) -> Decimal:
    """A number not below 0, with at most 10 decimals."""
    if not NUMBER.fullmatch(text):
        if text.startswith("-"):
            raise Expected("a number not below 0")
        raise Expected("a number like 12 or 3.75, without signs, spaces or exponents, at most 10 decimals")
    return Decimal(text)


def whole(most: int) -> Parser:
    """A whole number from 0 to ``most``."""

    def parse(text: str) -> int:
        if not text.isascii() or not text.isdigit() or int(text[:20]) > most:
            raise Expected(f"a whole number from 0 to {most}")
        return int(text)

    return parse


def yes_no(text: str) -> bool:
    """yes or no."""
    if text.lower() not in ("yes", "no", "true", "false", "1", "0"):
        raise Expected("yes or no")
    return text.lower() in ("yes", "true", "1")


def currency(text: str) -> str:
    """A currency's code after ISO 4217."""
    try:
        found = Currency(text)
        if found.exponent is None:
            raise ValueError
        return str(found.code)
    except ValueError:
        raise Expected("the code of a currency with a minor unit after ISO 4217, like EUR") from None


def percent(text: str) -> Decimal:
    """A percentage from 0 to 100."""
    found = number(text)
    if found > 100:
        raise Expected("a percentage from 0 to 100")
    return found


def above_zero(text: str) -> Decimal:
    """A number above 0."""
    found = number(text)
    if not found:
        raise Expected("a number above 0")
    return found


def country(text: str) -> str:
    """A country's code of two letters."""
    if not is_country(text):
        raise Expected("a country's code after ISO 3166, like PT")
    return text


def iban(text: str) -> str:
    """A bank account after ISO 13616, its check digits right; kept without spaces."""
    found = text.replace(" ", "")
    if not is_iban(found):
        raise Expected("an IBAN whose check digits are right, like PT50 0002 0123 1234 5678 9015 4")
    return found


@lru_cache(1)
def _time_zones() -> frozenset[str]:
    return frozenset(available_timezones())


def time_zone(text: str) -> str:
    """A time zone of the IANA database."""
    if text not in _time_zones():
        raise Expected("a time zone like Europe/Lisbon")
    return text


def email(text: str) -> str:
    """An e-mail address."""
    if len(text) > 254 or not EMAIL.fullmatch(text):
        raise Expected("an e-mail address like name@client.example")
    return text


def codes(text: str) -> tuple[str, ...]:
    """Codes joined by ;."""
    return tuple(each.strip() for each in text.split(";") if each.strip())


@dataclass(frozen=True)
class Column:
    """A column; ``default`` stands for an empty cell unless it is required. Where a table has no ``optional`` column,
    what is there stays as it is."""

    name: str
    parse: Parser
    required: bool = False
    default: Any = None
    optional: bool = False


def _may(name: str, parse: Parser, default: Any = None) -> Column:
    return Column(name, parse, default=default, optional=True)


def _need(name: str, parse: Parser) -> Column:
    return Column(name, parse, required=True)


FORMATS: dict[str, tuple[Column, ...]] = {
    "accounts": (
        _need("code", code),
        Column("parent", code),
        _need("kind", one_of(*KINDS)),
        _need("name", up_to(200)),
        Column("currency", currency),
        Column("time_zone", time_zone),
        Column("admin_email", email),
        Column("billing_email", email),
        Column("unallocated", one_of("free", "none")),
        _may("tax", one_of(*TaxStatus), "normal"),
        _may("exemption_reason", up_to(200)),
        _may("street", up_to(200)),
        _may("postcode", up_to(32)),
        _may("city", up_to(100)),
        _may("country", country),
        _may("tax_number", up_to(32)),
        _may("payment_days", whole(3660)),
        _may("iban", iban),
        _may("buyer_reference", up_to(100)),
        _may("cost_centre", up_to(64)),
    ),
    "products": (
        _need("code", code),
        _need("name", up_to(200)),
        Column("vendor", up_to(200)),
        _need("measure", one_of(*MEASURES)),
        Column("unit", up_to(32)),
        Column("family", code),
        Column("requires", codes, default=()),
        Column("components", codes, default=()),
        Column("successor", code),
        _may("tax_class", code),
        _may("idle", one_of("retained", "spread"), "retained"),
    ),
    "lots": (
        _need("reference", up_to(100)),
        _need("owner", code),
        _need("product", code),
        _need("quantity", number),
        _need("first_day", day),
        Column("last_day", day),
        Column("unit_cost", number, default=Decimal(0)),
        Column("currency", currency),
        Column("true_up", number, default=Decimal(0)),
        Column("overcommit", whole(100_000)),
    ),
    "allocations": (
        _need("account", code),
        _need("product", code),
        Column("reserve", number, default=Decimal(0)),
        Column("cap", number),
        Column("at_cap", one_of(*AtCap), default="block"),
        Column("burst", number),
        Column("grace_days", whole(3660)),
        _need("first_day", day),
        Column("last_day", day),
        _may("per", code),
        _may("each", number),
    ),
    "people": (
        _need("account", code),
        _need("username", up_to(128)),
        _need("display_name", up_to(200)),
        Column("email", email),
        Column("status", one_of(*STATUSES), default="active"),
        Column("invited_at", instant),
        Column("last_seen_at", instant),
        Column("title", up_to(200)),
        Column("department", up_to(200)),
        Column("protected", yes_no, default=False),
    ),
    "groups": (
        _need("account", code),
        _need("code", code),
        _need("name", up_to(200)),
        Column("rule", up_to(4000)),
        Column("members", codes, default=()),
        Column("precedence", whole(1_000_000)),
    ),
    "assignments": (
        _need("account", code),
        _need("product", code),
        _need("subject", up_to(128)),
        _need("from", instant),
        Column("to", instant),
    ),
    "storage": (
        _need("account", code),
        _need("product", code),
        _need("category", up_to(200)),
        _need("at", instant),
        _need("bytes", whole(MOST_BYTES)),
    ),
    "rates": (
        _need("seller", code),
        Column("buyer", code),
        _need("product", code),
        _need("first_day", day),
        _need("basis", one_of(*Basis)),
        Column("aggregate", one_of(*Aggregate), default="average"),
        Column("tier_mode", one_of(*TierMode), default="graduated"),
        Column("included", number),
        Column("overage_price", number),
        Column("minimum", number),
        Column("fixed_fee", number),
        Column("currency", currency),
        _may("committed", number),
        _may("fees", one_of(*Fees), "whole"),
        _may("markup", number),
    ),
    "rate_tiers": (
        _need("seller", code),
        Column("buyer", code),
        _need("product", code),
        _need("first_day", day),
        _need("from_quantity", number),
        _need("unit_price", number),
    ),
    "charges": (
        _need("seller", code),
        _need("buyer", code),
        _need("reference", up_to(100)),
        Column("description", up_to(200)),
        Column("tax_class", code),
        Column("quantity", number, default=Decimal(1)),
        _need("unit_price", number),
        Column("currency", currency),
        _need("first_day", day),
        Column("last_day", day),
        Column("every", one_of(*Every), default="once"),
        Column("fees", one_of(*Fees), default="whole"),
    ),
    "discounts": (
        _need("seller", code),
        _need("buyer", code),
        _need("reference", up_to(100)),
        Column("product", code),
        _need("percent", percent),
        _need("first_day", day),
        Column("last_day", day),
        Column("ceiling", number),
        Column("currency", currency),
    ),
    "credits": (
        _need("seller", code),
        _need("buyer", code),
        _need("reference", up_to(100)),
        _need("amount", number),
        Column("currency", currency),
        _need("first_day", day),
        Column("last_day", day),
    ),
    "tax_rates": (
        _need("seller", code),
        _need("tax_class", code),
        _need("first_day", day),
        _need("percent", number),
    ),
    "exchange_rates": (
        _need("day", day),
        _need("from", currency),
        _need("to", currency),
        _need("rate", above_zero),
    ),
}
"""Every table in the order in which it is loaded."""
