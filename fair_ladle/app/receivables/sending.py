"""Statements and reminders by mail, and who gets them. The documents are made when the mails are sent."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import timedelta
from decimal import Decimal
from urllib.parse import quote

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.log import service as log_service
from fair_ladle.app.plumbing import outbox
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.addresses import in_a_mail
from fair_ladle.app.plumbing.database import Database, Transaction
from fair_ladle.app.plumbing.problems import conflict
from fair_ladle.app.receivables import store
from fair_ladle.app.receivables.billing_details import Contact, contact_of
from fair_ladle.app.receivables.listing import seller_id, statements_of
from fair_ladle.app.receivables.rows import ReceivableRecord
from fair_ladle.app.statements.billing import parse_month
from fair_ladle.app.statements.documents import as_pdf, closed_document
from fair_ladle.app.statements.ledger import numbered
from fair_ladle.app.statements.rate_cards import decimals_of
from fair_ladle.app.statements.sheets import COLUMNS, statement_rows
from fair_ladle.connectors.mail import Enclosure
from fair_ladle.connectors.printed import figure
from fair_ladle.connectors.sheets_out import as_csv
from fair_ladle.core.calendar import day_name
from fair_ladle.core.quantities import half_up

MOST_AT_ONCE = 20_000
NOT_AGAIN_WITHIN = timedelta(days=7)
"""Days within which nobody is reminded twice of the same statement."""


@dataclass(frozen=True)
class Sent:
    """How many statements went out in how many mails, and the buyers (names) that have nobody to send to."""

    statements: int
    mails: int
    without_contact: list[str]


def send(tx: Transaction, actor: Actor, seller: str, numbers: Sequence[str] | None, month: str | None) -> Sent:
    """Send closed statements to their buyers' contacts: those of these numbers, again too; or all of a month, or of
    every month, that were never sent.

    Locks the seller's desk alone. Under it is judged which were never sent, so that two who send at once send each
    statement once.
    """
    mine = seller_id(tx, actor, seller)
    store.lock_desk(tx.connection, mine)
    if numbers is None:
        first = None if month is None else parse_month(month)[0]
        wanted = store.asked_for(mine, accounts_service.today(tx), "unsent", first)
        _, rows = store.window(tx.connection, wanted, 0, MOST_AT_ONCE)
    else:
        rows = statements_of(tx, mine, numbers)
    return _mail(tx, actor, seller, mine, rows, "statement")


def remind(tx: Transaction, actor: Actor, seller: str, numbers: Sequence[str] | None) -> Sent:
    """Remind buyers of overdue statements: of these, or of all that nobody was reminded of within a week.

    Locks the seller's desk alone. Under it is judged what is overdue and when it was last reminded of.
    """
    mine = seller_id(tx, actor, seller)
    store.lock_desk(tx.connection, mine)
    today = accounts_service.today(tx)
    if numbers is None:
        _, rows = store.window(tx.connection, store.asked_for(mine, today, "overdue", None), 0, MOST_AT_ONCE)
        last = store.last_reminders(tx.connection, [row.id for row in rows])
        rows = [row for row in rows if row.id not in last or last[row.id] <= tx.now - NOT_AGAIN_WITHIN]
    else:
        rows = statements_of(tx, mine, numbers)
        for row in rows:
            if row.settled or row.total <= 0 or row.due_day is None or row.due_day >= today:
                raise conflict(f"{numbered(row.year, row.number)} is not overdue.")
    return _mail(tx, actor, seller, mine, rows, "reminder")


def _mail(tx: Transaction, actor: Actor, seller: str, mine: int, rows: list[ReceivableRecord], kind: str) -> Sent:
    accounts = accounts_service.known(tx)
    name = accounts.name(accounts.row_of_id[mine])
    further = store.contacts(tx.connection, {row.buyer_id for row in rows})
    mails, about, nobody = [], [], []
    for row in rows:
        everything = [Contact(row.billing_email, True, True, True)] if row.billing_email else []
        asked = [*everything, *(contact_of(each) for each in further.get(row.buyer_id, []))]
        gets = {
            each.email.lower(): each
            for each in reversed(asked)
            if (each.gets_reminders if kind == "reminder" else each.gets_statements or each.gets_data)
        }
        if not gets:
            nobody.append(row.buyer_name)
        for each in gets.values():
            forms = [form for form, wants in (("pdf", each.gets_statements), ("csv", each.gets_data)) if wants]
            enclosed = "pdf" if kind == "reminder" else ",".join(forms)
            mails.append((each.email, *_text(tx, row, name, kind), f"statement {row.id} {enclosed}"))
            about.append(row.id)
    ids = outbox.write_enclosing(tx, mails)
    said = {"kind": kind, "at": tx.now, "by": actor.name[:254]}
    noted = [{"statement_id": each, **said, "outbox_id": mail} for each, mail in zip(about, ids, strict=True)]
    store.add_mails(tx.connection, noted)
    sent = len(set(about))
    if sent:
        action = "statements sent" if kind == "statement" else "statements reminded of"
        told = {"statements": str(sent), "mails": str(len(mails))}
        if sent == 1:
            told["number"] = next(numbered(row.year, row.number) for row in rows if row.id == about[0])
        log_service.write(tx, actor, mine, [log_service.Entry(action, seller, mine, None, told)])
    return Sent(sent, len(mails), sorted(set(nobody)))


def _text(tx: Transaction, row: ReceivableRecord, seller: str, kind: str) -> tuple[str, str]:
    number, month, decimals = numbered(row.year, row.number), f"{row.first_day:%B %Y}", decimals_of(row.currency)
    total, left = (f"{figure(half_up(each, decimals))} {row.currency}" for each in (row.total, row.total - row.paid))
    what = "credit note" if row.total < 0 else "statement"
    link = f"{tx.settings.address}/statements/{quote(row.buyer)}?month={row.first_day:%Y-%m}"
    due = f", due {day_name(row.due_day)}" if row.due_day is not None and row.total > 0 else ""
    if kind == "reminder":
        assert row.due_day is not None, "what has no due day is never overdue"
        subject = f"Overdue: statement {number} of {in_a_mail(seller, 'your provider')}"
        first = f"Statement {number} for {month} was due on {day_name(row.due_day)}. {left} of {total} is still open."
        rest = "If you have paid it in the last days, there is nothing to do."
    else:
        subject = f"{what.capitalize()} {number} of {in_a_mail(seller, 'your provider')}, {month}"
        first = f"Your {what} {number} for {month} is enclosed: {total}{due}."
        rest = "Every figure, and a way to ask about it:"
    return subject, f"Hello,\n\n{first}\n{rest}\n{link}\n\n{in_a_mail(seller, 'Your provider')}\n"


def enclosures(database: Database, what: str) -> list[Enclosure]:
    """The files that go with a mail, by what the outbox says is enclosed. Trusted: jobs call it."""
    _, statement_id, forms = what.split(" ")
    statement, document = database.snapshot(closed_document, int(statement_id))
    name = f"{'credit-note' if statement.total < Decimal(0) else 'statement'}-{statement.number}"
    found = []
    if "pdf" in forms.split(","):
        found.append(Enclosure(f"{name}.pdf", "application/pdf", as_pdf([document])))
    if "csv" in forms.split(","):
        rows = statement_rows(statement, document.seller.name)
        found.append(Enclosure(f"{name}.csv", "text/csv", as_csv(COLUMNS, rows)))
    return found
