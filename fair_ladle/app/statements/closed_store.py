"""Queries over closed months: what they were priced with, their statements and lines."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from datetime import date
from decimal import Decimal
from typing import Any

import sqlalchemy as sa
from sqlalchemy.dialects import mysql

from fair_ladle.app.accounts.tables import accounts
from fair_ladle.app.plumbing.database import fetch, fetch_first
from fair_ladle.app.statements.rows import (
    ClosedAmount,
    ClosedDocument,
    ClosedLineRecord,
    ClosedMonthRecord,
    ClosedPeriodRecord,
    ClosedStatementRecord,
    ClosedTotal,
    Closing,
    GivenNumbers,
    NumberedDocument,
    NumbersRecord,
)
from fair_ladle.app.statements.tables import closed_lines as lines
from fair_ladle.app.statements.tables import closed_periods as periods
from fair_ladle.app.statements.tables import closed_statements as statements
from fair_ladle.app.statements.tables import statement_numbers as numbers


def book(connection: sa.Connection, seller_id: int, first: date) -> bytes:
    """What a seller priced a closed month with, as stored."""
    found = connection.scalar(
        sa.select(periods.c.kept).where(periods.c.seller_id == seller_id, periods.c.first_day == first)
    )
    assert found is not None
    return bytes(found)


def closed_months(connection: sa.Connection) -> list[ClosedMonthRecord]:
    """seller_id, first_day, made_of and hash of every closed month, in order."""
    wanted = sa.select(periods.c.seller_id, periods.c.first_day, periods.c.made_of, periods.c.hash)
    return fetch(connection, wanted.order_by(periods.c.seller_id, periods.c.first_day), ClosedMonthRecord)


def closing_of(connection: sa.Connection, seller_id: int, first: date) -> Closing | None:
    """When, by whom and with which reason a seller has closed a month; None where it has not."""
    wanted = sa.select(periods.c.closed_at, periods.c.closed_by, periods.c.reason)
    return fetch_first(
        connection, wanted.where(periods.c.seller_id == seller_id, periods.c.first_day == first), Closing
    )


def sellers_of(connection: sa.Connection, buyer_id: int) -> list[int]:
    """The sellers (ids) that have closed a statement of a buyer."""
    wanted = sa.select(statements.c.seller_id).where(statements.c.buyer_id == buyer_id).distinct()
    return list(connection.scalars(wanted))


def buyers_of(connection: sa.Connection, seller_id: int) -> list[int]:
    """The buyers (ids) of whom a seller has closed a statement."""
    wanted = sa.select(statements.c.buyer_id).where(statements.c.seller_id == seller_id).distinct()
    return list(connection.scalars(wanted))


def lines_of(
    connection: sa.Connection, seller_id: int, buyer_id: int | None, months: Collection[date]
) -> list[ClosedAmount]:
    """What a seller has charged (a buyer): every line of these months, and of all others what adjusts, and what was
    given off."""
    wanted = (
        sa.select(
            statements.c.buyer_id,
            statements.c.first_day,
            statements.c.currency,
            statements.c.tax,
            lines.c.kind,
            lines.c.reference,
            lines.c.amount,
            lines.c.taxed,
        )
        .join(lines, lines.c.statement_id == statements.c.id)
        .where(
            statements.c.seller_id == seller_id,
            sa.true() if buyer_id is None else statements.c.buyer_id == buyer_id,
            sa.or_(statements.c.first_day.in_(months), lines.c.kind.in_(("adjustment", "discount", "credit"))),
        )
    )
    return fetch(connection, wanted.order_by(statements.c.id, lines.c.place), ClosedAmount)


def documents_of(connection: sa.Connection, buyer_id: int, first: date) -> list[ClosedDocument]:
    """A buyer's closed statements of a month: seller_id, year, number, document, hash; by currency."""
    s = statements
    wanted = sa.select(s.c.seller_id, s.c.year, s.c.number, s.c.document, s.c.hash)
    return fetch(
        connection,
        wanted.where(s.c.buyer_id == buyer_id, s.c.first_day == first).order_by(s.c.currency),
        ClosedDocument,
    )


def of_month(
    connection: sa.Connection, seller_id: int, first: date, after: int, at_most: int
) -> list[NumberedDocument]:
    """A seller's closed statements of a month with their documents, by id, from one on, so many at most."""
    s = statements.c
    wanted = sa.select(s.id, s.document).where(s.seller_id == seller_id, s.first_day == first, s.id > after)
    return fetch(connection, wanted.order_by(s.id).limit(at_most), NumberedDocument)


def months_of(connection: sa.Connection, seller_id: int, since: date, until: date) -> list[date]:
    """The months that a seller has closed, from one to another."""
    wanted = sa.select(periods.c.first_day).where(
        periods.c.seller_id == seller_id, periods.c.first_day.between(since, until)
    )
    return list(connection.scalars(wanted.order_by(periods.c.first_day)))


def sum_of(connection: sa.Connection, seller_id: int, first: date) -> dict[str, Decimal]:
    """What a seller's closed statements of a month come to, by currency."""
    s = statements.c
    wanted = sa.select(s.currency, sa.func.sum(s.total).label("total")).where(
        s.seller_id == seller_id, s.first_day == first
    )
    return {row.currency: row.total for row in connection.execute(wanted.group_by(s.currency))}


def document(connection: sa.Connection, statement_id: int) -> bytes:
    """A closed statement, as stored."""
    found = connection.scalar(sa.select(statements.c.document).where(statements.c.id == statement_id))
    assert found is not None
    return bytes(found)


def totals_between(
    connection: sa.Connection, seller_id: int, buyer_id: int, currency: str, since: date, until: date
) -> dict[date, Decimal]:
    """What closed statements of one buyer and seller in a currency came to, by month, from a month to another."""
    s = statements.c
    wanted = sa.select(s.first_day, s.total).where(
        s.buyer_id == buyer_id,
        s.first_day.between(since, until),
        s.seller_id == seller_id,
        s.currency == currency,
    )
    return {row.first_day: row.total for row in connection.execute(wanted)}


def totals_of(connection: sa.Connection, first: date) -> list[ClosedTotal]:
    """Every closed statement of a month without its document."""
    s, seller, buyer = statements, accounts.alias("seller"), accounts.alias("buyer")
    wanted = (
        sa.select(
            seller.c.code.label("seller"),
            buyer.c.code.label("buyer"),
            s.c.currency,
            s.c.year,
            s.c.number,
            s.c.net,
            s.c.total,
        )
        .join(seller, seller.c.id == s.c.seller_id)
        .join(buyer, buyer.c.id == s.c.buyer_id)
        .where(s.c.first_day == first)
    )
    return fetch(connection, wanted.order_by(s.c.seller_id, s.c.year, s.c.number), ClosedTotal)


def every_statement(connection: sa.Connection, after: int, at_most: int) -> list[ClosedStatementRecord]:
    """Closed statements by id, from one on, so many at most, with their seller's code."""
    s = statements
    wanted = sa.select(s, accounts.c.code.label("seller")).join(accounts, accounts.c.id == s.c.seller_id)
    return fetch(connection, wanted.where(s.c.id > after).order_by(s.c.id).limit(at_most), ClosedStatementRecord)


def lines_by_statement(connection: sa.Connection, ids: Sequence[int]) -> dict[int, list[ClosedLineRecord]]:
    """The kept lines of statements, in order."""
    found: dict[int, list[ClosedLineRecord]] = {each: [] for each in ids}
    wanted = sa.select(lines).where(lines.c.statement_id.in_(ids)).order_by(lines.c.statement_id, lines.c.place)
    for row in fetch(connection, wanted, ClosedLineRecord):
        found[row.statement_id].append(row)
    return found


def every_book(connection: sa.Connection) -> list[ClosedPeriodRecord]:
    """Every closed month with what it was priced with, and its seller's code."""
    wanted = sa.select(periods, accounts.c.code.label("seller")).join(accounts, accounts.c.id == periods.c.seller_id)
    return fetch(connection, wanted.order_by(periods.c.seller_id, periods.c.first_day), ClosedPeriodRecord)


def given_numbers(connection: sa.Connection) -> list[GivenNumbers]:
    """Of every seller and year: how many statements are numbered, the first and the last number."""
    s = statements
    wanted = sa.select(
        accounts.c.code,
        s.c.year,
        sa.func.count().label("count"),
        sa.func.min(s.c.number).label("first"),
        sa.func.max(s.c.number).label("last"),
    ).join(accounts, accounts.c.id == s.c.seller_id)
    return fetch(
        connection, wanted.group_by(accounts.c.code, s.c.year).order_by(accounts.c.code, s.c.year), GivenNumbers
    )


def lock_numbers(connection: sa.Connection, seller_id: int) -> NumbersRecord:
    """Lock how far a seller has closed and numbered, and read it."""
    connection.execute(mysql.insert(numbers).prefix_with("IGNORE").values(seller_id=seller_id, year=0, number=0))
    wanted = sa.select(numbers).where(numbers.c.seller_id == seller_id).with_for_update()
    return fetch(connection, wanted, NumbersRecord)[0]


def closed_until(connection: sa.Connection, seller_id: int) -> date | None:
    """The newest month that a seller has closed."""
    found: date | None = connection.scalar(sa.select(numbers.c.closed_until).where(numbers.c.seller_id == seller_id))
    return found


Closed = tuple[dict[str, Any], list[dict[str, Any]]]
"""The values of a statement, and those of its lines."""
BYTES_AT_ONCE = 2**21
"""So much of documents is written in one statement of SQL, which the server bounds."""


def _parts(closed: Iterable[Closed]) -> Iterator[list[Closed]]:
    part: list[Closed] = []
    size = 0
    for each in closed:
        part.append(each)
        size += len(each[0]["document"])
        if size > BYTES_AT_ONCE:
            yield part
            part, size = [], 0
    if part:
        yield part


def write_closed(
    connection: sa.Connection,
    period: dict[str, Any],
    year: int,
    number: int,
    closed: Iterable[Closed],
    settled: Mapping[date, str],
) -> None:
    """Write a closed month with its statements and their lines, and what the months before are made of now that their
    adjustments are charged; its numbers' row is locked."""
    for first_day, made_of in settled.items():
        connection.execute(
            sa.update(periods)
            .where(periods.c.seller_id == period["seller_id"], periods.c.first_day == first_day)
            .values(made_of=made_of)
        )
    connection.execute(sa.insert(periods).values(period))
    written = sa.insert(statements).returning(statements.c.id, sort_by_parameter_order=True)
    for part in _parts(closed):
        ids = connection.scalars(written, [statement for statement, _ in part]).all()
        connection.execute(
            sa.insert(lines),
            [{"statement_id": each, **line} for each, (_, its) in zip(ids, part, strict=True) for line in its],
        )
    connection.execute(
        sa.update(numbers)
        .where(numbers.c.seller_id == period["seller_id"])
        .values(closed_until=period["first_day"], year=year, number=number)
    )
