"""All documents of a seller's closed month."""

from __future__ import annotations

from collections.abc import Iterator

from fair_ladle.app.accounting.einvoices import as_invoice
from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import Refused, conflict
from fair_ladle.app.statements.billing import parse_month
from fair_ladle.app.statements.documents import as_pdf, document_of
from fair_ladle.app.statements.seller_months import closed_statements, is_closed
from fair_ladle.app.statements.sheets import COLUMNS, statement_rows
from fair_ladle.connectors.sheets_out import as_csv
from fair_ladle.connectors.ubl_out import faults, invoice_xml

SUMMARY = ("number", "buyer", "name", "currency", "before_tax", "total", "due", "e_invoice")


def month_files(tx: Transaction, actor: Actor, seller: str, month: str) -> Iterator[tuple[str, bytes]]:
    """The documents of a month one after the other: of each statement its PDF, its CSV, and an e-invoice where it
    breaks no rule; at last a summary, which says what stands in the way of the others. For whoever runs the seller."""
    known = accounts_service.known(tx)
    accounts_service.row_in_scope(known, actor, seller)
    first, _ = parse_month(month)
    if not is_closed(tx, seller, first):
        raise conflict(f"{first:%B %Y} is open; it has documents once it is closed.")
    rows = []
    for _, statement in closed_statements(tx, seller, first):
        document = document_of(tx, statement)
        name = f"{statement.number}-{statement.buyer}"
        yield f"pdf/{name}.pdf", as_pdf([document])
        yield f"csv/{name}.csv", as_csv(COLUMNS, statement_rows(statement, seller))
        try:
            invoice = as_invoice(tx, statement)
            wrong = " ".join(f"{says} ({rule})" for rule, says in faults(invoice))
        except Refused as refused:
            wrong = refused.problem.detail or refused.problem.title
        else:
            if not wrong:
                yield f"e-invoice/{name}.xml", invoice_xml(invoice)
        about = statement.particulars
        rows.append(
            [
                *(statement.number, statement.buyer, document.buyer.name, statement.currency),
                *(statement.composed.net, statement.total, about.due if about else None, wrong or "yes"),
            ]
        )
    yield f"statements-{month}.csv", as_csv(SUMMARY, rows)
