"""What was paid: by hand, or from a bank's file."""

from __future__ import annotations

import hashlib
import re
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from decimal import Decimal
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.log import service as log_service
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.foreign import amount as amount_of
from fair_ladle.app.plumbing.foreign import columns_by_name, decimal_mark
from fair_ladle.app.plumbing.problems import conflict, invalid, not_found
from fair_ladle.app.receivables import store
from fair_ladle.app.receivables.listing import parse_number, seller_id, statements_of
from fair_ladle.app.statements.ledger import numbered
from fair_ladle.app.statements.rate_cards import decimals_of
from fair_ladle.connectors.printed import figure
from fair_ladle.connectors.sheets_in import SheetTable
from fair_ladle.core.calendar import day_name
from fair_ladle.core.quantities import half_up

MOST_LINES, MOST_CANDIDATES = 20_000, 5
NUMBER = re.compile(r"(?<!\d)(20\d\d)[-/. ]?(\d{5,7})(?!\d)")
DAYS = ("%Y-%m-%d", "%d.%m.%Y", "%d/%m/%Y", "%Y%m%d", "%d.%m.%y")
"""As banks write them; day before month."""
NAMES = {
    "day": ("day", "date", "booking date", "booked on", "value date"),
    "amount": ("amount", "credit", "paid in"),
    "text": ("text", "reference", "description", "purpose", "details", "message"),
    "currency": ("currency", "ccy"),
}
"""What columns of a bank's file are called, by what they are."""


@dataclass(frozen=True)
class Paid:
    """A payment to record; ``bank_line`` names the line of a file it came with."""

    number: str
    amount: Decimal
    day: date
    note: str
    bank_line: str | None = None


def record(tx: Transaction, actor: Actor, seller: str, paid: Sequence[Paid]) -> int:
    """Record payments of a seller's statements: all of them or none; how many.

    Locks the seller's desk alone. Under it payments are added up, and a line of a bank's file that was taken before is
    refused.
    """
    mine, today = seller_id(tx, actor, seller), accounts_service.today(tx)
    store.lock_desk(tx.connection, mine)
    lines = [each.bank_line for each in paid if each.bank_line is not None]
    known = store.known_bank_lines(tx.connection, mine, lines)
    if known or len(set(lines)) < len(lines):
        raise conflict("A line of this file was taken before. Read the file again.")
    of = {numbered(row.year, row.number): row for row in statements_of(tx, mine, [each.number for each in paid])}
    rows, entries = [], []
    for place, each in enumerate(paid):
        statement, where = of[numbered(*parse_number(each.number))], f"payments.{place}"
        decimals = decimals_of(statement.currency)
        if each.amount == 0 or each.amount != round(each.amount, decimals) or abs(each.amount) >= Decimal(10) ** 15:
            raise invalid(f"An amount other than 0 with at most {decimals} decimals.", f"{where}.amount")
        if (each.amount > 0) != (statement.total > 0):
            says = "is a credit note: what was paid back is below 0" if statement.total < 0 else "takes what was paid"
            raise invalid(f"{each.number} {says}." if statement.total else f"Nothing is owed for {each.number}.", where)
        if not statement.first_day <= each.day <= today:
            raise invalid(f"A day from {day_name(statement.first_day)} to today.", f"{where}.day")
        rows.append(
            {
                "seller_id": mine,
                "statement_id": statement.id,
                "amount": each.amount,
                "day": each.day,
                "note": each.note.strip()[:200],
                "bank_line": each.bank_line,
                "at": tx.now,
                "by": actor.name[:254],
            }
        )
        said = {"number": each.number, "amount": f"{each.amount:f} {statement.currency}", "day": f"{each.day}"}
        entries.append(log_service.Entry("payment", seller, mine, None, said))
    store.add_payments(tx.connection, rows)
    store.add_up(tx.connection, {row["statement_id"] for row in rows})
    log_service.write(tx, actor, mine, entries)
    return len(rows)


def withdraw(tx: Transaction, actor: Actor, seller: str, number: str, payment_id: int) -> None:
    """Take a payment back that was recorded wrongly.

    Locks the seller's desk alone. Under it is judged that the payment counts, and the rest added up.
    """
    mine = seller_id(tx, actor, seller)
    store.lock_desk(tx.connection, mine)
    (statement,), found = statements_of(tx, mine, [number]), store.payment(tx.connection, payment_id)
    if found is None or found.statement_id != statement.id:
        raise not_found("payment", str(payment_id))
    if found.withdrawn_at is not None:
        raise conflict(f"{found.withdrawn_by} has withdrawn this payment already.")
    store.withdraw(tx.connection, payment_id, {"withdrawn_at": tx.now, "withdrawn_by": actor.name[:254]})
    store.add_up(tx.connection, [statement.id])
    was = {
        "number": number,
        "amount": f"{half_up(found.amount, decimals_of(statement.currency)):f} {statement.currency}",
    }
    log_service.write(tx, actor, mine, [log_service.Entry("payment withdrawn", seller, mine, was, None)])


@dataclass(frozen=True)
class Candidate:
    """A statement that a line may pay."""

    number: str
    buyer: str
    currency: str
    open: Decimal


@dataclass(frozen=True)
class BankLine:
    """A line of a bank's file and what it fits: ``fits`` one statement by number and amount; ``differs`` in the amount;
    ``several`` statements, or by amount alone ``maybe`` one; ``paid`` already, ``known`` from another file, ``other``
    money, or a ``fault``, which ``says`` what is wrong."""

    row: int
    line: str
    day: date | None
    amount: Decimal | None
    text: str
    state: str
    says: str
    candidates: list[Candidate]


@dataclass(frozen=True)
class BankFile:
    """A bank's file against what is open: its columns, which of them is what (its place), and its lines."""

    header: list[str]
    columns: dict[str, int]
    lines: list[BankLine]


def match(tx: Transaction, actor: Actor, seller: str, table: SheetTable, columns: dict[str, int]) -> BankFile:
    """Hold a bank's file against a seller's statements that are not settled. Reads only, and locks nothing: what is
    taken is judged again when it is recorded."""
    mine = seller_id(tx, actor, seller)
    columns = {**columns_by_name(table.header, NAMES), **columns}
    missing = [each for each in ("day", "amount", "text") if each not in columns]
    if missing or any(not 0 <= place < len(table.header) for place in columns.values()):
        return BankFile(table.header, {name: at for name, at in columns.items() if at < len(table.header)}, [])
    rows: list[tuple[int, list[str]]] = []
    for number, cells in table.rows:
        if len(rows) >= MOST_LINES:
            raise invalid(f"At most {MOST_LINES:,} lines in a file.", "file")
        if any(cells):
            rows.append((number, [*cells, *[""] * (len(table.header) - len(cells))]))
    mark = decimal_mark([cells[columns["amount"]] for _, cells in rows])
    open_now = store.unpaid(tx.connection, mine)
    named = {each for _, cells in rows for each in _numbers(cells[columns["text"]])}
    settled = store.by_numbers(tx.connection, mine, [parse_number(each) for each in named])
    matcher = _Matcher(open_now, {numbered(row.year, row.number) for row in settled if row.settled})
    lines, seen = [], Counter[str]()
    for number, cells in rows:
        shape = "\x1f".join(cells)
        seen[shape] += 1  # the same line twice in a file is two payments
        line = hashlib.sha256(f"{shape}\x1f{seen[shape]}".encode()).hexdigest()
        lines.append((number, line, cells))
    known = store.known_bank_lines(tx.connection, mine, [line for _, line, _ in lines])
    return BankFile(
        table.header,
        columns,
        [matcher.of(number, line, cells, columns, mark, line in known) for number, line, cells in lines],
    )


def _day(text: str) -> date | None:
    for form in DAYS:
        try:
            return datetime.strptime(text.strip()[: 10 if "-" in text else None], form).date()
        except ValueError:
            continue
    return None


def _numbers(text: str) -> list[str]:
    """The statement numbers that a text names."""
    return list(dict.fromkeys(numbered(int(year), int(number)) for year, number in NUMBER.findall(text)))


class _Matcher:
    """Holds lines against what is open; what a line before has taken is open no longer."""

    def __init__(self, open_now: Sequence[Any], settled: set[str]):
        self._settled = settled
        self._open = {numbered(row.year, row.number): row for row in open_now}
        self._by_amount: dict[Decimal, list[str]] = {}
        for number, row in self._open.items():
            self._by_amount.setdefault(row.total - row.paid, []).append(number)
        self._taken: set[str] = set()

    def of(
        self, row: int, line: str, cells: Sequence[str], columns: dict[str, int], mark: str, is_known: bool
    ) -> BankLine:
        """What a line fits."""
        day, amount = _day(cells[columns["day"]]), amount_of(cells[columns["amount"]], mark)
        text, place = cells[columns["text"]].strip(), columns.get("currency")
        currency = cells[place].strip().upper() if place is not None else ""

        def found(state: str, says: str, candidates: Iterator[str] | Sequence[str] = ()) -> BankLine:
            shown = [self._candidate(each) for each in list(candidates)[:MOST_CANDIDATES]]
            return BankLine(row, line, day, amount, text[:300], state, says, shown)

        if day is None:
            return found("fault", f"{cells[columns['day']] or 'Nothing'} is no day; a day is written like 2026-11-27.")
        if amount is None:
            return found("fault", f"{cells[columns['amount']] or 'Nothing'} is no amount.")
        if is_known:
            return found("known", "Taken before.")
        named = _numbers(text)
        fitting = [each for each in named if each in self._open]
        if len(fitting) > 1:
            return found("several", "It names several statements.", fitting)
        if len(fitting) == 1:
            return self._of_one(found, fitting[0], amount, currency)
        settled = [each for each in named if each in self._settled]
        if settled:
            return found("paid", f"{settled[0]} is settled already.")
        same = [
            each
            for each in self._by_amount.get(amount, ())
            if each not in self._taken and currency in ("", self._open[each].currency)
        ]
        if len(same) == 1:
            return found("maybe", "The amount fits, and no number is named.", same)
        if same:
            return found("several", f"{len(same)} statements have this amount open, and no number is named.", same)
        return found("other", "It names no statement that is open.")

    def _of_one(self, found: Callable[..., BankLine], number: str, amount: Decimal, currency: str) -> BankLine:
        row = self._open[number]
        left = half_up(row.total - row.paid, decimals_of(row.currency))
        if currency not in ("", row.currency):
            line: BankLine = found("other", f"{number} is in {row.currency}, and this line in {currency}.")
            return line
        if number in self._taken:
            line = found("differs", f"Another line of this file pays {number}.", [number])
        elif amount != left:
            line = found("differs", f"{figure(left)} {row.currency} is open.", [number])
        else:
            self._taken.add(number)
            line = found("fits", "", [number])
        return line

    def _candidate(self, number: str) -> Candidate:
        row = self._open[number]
        return Candidate(number, row.buyer_name, row.currency, half_up(row.total - row.paid, decimals_of(row.currency)))


def verify(tx: Transaction, actor: Actor) -> list[tuple[str, str, str, str]]:
    """Statements whose payments do not add up to what is kept of them: (what, where, found, evidence)."""
    if actor.scope is not None:
        raise not_found("installation", actor.scope)
    return [
        ("payments of a statement", f"{row.seller} {numbered(row.year, row.number)}", f"{row.paid:f}", f"{row.sum:f}")
        for row in store.wrongly_added_up(tx.connection)
    ]
