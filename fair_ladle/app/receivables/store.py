"""Queries over closed statements and what became of them."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from datetime import date, datetime
from typing import Any

import sqlalchemy as sa
from sqlalchemy.dialects import mysql

from fair_ladle.app.accounts.tables import accounts
from fair_ladle.app.plumbing.database import batched, fetch, fetch_first, insert_row
from fair_ladle.app.plumbing.tables import outbox
from fair_ladle.app.receivables import tables as t
from fair_ladle.app.receivables.rows import (
    ContactRecord,
    MailRecord,
    PaymentRecord,
    QuestionRecord,
    ReceivableRecord,
    ReceivableSums,
    WrongSum,
)
from fair_ladle.app.statements.tables import closed_statements as s

settled, mails, questions = t.settled_statements, t.statement_mails, t.statement_questions
sold = s.join(accounts, accounts.c.id == s.c.buyer_id).outerjoin(settled, settled.c.statement_id == s.c.id)
"""Closed statements with their buyer and what was paid."""
paid = sa.func.coalesce(settled.c.paid, 0)
is_settled = sa.func.coalesce(settled.c.settled, s.c.total == 0)
WIDTH = 5
"""Digits of a number within its year, at least."""


def conditions(today: date) -> dict[str, sa.ColumnElement[bool]]:
    """What a statement can be asked for by."""

    def has(table: sa.Table, *more: sa.ColumnElement[bool]) -> sa.ColumnElement[bool]:
        return sa.exists().where(table.c.statement_id == s.c.id, *more)

    unpaid = sa.and_(s.c.total > 0, sa.not_(is_settled))
    return {
        "unsent": sa.not_(has(mails, mails.c.kind == "statement")),
        "open": unpaid,
        "overdue": sa.and_(unpaid, s.c.due_day < today),
        "paid": sa.and_(s.c.total != 0, is_settled),
        "credit": sa.and_(s.c.total < 0, sa.not_(is_settled)),
        "asked": has(questions, questions.c.answered_at.is_(None)),
    }


def _columns() -> list[sa.ColumnElement[Any]]:
    c = s.c
    return [
        *(c.id, c.seller_id, c.buyer_id, c.first_day, c.currency, c.year, c.number, c.net, c.total, c.due_day),
        *(accounts.c.code.label("buyer"), accounts.c.name.label("buyer_name"), accounts.c.billing_email),
        *(paid.label("paid"), is_settled.label("settled")),
    ]


def number_text() -> sa.ColumnElement[str]:
    """A statement's number as it is written."""
    width = sa.func.greatest(WIDTH, sa.func.length(s.c.number))
    return sa.func.concat(s.c.year, "-", sa.func.lpad(s.c.number, width, "0"))


def asked_for(
    seller_id: int, today: date, state: str | None, first: date | None, words: Sequence[str] = ()
) -> list[sa.ColumnElement[bool]]:
    """A seller's statements in a state, of a month, whose buyer or number has each of some words."""
    wanted: list[sa.ColumnElement[bool]] = [s.c.seller_id == seller_id]
    if state is not None:
        wanted.append(conditions(today)[state])
    if first is not None:
        wanted.append(s.c.first_day == first)
    for word in words:
        columns = (accounts.c.name, accounts.c.code, number_text())
        wanted.append(sa.or_(*(each.contains(word, autoescape=True) for each in columns)))
    return wanted


def window(
    connection: sa.Connection, wanted: Sequence[sa.ColumnElement[bool]], after: int, limit: int
) -> tuple[int, list[ReceivableRecord]]:
    """How many statements there are, and a window of them, the newest first."""
    count = connection.scalar(sa.select(sa.func.count()).select_from(sold).where(*wanted)) or 0
    rows = sa.select(*_columns()).select_from(sold).where(*wanted)
    ordered = rows.order_by(s.c.first_day.desc(), s.c.year.desc(), s.c.number.desc()).limit(limit).offset(after)
    return int(count), fetch(connection, ordered, ReceivableRecord)


def sums(connection: sa.Connection, seller_id: int, today: date) -> list[ReceivableSums]:
    """By currency: how many statements of a seller are unsent, open, overdue, and what the last two come to."""
    is_it = conditions(today)
    left = s.c.total - paid

    def count(name: str) -> sa.Label[Any]:
        return sa.func.sum(sa.case((is_it[name], 1), else_=0)).label(name)

    return fetch(
        connection,
        sa.select(
            s.c.currency,
            *(count(name) for name in ("unsent", "open", "overdue", "asked")),
            sa.func.sum(sa.case((is_it["open"], left), else_=0)).label("open_amount"),
            sa.func.sum(sa.case((is_it["overdue"], left), else_=0)).label("overdue_amount"),
        )
        .select_from(sold)
        .where(s.c.seller_id == seller_id)
        .group_by(s.c.currency)
        .order_by(s.c.currency),
        ReceivableSums,
    )


def by_numbers(
    connection: sa.Connection, seller_id: int, numbers: Collection[tuple[int, int]]
) -> list[ReceivableRecord]:
    """A seller's statements by year and number."""
    found: list[ReceivableRecord] = []
    for part in batched(numbers):
        named = sa.tuple_(s.c.year, s.c.number).in_(part)
        wanted = sa.select(*_columns()).select_from(sold).where(s.c.seller_id == seller_id, named)
        found += fetch(connection, wanted, ReceivableRecord)
    return found


def by_id(connection: sa.Connection, statement_id: int) -> ReceivableRecord | None:
    """One statement; None where there is none."""
    return fetch_first(
        connection, sa.select(*_columns()).select_from(sold).where(s.c.id == statement_id), ReceivableRecord
    )


def of_buyer(connection: sa.Connection, buyer_id: int, first: date) -> list[ReceivableRecord]:
    """A buyer's closed statements of a month."""
    wanted = sa.select(*_columns()).select_from(sold).where(s.c.buyer_id == buyer_id, s.c.first_day == first)
    return fetch(connection, wanted.order_by(s.c.currency, s.c.id), ReceivableRecord)


def lock_desk(connection: sa.Connection, seller_id: int) -> None:
    """Lock a seller's desk, by writing to it."""
    connection.execute(mysql.insert(t.receivable_desks).prefix_with("IGNORE").values(seller_id=seller_id))
    desk = t.receivable_desks
    connection.execute(sa.update(desk).where(desk.c.seller_id == seller_id).values(touched=desk.c.touched + 1))


def contacts(connection: sa.Connection, account_ids: Collection[int]) -> dict[int, list[ContactRecord]]:
    """The further billing contacts of accounts, by account and address."""
    found: dict[int, list[ContactRecord]] = {}
    c = t.billing_contacts
    for part in batched(account_ids):
        for row in fetch(
            connection, sa.select(c).where(c.c.account_id.in_(part)).order_by(c.c.account_id, c.c.email), ContactRecord
        ):
            found.setdefault(row.account_id, []).append(row)
    return found


def replace_contacts(connection: sa.Connection, account_id: int, rows: list[dict[str, Any]]) -> None:
    """Give an account other further contacts."""
    c = t.billing_contacts
    connection.execute(sa.delete(c).where(c.c.account_id == account_id))
    if rows:
        connection.execute(sa.insert(c), rows)


def add_mails(connection: sa.Connection, rows: list[dict[str, Any]]) -> None:
    """Note which mails tell of which statement."""
    for part in batched(rows):
        connection.execute(sa.insert(mails), part)


def mails_of(connection: sa.Connection, statement_ids: Collection[int]) -> dict[int, list[MailRecord]]:
    """The mails of statements with how far they came, the oldest first."""
    found: dict[int, list[MailRecord]] = {}
    columns = (mails, outbox.c.to_address, outbox.c.sent_at, outbox.c.due_at, outbox.c.taken_at, outbox.c.trouble)
    wanted = sa.select(*columns).outerjoin(outbox, outbox.c.id == mails.c.outbox_id)
    for row in fetch(
        connection, wanted.where(mails.c.statement_id.in_(statement_ids)).order_by(mails.c.id), MailRecord
    ):
        found.setdefault(row.statement_id, []).append(row)
    return found


def last_reminders(connection: sa.Connection, statement_ids: Collection[int]) -> dict[int, datetime]:
    """When statements were last reminded of."""
    found: dict[int, datetime] = {}
    for part in batched(statement_ids):
        wanted = sa.select(mails.c.statement_id, sa.func.max(mails.c.at).label("at")).where(
            mails.c.statement_id.in_(part), mails.c.kind == "reminder"
        )
        found |= {row.statement_id: row.at for row in connection.execute(wanted.group_by(mails.c.statement_id))}
    return found


def payments_of(connection: sa.Connection, statement_id: int) -> list[PaymentRecord]:
    """The payments of a statement, withdrawn ones too, by day."""
    p = t.payments
    return fetch(
        connection, sa.select(p).where(p.c.statement_id == statement_id).order_by(p.c.day, p.c.id), PaymentRecord
    )


def payment(connection: sa.Connection, payment_id: int) -> PaymentRecord | None:
    """One payment; None where there is none."""
    return fetch_first(connection, sa.select(t.payments).where(t.payments.c.id == payment_id), PaymentRecord)


def known_bank_lines(connection: sa.Connection, seller_id: int, lines: Collection[str]) -> set[str]:
    """Which of these lines of bank files were taken before."""
    found: set[str] = set()
    p = t.payments.c
    for part in batched(lines):
        found |= set(connection.scalars(sa.select(p.bank_line).where(p.seller_id == seller_id, p.bank_line.in_(part))))
    return found


def add_payments(connection: sa.Connection, rows: list[dict[str, Any]]) -> None:
    """Write payments; their seller's desk is locked."""
    for part in batched(rows):
        connection.execute(sa.insert(t.payments), part)


def withdraw(connection: sa.Connection, payment_id: int, values: dict[str, Any]) -> None:
    """Take a payment back; its line of a bank file may come again."""
    p = t.payments
    connection.execute(sa.update(p).where(p.c.id == payment_id).values(bank_line=None, **values))


def add_up(connection: sa.Connection, statement_ids: Collection[int]) -> None:
    """Add the payments of statements up; their seller's desk is locked."""
    p = t.payments.c
    for part in batched(statement_ids):
        wanted = (
            sa.select(s.c.id, s.c.total, sa.func.coalesce(sa.func.sum(p.amount), 0).label("paid"))
            .select_from(s.outerjoin(t.payments, sa.and_(p.statement_id == s.c.id, p.withdrawn_at.is_(None))))
            .where(s.c.id.in_(part))
            .group_by(s.c.id, s.c.total)
        )
        for row in connection.execute(wanted).all():
            is_paid = row.paid >= row.total if row.total >= 0 else row.paid <= row.total
            values = {"paid": row.paid, "settled": is_paid}
            new = mysql.insert(settled).values(statement_id=row.id, **values)
            connection.execute(new.on_duplicate_key_update(**values))


def wrongly_added_up(connection: sa.Connection) -> list[WrongSum]:
    """Statements whose payments are not what is kept as paid or settled."""
    p, seller = t.payments.c, accounts.alias("seller")
    summed = sa.func.coalesce(sa.func.sum(p.amount), 0)
    right = sa.case((s.c.total >= 0, summed >= s.c.total), else_=summed <= s.c.total)
    wanted = (
        sa.select(seller.c.code.label("seller"), s.c.year, s.c.number, paid.label("paid"), summed.label("sum"))
        .select_from(
            s.join(seller, seller.c.id == s.c.seller_id)
            .outerjoin(settled, settled.c.statement_id == s.c.id)
            .outerjoin(t.payments, sa.and_(p.statement_id == s.c.id, p.withdrawn_at.is_(None)))
        )
        .group_by(seller.c.code, s.c.id, s.c.year, s.c.number, s.c.total, settled.c.paid, settled.c.settled)
        .having(sa.or_(paid != summed, is_settled != right))
    )
    return fetch(connection, wanted.order_by(seller.c.code, s.c.year, s.c.number), WrongSum)


def unpaid(connection: sa.Connection, seller_id: int) -> list[ReceivableRecord]:
    """Every statement of a seller that is not settled."""
    wanted = sa.select(*_columns()).select_from(sold)
    return fetch(connection, wanted.where(s.c.seller_id == seller_id, sa.not_(is_settled)), ReceivableRecord)


def questions_of(connection: sa.Connection, statement_ids: Collection[int]) -> dict[int, list[QuestionRecord]]:
    """The questions about statements, the oldest first."""
    found: dict[int, list[QuestionRecord]] = {}
    wanted = sa.select(questions).where(questions.c.statement_id.in_(statement_ids)).order_by(questions.c.id)
    for row in fetch(connection, wanted, QuestionRecord):
        found.setdefault(row.statement_id, []).append(row)
    return found


def question(connection: sa.Connection, question_id: int) -> QuestionRecord | None:
    """One question; None where there is none."""
    return fetch_first(connection, sa.select(questions).where(questions.c.id == question_id), QuestionRecord)


def ask(connection: sa.Connection, values: dict[str, Any]) -> int:
    """Write a question; its id."""
    return insert_row(connection, questions, values)


def answer(connection: sa.Connection, question_id: int, values: dict[str, Any]) -> None:
    """Write an answer; its seller's desk is locked."""
    connection.execute(sa.update(questions).where(questions.c.id == question_id).values(values))
