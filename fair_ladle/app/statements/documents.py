"""A buyer's statements of a month as documents to send or keep: of a closed month always the same bytes."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from datetime import date
from decimal import Decimal

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import not_found
from fair_ladle.app.statements import closed_store
from fair_ladle.app.statements.billing import parse_month
from fair_ladle.app.statements.kept_books import unpacked
from fair_ladle.app.statements.ledger import Ledger, Statement, statement_adapter
from fair_ladle.app.statements.lines import Line
from fair_ladle.app.statements.particulars import Particulars, Party, details, particulars
from fair_ladle.app.statements.rate_cards import decimals_of
from fair_ladle.app.statements.usecases import statements
from fair_ladle.app.statements.views import others
from fair_ladle.connectors.printed import PdfParty, PdfRow, PdfStatement, figure
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
    return [
        _document(
            each,
            with_particulars(tx, each),
            _closed_totals(tx, each) if each.number else _totals(ledger, each),
        )
        for each in found
    ]


def closed_document(tx: Transaction, statement_id: int) -> tuple[Statement, PdfStatement]:
    """A closed statement, and the document of it. Trusted: the caller has judged scope."""
    statement = closed_statement(tx, statement_id)
    return statement, document_of(tx, statement)


def document_of(tx: Transaction, statement: Statement) -> PdfStatement:
    """The document of a closed statement. Trusted: the caller has judged scope."""
    return _document(statement, with_particulars(tx, statement), _closed_totals(tx, statement))


def closed_statement(tx: Transaction, statement_id: int) -> Statement:
    """A closed statement as it was charged. Trusted: the caller has judged scope."""
    return statement_adapter.validate_json(unpacked(closed_store.document(tx.connection, statement_id))[0])


def with_particulars(tx: Transaction, statement: Statement) -> Particulars:
    """The particulars a statement was closed with, or those it has now."""
    if statement.particulars is not None:
        return statement.particulars
    ids = accounts_service.ids_by_code(tx, {statement.seller, statement.buyer})
    of = details(tx.connection, ids)
    closing = closed_store.closing_of(tx.connection, ids[statement.seller], statement.first)
    closed_at = closing.closed_at if statement.number is not None and closing is not None else None
    issued = None if closed_at is None else closed_at.astimezone(accounts_service.zone(tx)).date()
    names = accounts_service.names(accounts_service.known(tx), statement.accounts())
    return particulars(of[statement.seller], of[statement.buyer], issued, names)


def _document(
    statement: Statement,
    about: Particulars,
    months: Sequence[tuple[str, Decimal]],
) -> PdfStatement:
    facts = [("Number", statement.number)] if statement.number else [("Status", "open, not yet closed")]
    notes = []
    if about.issued is not None:
        facts.append(("Date", f"{about.issued:%-d %B %Y}"))
    if about.due is not None and statement.total > 0:
        facts.append(("Due", f"{about.due:%-d %B %Y}"))
    if about.buyer_reference:
        facts.append(("Your reference", about.buyer_reference))
    if about.iban and statement.total > 0:
        notes.append(f"Please pay to {' '.join(re.findall('.{1,4}', about.iban))}.")
    if statement.tax is TaxStatus.REVERSE_CHARGE:
        notes.append("Reverse charge: tax is owed by the recipient.")
    elif statement.tax is TaxStatus.EXEMPT:
        notes.append(f"Exempt from tax{f': {about.exemption_reason}' if about.exemption_reason else ''}.")
    return PdfStatement(
        "Credit note" if statement.total < 0 else "Statement",
        f"{statement.first:%B %Y}",
        facts,
        _party(about.seller),
        _party(about.buyer),
        statement.currency,
        _rows(statement),
        statement.composed.net,
        _taxes(statement),
        statement.total,
        notes,
        _departments(statement, about.names),
        months,
    )


def _party(party: Party) -> PdfParty:
    town = " ".join(each for each in (party.postcode, party.city) if each)
    return PdfParty(party.name, [each for each in (party.street, town, party.country) if each], party.tax_number)


def _rows(statement: Statement) -> list[PdfRow]:
    rows = [
        PdfRow(
            line.product.name,
            f"{line.rate.basis}, {line.rate.aggregate}",
            _quantity(line),
            line.charge.amount,
        )
        for line in statement.lines
    ]
    names = {line.product.code: line.product.name for line in statement.lines}
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


def _departments(statement: Statement, names: Mapping[str, str]) -> list[tuple[str, Decimal]]:
    """What the usage lines come to by account, in the order in which they stand in the lines."""
    sums = dict[str, Decimal]()
    for line in statement.lines:
        for share in line.shares:
            sums[share.account] = sums.get(share.account, Decimal(0)) + share.amount
    return [(names.get(code, code), amount) for code, amount in sums.items()]


def _months(first: date) -> list[date]:
    """The twelve months up to one, the oldest first."""
    months = [first]
    while len(months) < MONTHS:
        months.append(month_before(months[-1]))
    return months[::-1]


def _totals(ledger: Ledger, statement: Statement) -> list[tuple[str, Decimal]]:
    """What an open statement's twelve months come to with one another."""
    nothing = Decimal(0).scaleb(-decimals_of(statement.currency))
    found = []
    for month in _months(statement.first):
        mine = ledger.of_seller(statement.seller, statement.buyer, month)
        found.append(
            (f"{month:%b}", next((each.total for each in mine if each.currency == statement.currency), nothing))
        )
    return found


def _closed_totals(tx: Transaction, statement: Statement) -> list[tuple[str, Decimal]]:
    """What the closed months up to a closed statement came to, which is what will always stand there."""
    ids, months = accounts_service.ids_by_code(tx, {statement.seller, statement.buyer}), _months(statement.first)
    found = closed_store.totals_between(
        tx.connection, ids[statement.seller], ids[statement.buyer], statement.currency, months[0], months[-1]
    )
    decimals = decimals_of(statement.currency)
    return [(f"{month:%b}", half_up(found.get(month, Decimal(0)), decimals)) for month in months]


def as_pdf(documents: Sequence[PdfStatement]) -> bytes:
    """Statements one after the other, set as PDF. What sets them is loaded when it is needed: no command needs it."""
    from fair_ladle.connectors.pdf_out import statement_pdf

    return statement_pdf(documents)
