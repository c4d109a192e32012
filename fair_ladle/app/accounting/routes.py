"""Journal, tax, cost rows, e-invoices and the documents of a month, over HTTP."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from fastapi import Query, Response
from pydantic import BaseModel, Field

from fair_ladle.app.accounting import einvoices, focus, journal, month_files
from fair_ladle.app.plumbing.exports import Format, Streamed, sheet
from fair_ladle.app.plumbing.http import Db, Keyed, Who, attachment
from fair_ladle.app.plumbing.routing import Router
from fair_ladle.connectors.sheets_out import Cell, Totals, csv_parts
from fair_ladle.connectors.zip_out import TYPE, zip_parts

routes = Router("/api/accounting", "statements", sees="statements.see", changes="statements.settle")
ENTRIES = ("day", "document", "role", "of", "account", "buyer", "cost_centre", "text", "debit", "credit", "currency")


class JournalAccount(BaseModel):
    """The account of a role, and of a product or a percentage of it; ``of`` empty = all others."""

    role: str = Field(max_length=16)
    of: str = Field("", max_length=64)
    account: str = Field(max_length=64)


class JournalAccounts(BaseModel):
    """What a seller's books call things."""

    accounts: list[JournalAccount] = Field(max_length=1000)


class JournalRole(BaseModel):
    """What entries are for."""

    role: str
    says: str
    by: str
    """What it may be told apart by: product, percentage, or nothing."""


class JournalAccountsFound(JournalAccounts):
    """The same with the roles there are."""

    roles: list[JournalRole]


@routes.get("/{seller}/journal-accounts", response_model=JournalAccountsFound)
def journal_accounts(db: Db, who: Who, seller: str) -> Any:
    """What a seller's books call things."""
    found = db.snapshot(journal.accounts_of, who, seller)
    by = dict.fromkeys(journal.BY_PRODUCT, "product") | dict.fromkeys(journal.BY_PERCENT, "percentage")
    return JournalAccountsFound(
        accounts=[JournalAccount(role=role, of=of, account=account) for (role, of), account in found.items()],
        roles=[JournalRole(role=role, says=says, by=by.get(role, "")) for role, says in journal.ROLES.items()],
    )


@routes.put("/{seller}/journal-accounts", status_code=204, response_class=Response)
def set_journal_accounts(db: Keyed, who: Who, seller: str, body: JournalAccounts) -> Response:
    """Say what a seller's books call things."""
    db.run(journal.set_accounts, who, seller, [(each.role, each.of, each.account) for each in body.accounts])
    return Response(status_code=204)


@routes.get("/{seller}/journal", response_class=Response)
def journal_file(db: Db, who: Who, form: Format, seller: str, month: str) -> Response:
    """The entries of a seller's month (YYYY-MM), each document balanced."""
    rows = ([getattr(entry, column) for column in ENTRIES] for entry in db.stream(journal.journal, who, seller, month))
    return sheet(f"journal-{seller}-{month}", form, ENTRIES, rows, Totals(("debit", "credit"), "currency"))


@routes.get("/{seller}/tax", response_class=Response)
def tax_file(
    db: Db, who: Who, form: Format, seller: str, since: str = Query(alias="from"), until: str = Query()
) -> Response:
    """The tax of a seller's closed months from one to another (YYYY-MM), by currency and rate."""
    found = db.snapshot(journal.tax_summary, who, seller, since, until)
    columns = ("currency", "tax", "base", "amount", "statements")
    rows: list[list[Cell]] = [
        [each.currency, each.tax or "untaxed", each.base, each.amount, each.statements] for each in found
    ]
    return sheet(f"tax-{seller}-{since}-{until}", form, columns, rows, Totals(("base", "amount"), "currency"))


@routes.get("/{seller}/documents", response_class=Response)
def documents_file(db: Db, who: Who, seller: str, month: str) -> Response:
    """All documents of a seller's closed month (YYYY-MM) as one zip."""
    files = db.stream(month_files.month_files, who, seller, month)
    return Streamed(zip_parts(files), TYPE, attachment(f"statements-{seller}-{month}.zip"))


@routes.get("/{account}/focus", response_class=Response)
def focus_file(db: Db, who: Who, account: str, since: str = Query(alias="from"), until: str = Query()) -> Response:
    """An account's cost rows (FOCUS 1.2) from one month to another (YYYY-MM): a zip of those of closed months, which
    have an invoice, and those of open ones."""

    def rows(is_open: bool) -> Iterator[list[str]]:
        for row in db.stream(focus.cost_rows, who, account, since, until, is_open):
            yield focus.written(row)

    db.snapshot(focus.months, who, account, since, until)
    files = ((name, csv_parts(focus.COLUMNS, rows(is_open))) for name, is_open in FOCUS_FILES)
    return Streamed(zip_parts(files), TYPE, attachment(f"focus-{account}-{since}-{until}.zip"))


FOCUS_FILES = (("closed-months.csv", False), ("open-months.csv", True))


@routes.get("/{buyer}/e-invoice", response_class=Response)
def e_invoice_file(db: Db, who: Who, buyer: str, month: str, currency: str = Query(max_length=3)) -> Response:
    """A buyer's closed statement as an e-invoice (EN 16931, UBL)."""
    name, content = db.snapshot(einvoices.e_invoice, who, buyer, month, currency)
    return Response(content, media_type="application/xml", headers=attachment(name))
