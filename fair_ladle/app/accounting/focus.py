"""Statements as cost rows of FOCUS 1.2 (FinOps Open Cost and Usage Specification), with sub-accounts, usage measurement
and unit pricing; what its columns do not hold stands in columns that begin with x_."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal
from zoneinfo import ZoneInfo

from anyascii import anyascii

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import invalid
from fair_ladle.app.pools.service import Product
from fair_ladle.app.statements.billing import parse_month
from fair_ladle.app.statements.ledger import Statement
from fair_ladle.app.statements.lines import Line
from fair_ladle.app.statements.seller_months import is_closed, statements_of
from fair_ladle.app.statements.usecases import statements
from fair_ladle.core.calendar import MICRO, day_start, instant, month_after
from fair_ladle.core.statement_lines import ChargeTerms, Every, Kind

COLUMNS = (
    *("BilledCost", "EffectiveCost", "ListCost", "ContractedCost", "BillingAccountId", "BillingAccountName"),
    *("BillingCurrency", "BillingPeriodStart", "BillingPeriodEnd", "ChargePeriodStart", "ChargePeriodEnd"),
    *("ChargeCategory", "ChargeClass", "ChargeDescription", "ChargeFrequency", "InvoiceId", "InvoiceIssuerName"),
    *("ProviderName", "PublisherName", "PricingQuantity", "PricingUnit", "ServiceName", "ServiceCategory"),
    *("ServiceSubcategory", "SubAccountId", "SubAccountName", "ConsumedQuantity", "ConsumedUnit"),
    *("CommitmentDiscountStatus", "SkuId", "SkuPriceId", "SkuMeter", "SkuPriceDetails"),
    *("x_BillingAccountName", "x_SubAccountName", "x_ServiceName", "x_InvoiceIssuerName", "x_Reference"),
)
SERVICES = {
    "seat": ("Business Applications", "Productivity and Collaboration", "Seat-Months", "Seats"),
    "storage": ("Storage", "Storage Platforms", "GB-Months", "GB"),
}
OTHER = ("Other", "Other (Other)", "Units/Month", "Units")
MOST_MONTHS = 36
ADJUSTED_AS = {Kind.USAGE: "Usage", Kind.CHARGE: "Purchase", Kind.DISCOUNT: "Credit"}
"""The category of an adjustment, by what it adjusts."""
Row = dict[str, str | Decimal | None]


def cost_rows(tx: Transaction, actor: Actor, account: str, since: str, until: str, is_open: bool) -> Iterator[Row]:
    """The cost rows of an account from one month to another, for whoever runs it or an account above it: of closed
    months, or of those that are not. Of a seller they are what it charges its buyers, of another account what it is
    charged."""
    wanted = months(tx, actor, account, since, until)
    known, zone = accounts_service.known(tx), accounts_service.zone(tx)
    sells, names = known.facts[known.tree.row(account)].kind in ("operator", "reseller"), _Names(known)
    for first in wanted:
        if sells:
            found = statements_of(tx, account, first) if is_closed(tx, account, first) != is_open else iter(())
        else:
            _, mine = statements(tx, actor, account, f"{first:%Y-%m}")
            found = iter([each for each in mine if (each.number is None) == is_open])
        for statement in found:
            yield from of_statement(statement, names, zone)


def months(tx: Transaction, actor: Actor, account: str, since: str, until: str) -> list[date]:
    """The first days of the months from one to another, for whoever runs an account or one above it."""
    accounts_service.row_in_scope(accounts_service.known(tx), actor, account)
    (first, _), (last, _) = parse_month(since), parse_month(until)
    found: list[date] = []
    while first <= last and len(found) <= MOST_MONTHS:
        found.append(first)
        first = month_after(first)
    if not 0 < len(found) <= MOST_MONTHS:
        raise invalid(f"From one month to a later one, {MOST_MONTHS} at most.", "until")
    return found


class _Names:
    """Names as they were, in their own letters and in ASCII."""

    def __init__(self, accounts: accounts_service.Accounts):
        self._accounts = accounts

    def of(self, code: str) -> str:
        """The name of an account."""
        tree = self._accounts.tree
        return self._accounts.name(tree.row(code)) if code in tree else code


def _id(code: str) -> str:
    """A code as an identifier that is not taken for a number."""
    return f"A-{code}" if code.isdigit() else code


def _ascii(text: str) -> str:
    return " ".join(str(anyascii(text)).split())


def _at(day: date, zone: ZoneInfo) -> str:
    moment: datetime = instant(day_start(day, zone) * MICRO)
    return f"{moment.astimezone(UTC):%Y-%m-%dT%H:%M:%SZ}"


def of_statement(statement: Statement, names: _Names, zone: ZoneInfo) -> Iterator[Row]:
    """The rows of one statement; what is billed in them comes to its total."""
    begin, end = _at(statement.first, zone), _at(statement.last + timedelta(days=1), zone)
    seller, buyer = names.of(statement.seller), names.of(statement.buyer)
    shared: Row = {
        "BillingAccountId": _id(statement.buyer),
        "BillingAccountName": _ascii(buyer),
        "x_BillingAccountName": buyer,
        "BillingCurrency": statement.currency,
        "BillingPeriodStart": begin,
        "BillingPeriodEnd": end,
        "ChargePeriodStart": begin,
        "ChargePeriodEnd": end,
        "InvoiceId": statement.number,
        "InvoiceIssuerName": _ascii(seller),
        "x_InvoiceIssuerName": seller,
        "ProviderName": _ascii(seller),
        "PublisherName": _ascii(seller),
    }
    for line in statement.lines:
        for row in _of_line(line, names):
            yield shared | row
    charges = {each.reference: each for each in statement.charges}
    for kind, reference, by_percent in statement.amounts():
        if kind is not Kind.USAGE:
            amount = sum(by_percent.values(), Decimal(0))
            yield shared | _other(kind, reference, amount, charges.get(reference) if kind is Kind.CHARGE else None)


def _cost(amount: Decimal, is_purchase: bool = False) -> Row:
    return {
        "BilledCost": amount,
        "EffectiveCost": Decimal(0) if is_purchase else amount,
        "ListCost": amount,
        "ContractedCost": amount,
    }


def _service(name: str, product: Product | None) -> Row:
    category, subcategory, *_ = SERVICES.get(product.measure, OTHER) if product else OTHER
    return {
        "ServiceName": _ascii(name),
        "x_ServiceName": name,
        "ServiceCategory": category,
        "ServiceSubcategory": subcategory,
    }


def _of_line(line: Line, names: _Names) -> Iterator[Row]:
    product = line.product
    _, _, pricing_unit, consumed_unit = SERVICES.get(product.measure, OTHER)
    for part in line.shares:
        name = names.of(part.account)
        yield {
            **_cost(part.amount),
            **_service(product.name, product),
            **({"PublisherName": _ascii(product.vendor)} if product.vendor else {}),
            "ChargeCategory": "Usage",
            "ChargeDescription": _ascii(f"{product.name}, {line.rate.basis}, {line.rate.aggregate}"),
            "ChargeFrequency": "Usage-Based",
            "PricingQuantity": part.quantity,
            "PricingUnit": pricing_unit,
            "ConsumedQuantity": part.quantity,
            "ConsumedUnit": consumed_unit,
            "SubAccountId": _id(part.account),
            "SubAccountName": _ascii(name),
            "x_SubAccountName": name,
            "SkuId": _id(product.code),
            "SkuPriceId": f"{_id(product.code)}-{line.rate.first_day:%Y-%m-%d}",
            "SkuMeter": f"{line.rate.basis} {line.rate.aggregate}",
            "x_Reference": product.code,
        }


def _other(kind: Kind, reference: str, amount: Decimal, charge: ChargeTerms | None) -> Row:
    if kind is Kind.TAX:
        row = {**_service("Tax", None), "ChargeCategory": "Tax", "ChargeDescription": f"Tax {_ascii(reference)}"}
    elif charge is not None:
        name = charge.description or charge.reference
        row = {
            **_service("Charges", None),
            "ChargeCategory": "Purchase",
            "ChargeDescription": _ascii(name),
            "PricingQuantity": charge.quantity,
            "PricingUnit": "Units",
            "SkuId": _id(charge.reference),
            "SkuPriceId": f"{_id(charge.reference)}-{charge.first_day:%Y-%m-%d}",
            "SkuMeter": "charge",
        }
    elif kind is Kind.ADJUSTMENT:
        _, of, what = reference.split(":", 2)
        row = {
            **_service("Adjustments", None),
            "ChargeCategory": ADJUSTED_AS[Kind(of)],
            "ChargeClass": "Correction",
            "ChargeDescription": _ascii(f"Adjustment {reference}"),
        }
    else:
        row = {
            **_service("Discounts and credits", None),
            "ChargeCategory": "Credit",
            "ChargeDescription": _ascii(f"{kind.capitalize()} {reference}"),
        }
    recurring = charge is not None and charge.every is Every.MONTH
    is_purchase = row["ChargeCategory"] == "Purchase"
    return {
        **row,
        **_cost(amount, is_purchase),
        "ChargeFrequency": "Recurring" if recurring else "One-Time",
        "x_Reference": reference,
    }


def written(row: Row) -> list[str]:
    """A row under COLUMNS: nothing is an empty field, and a decimal has a point."""
    return [_written(row.get(column)) for column in COLUMNS]


def _written(value: str | Decimal | None) -> str:
    if value is None:
        return ""
    if isinstance(value, str):
        return value
    text = f"{value:f}"
    return text if "." in text else f"{text}.0"
