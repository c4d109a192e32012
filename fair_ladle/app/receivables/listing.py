"""Closed statements and how far they are: for their seller, and for a buyer its own."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import date, datetime
from decimal import Decimal
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import invalid, not_found
from fair_ladle.app.receivables import store
from fair_ladle.app.receivables.rows import MailRecord, ReceivableRecord
from fair_ladle.app.statements.billing import parse_month
from fair_ladle.app.statements.ledger import numbered
from fair_ladle.app.statements.rate_cards import decimals_of
from fair_ladle.core.quantities import half_up

EXPORTED_AT_ONCE = 2000


@dataclass(frozen=True)
class Mailed:
    """A mail about a statement: ``state`` is waiting, sent or failed, ``trouble`` why the last try failed."""

    kind: str
    to_address: str
    at: datetime
    state: str
    trouble: str | None


@dataclass(frozen=True)
class Receivable:
    """A closed statement; ``state`` is open, overdue, paid, credit (not paid back) or nothing (0 is owed). ``paid`` may
    be more than is owed; ``asked`` counts questions without an answer."""

    statement_id: int
    buyer: str
    buyer_name: str
    first: date
    number: str
    currency: str
    total: Decimal
    paid: Decimal
    due: date | None
    state: str
    mailed: Mailed | None
    """The newest mail that carried it."""
    reminded: datetime | None
    asked: int

    @property
    def open(self) -> Decimal:
        """What is still owed; below 0 what is still owed to the buyer."""
        return self.total - (self.total if self.state == "paid" else self.paid)


@dataclass(frozen=True)
class Sum:
    """What a seller's statements in a currency come to, and how many are unsent, open, overdue, or asked about."""

    currency: str
    unsent: int
    open: int
    overdue: int
    asked: int
    open_amount: Decimal
    overdue_amount: Decimal


@dataclass(frozen=True)
class Window:
    """Some of a seller's closed statements, of so many that were asked for."""

    rows: list[Receivable]
    total: int


def seller_id(tx: Transaction, actor: Actor, seller: str) -> int:
    """The number of a seller that the actor runs, or an account above it."""
    accounts = accounts_service.known(tx)
    return int(accounts.ids[accounts_service.row_in_scope(accounts, actor, seller)])


def parse_number(text: str) -> tuple[int, int]:
    """Year and number of a statement's number as it is written."""
    year, _, number = text.partition("-")
    if not (year.isdecimal() and number.isdecimal() and len(year) == 4 and len(number) <= 9):
        raise invalid(f"{text} is no statement's number; one is written like 2026-00012.", "number")
    return int(year), int(number)


def statements_of(tx: Transaction, seller: int, numbers: Iterable[str]) -> list[Any]:
    """A seller's closed statements by their numbers, each once."""
    wanted = {parse_number(each): each for each in numbers}
    found = {(row.year, row.number): row for row in store.by_numbers(tx.connection, seller, list(wanted))}
    missing = next((text for number, text in wanted.items() if number not in found), None)
    if missing is not None:
        raise not_found("statement", missing)
    return [found[each] for each in wanted]


def receivables(
    tx: Transaction,
    actor: Actor,
    seller: str,
    state: str | None,
    month: str | None,
    find: str,
    offset: int = 0,
    limit: int = 100,
) -> Window:
    """A window of a seller's closed statements, the newest first: those in a state, of a month, whose buyer or number
    has each of some words."""
    wanted = _wanted(tx, actor, seller, state, month, find)
    count, rows = store.window(tx.connection, wanted, offset, limit)
    return Window(as_receivables(tx, rows), count)


def sums(tx: Transaction, actor: Actor, seller: str) -> list[Sum]:
    """What all closed statements of a seller come to, by currency."""
    return [
        Sum(
            each.currency,
            int(each.unsent),
            int(each.open),
            int(each.overdue),
            int(each.asked),
            half_up(each.open_amount, decimals_of(each.currency)),
            half_up(each.overdue_amount, decimals_of(each.currency)),
        )
        for each in store.sums(tx.connection, seller_id(tx, actor, seller), accounts_service.today(tx))
    ]


def every(
    tx: Transaction, actor: Actor, seller: str, state: str | None, month: str | None, find: str
) -> Iterator[Receivable]:
    """All of them, window by window."""
    wanted, after = _wanted(tx, actor, seller, state, month, find), 0
    while True:
        _, rows = store.window(tx.connection, wanted, after, EXPORTED_AT_ONCE)
        yield from as_receivables(tx, rows)
        after += EXPORTED_AT_ONCE
        if len(rows) < EXPORTED_AT_ONCE:
            return


def _wanted(
    tx: Transaction, actor: Actor, seller: str, state: str | None, month: str | None, find: str
) -> list[sa.ColumnElement[bool]]:
    first = None if month is None else parse_month(month)[0]
    mine, today = seller_id(tx, actor, seller), accounts_service.today(tx)
    return store.asked_for(mine, today, state, first, find.split()[:10])


def as_receivables(tx: Transaction, rows: list[ReceivableRecord]) -> list[Receivable]:
    """Rows of the store with their mails and questions."""
    ids = [row.id for row in rows]
    mails, questions = store.mails_of(tx.connection, ids), store.questions_of(tx.connection, ids)
    today = accounts_service.today(tx)
    found = []
    for row in rows:
        mine, decimals = mails.get(row.id, []), decimals_of(row.currency)
        carried = [each for each in mine if each.kind == "statement"]
        reminded = [each for each in mine if each.kind == "reminder"]
        found.append(
            Receivable(
                row.id,
                row.buyer,
                row.buyer_name,
                row.first_day,
                numbered(row.year, row.number),
                row.currency,
                half_up(row.total, decimals),
                half_up(row.paid, decimals),
                row.due_day,
                _state(row, today),
                mailed(carried[-1]) if carried else None,
                reminded[-1].at if reminded else None,
                sum(each.answered_at is None for each in questions.get(row.id, [])),
            )
        )
    return found


def _state(row: ReceivableRecord, today: date) -> str:
    if row.total == 0:
        return "nothing"
    if row.settled:
        return "paid"
    if row.total < 0:
        return "credit"
    return "overdue" if row.due_day is not None and row.due_day < today else "open"


def mailed(row: MailRecord) -> Mailed:
    """A mail as it is told; what was sent to a person who was erased is taken as sent."""
    if row.to_address is None:
        return Mailed(row.kind, "a person who was erased", row.at, "sent", None)
    ended = row.due_at is None and row.taken_at is None
    state = "sent" if row.sent_at is not None else "failed" if ended else "waiting"
    return Mailed(row.kind, row.to_address, row.at, state, None if state == "sent" else row.trouble)


@dataclass(frozen=True)
class PaymentView:
    """A payment; ``by`` None for whom it is none of the business."""

    payment_id: int
    amount: Decimal
    day: date
    note: str
    by: str | None
    withdrawn: bool


@dataclass(frozen=True)
class QuestionView:
    """A question about a line, and its answer; those of the other side by their account's name."""

    question_id: int
    kind: str
    reference: str
    question: str
    asked_at: datetime
    asked_by: str
    answer: str | None
    answered_at: datetime | None
    answered_by: str | None
    correction: str | None


@dataclass(frozen=True)
class Life:
    """What became of one closed statement. ``runs_seller``: the reader runs the seller, or an account above it, and so
    is shown mails, who took payments, and what was withdrawn."""

    receivable: Receivable
    seller: str
    seller_name: str
    runs_seller: bool
    mails: list[Mailed]
    payments: list[PaymentView]
    questions: list[QuestionView]


def seen_by(tx: Transaction, actor: Actor, buyer: str, month: str) -> list[tuple[Any, bool]]:
    """A buyer's closed statements of a month that the actor may see, each with whether they run its seller: those of a
    former seller only then."""
    accounts, (first, _) = accounts_service.known(tx), parse_month(month)
    row = accounts_service.row_in_scope(accounts, actor, buyer)
    then = accounts_service.around(tx, first, [buyer])
    above = int(then.tree.parent[then.tree.row(buyer)]) if buyer in then.tree else -1
    present = int(then.ids[above]) if above >= 0 else None
    found = []
    for each in store.of_buyer(tx.connection, int(accounts.ids[row]), first):
        runs = accounts_service.sees(accounts, actor, each.seller_id)
        if runs or each.seller_id == present:
            found.append((each, runs))
    return found


def lives(tx: Transaction, actor: Actor, buyer: str, month: str) -> list[Life]:
    """What became of a buyer's closed statements of a month, for whoever runs the buyer or an account above it."""
    accounts, seen = accounts_service.known(tx), seen_by(tx, actor, buyer, month)
    ids = [row.id for row, _ in seen]
    mails, questions = store.mails_of(tx.connection, ids), store.questions_of(tx.connection, ids)
    found = []
    for (row, runs), each in zip(seen, as_receivables(tx, [row for row, _ in seen]), strict=True):
        place = accounts.row_of_id[row.seller_id]
        name, decimals = accounts.name(place), decimals_of(row.currency)
        found.append(
            Life(
                each,
                accounts.tree.codes[place] if runs else name,
                name,
                runs,
                [mailed(mail) for mail in mails.get(row.id, [])] if runs else [],
                [
                    PaymentView(
                        payment.id,
                        half_up(payment.amount, decimals),
                        payment.day,
                        payment.note if runs else "",
                        payment.by if runs else None,
                        payment.withdrawn_at is not None,
                    )
                    for payment in store.payments_of(tx.connection, row.id)
                    if runs or payment.withdrawn_at is None
                ],
                [
                    QuestionView(
                        asked.id,
                        asked.kind,
                        asked.reference,
                        asked.question,
                        asked.asked_at,
                        asked.asked_by,
                        asked.answer,
                        asked.answered_at,
                        asked.answered_by if runs or asked.answered_by is None else name,
                        asked.correction,
                    )
                    for asked in questions.get(row.id, [])
                ],
            )
        )
    return found
