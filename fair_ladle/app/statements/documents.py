"""A buyer's statements of a month as documents to send or keep."""

from __future__ import annotations

import re
from collections.abc import Sequence
from datetime import timedelta
from decimal import Decimal
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import not_found
from fair_ladle.app.statements import closed_store, store
from fair_ladle.app.statements.billing import BillingPeriod, Line, parse_month
from fair_ladle.app.statements.ledger import Ledger, Statement
from fair_ladle.app.statements.rate_cards import decimals_of
from fair_ladle.app.statements.usecases import statements
from fair_ladle.app.statements.views import others
from fair_ladle.connectors.pdf_out import PdfParty, PdfRow, PdfStatement, figure
from fair_ladle.core.calendar import month_before
from fair_ladle.core.quantities import half_up
from fair_ladle.core.statement_lines import Kind, TaxStatus

MONTHS = 12


def documents(tx: Transaction, actor: Actor, buyer: str, month: str) -> list[PdfStatement]:
    """One document for each currency, for whoever runs the buyer or an account above it. Nothing in it says what
    anything cost the seller."""
    first, _ = parse_month(month)
    ledger, found = statements(tx, actor, buyer, month)
    if not found:
        raise not_found("statement in that month for", buyer)
    period = ledger.period(first)
    ids = accounts_service.ids_by_code(tx, {buyer, *(each.seller for each in found)})
    details = store.billing_details(tx.connection, list(ids.values()))
    months = _totals(ledger, buyer, found)
    documents = []
    for statement in found:
        seller, mine = details[ids[statement.seller]], details[ids[buyer]]
        closing = closed_store.closing_of(tx.connection, ids[statement.seller], first) if statement.number else None
        facts = [("Number", statement.number)] if statement.number else [("Status", "open, not yet closed")]
        notes = []
        if closing is not None:
            issued = closing.closed_at.astimezone(accounts_service.zone(tx)).date()
            facts.append(("Date", f"{issued:%-d %B %Y}"))
            if mine.payment_days is not None:
                facts.append(("Due", f"{issued + timedelta(days=mine.payment_days):%-d %B %Y}"))
        if mine.buyer_reference:
            facts.append(("Your reference", mine.buyer_reference))
        if seller.iban and statement.total > 0:
            notes.append(f"Please pay to {' '.join(re.findall('.{1,4}', seller.iban))}.")
        if statement.tax is TaxStatus.REVERSE_CHARGE:
            notes.append("Reverse charge: tax is owed by the recipient.")
        elif statement.tax is TaxStatus.EXEMPT:
            notes.append(f"Exempt from tax{f': {mine.exemption_reason}' if mine.exemption_reason else ''}.")
        documents.append(
            PdfStatement(
                "Credit note" if statement.total < 0 else "Statement",
                f"{first:%B %Y}",
                facts,
                _party(seller),
                _party(mine),
                statement.currency,
                _rows(statement, period),
                statement.composed.net,
                _taxes(statement),
                statement.total,
                notes,
                _departments(statement, period),
                months[statement.seller, statement.currency],
            )
        )
    return documents


def _party(row: Any) -> PdfParty:
    town = " ".join(each for each in (row.postcode, row.city) if each)
    address = [each for each in (row.street, town, row.country) if each]
    return PdfParty(row.name, row.code, address, row.tax_number)


def _rows(statement: Statement, period: BillingPeriod) -> list[PdfRow]:
    rows = [
        PdfRow(
            line.product.name,
            f"{line.rate.basis}, {line.rate.aggregate}",
            _quantity(line),
            line.charge.amount,
        )
        for line in statement.lines
    ]
    names = {product.code: product.name for product in period.products}
    for each in others(statement, names):
        if each.kind != Kind.TAX:
            quantity = "" if each.quantity is None else f"{each.quantity:f} at {_price(each.unit_price)}"
            rows.append(PdfRow(each.says or each.reference, each.kind.capitalize(), quantity, each.amount))
    return rows


def _price(price: Decimal | None) -> str:
    """A price with at least two decimals, and all it has."""
    return "" if price is None else figure(price if -int(price.as_tuple().exponent) > 2 else half_up(price, 2))


def _quantity(line: Line) -> str:
    product, quantity = line.product, half_up(line.charge.quantity, 2)
    return f"{figure(quantity)} {product.unit}{'' if product.is_storage or quantity == 1 else 's'}"


def _taxes(statement: Statement) -> list[PdfRow]:
    return [
        PdfRow(each.says, "" if each.base is None else f"on {figure(each.base)}", "", each.amount)
        for each in others(statement, {})
        if each.kind == Kind.TAX
    ]


def _departments(statement: Statement, period: BillingPeriod) -> list[tuple[str, Decimal]]:
    """What the usage lines come to by account, in tree order."""
    tree, sums = period.accounts.tree, dict[str, Decimal]()
    for line in statement.lines:
        for share in line.shares:
            sums[share.account] = sums.get(share.account, Decimal(0)) + share.amount
    ordered = sorted(sums, key=lambda code: int(tree.depth_first[tree.row(code)]) if code in tree else len(tree))
    return [(period.accounts.name(tree.row(code)) if code in tree else code, sums[code]) for code in ordered]


def _totals(ledger: Ledger, buyer: str, found: Sequence[Statement]) -> dict[tuple[str, str], list[tuple[str, Decimal]]]:
    """By seller and currency, the totals of the twelve months up to these statements, the oldest first."""
    first, months = found[0].first, []
    for _ in range(MONTHS):
        months.append(first)
        first = month_before(first)
    totals: dict[tuple[str, str], list[tuple[str, Decimal]]] = {}
    for each in found:
        nothing = Decimal(0).scaleb(-decimals_of(each.currency))
        totals[each.seller, each.currency] = [
            (
                f"{month:%b}",
                next(
                    (
                        other.total
                        for other in ledger.of_seller(each.seller, buyer, month)
                        if other.currency == each.currency
                    ),
                    nothing,
                ),
            )
            for month in reversed(months)
        ]
    return totals
