"""Tables of sizes of any other system: CSV, a workbook, or JSON lines; account, product, person, folder or category,
instant and bytes, in columns of whatever name. Faults are told with their row and column first; nothing is recorded
while there are any."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from decimal import Decimal, InvalidOperation
from itertools import islice
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.assignments import storing
from fair_ladle.app.log import service as log_service
from fair_ladle.app.people import service as people_service
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction, batched
from fair_ladle.app.plumbing.foreign import columns_by_name, table_of
from fair_ladle.app.plumbing.problems import Refused, conflict, invalid
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.storage_systems import usecases
from fair_ladle.app.storage_systems.usecases import Report, Where
from fair_ladle.connectors.sheets_in import SheetTable

NAMES = {
    "account": ("account", "tenant", "client", "customer"),
    "product": ("product",),
    "person": ("person", "username", "user", "owner", "mailbox"),
    "folder": ("folder", "shared folder", "share", "shared_folder"),
    "category": ("category", "kind", "type"),
    "at": ("at", "time", "timestamp", "date", "measured", "measured at"),
    "bytes": ("bytes", "size", "size in bytes", "used", "bytes used"),
    "used_at": ("used_at", "last use", "last used", "last access", "last_used"),
}
MOST_FAULTS, MOST_ROWS, AT_ONCE = 100, 200_000, 5000


@dataclass(frozen=True)
class RowFault:
    """What is wrong in a row, where, and what would be right."""

    row: int
    column: str
    found: str
    expected: str


@dataclass(frozen=True)
class SizeRow:
    """A row of a table: its number, the product that it names (its code), if it does, and what it reports."""

    number: int
    product: str | None
    report: Report


@dataclass(frozen=True)
class Read:
    """A table as it is understood: where each column stands, its rows, and faults (the first of them, and how many)."""

    header: list[str]
    columns: dict[str, int]
    rows: list[SizeRow]
    faults: list[RowFault]
    fault_count: int


def read(name: str, content: bytes, chosen: Mapping[str, int], now: datetime) -> Read:
    """A file as reports; what is not a size of something at an instant is a fault."""
    table = _json_lines(name, content) if _is_json(name, content) else table_of(name, content)
    header = list(table.header)
    columns = dict(chosen) or columns_by_name(header, NAMES)
    columns = {what: place for what, place in columns.items() if what in NAMES and 0 <= place < len(header)}
    rows = list(islice(table.rows, MOST_ROWS + 1))
    if len(rows) > MOST_ROWS:
        raise invalid(f"At most {MOST_ROWS} rows at once.", "file")
    found, faults, count = [], list[RowFault](), 0
    if "bytes" not in columns or not columns.keys() & {"person", "folder", "category"}:
        return Read(header, columns, [], [], 0)
    for number, cells in rows:
        values = {what: cells[place].strip() if place < len(cells) else "" for what, place in columns.items()}
        if not any(values.values()):
            continue
        try:
            found.append(SizeRow(number, values.get("product") or None, _report(values, now)))
        except _Wrong as wrong:
            count += 1
            if len(faults) < MOST_FAULTS:
                said = header[columns[wrong.column]] if wrong.column in columns else wrong.column
                faults.append(RowFault(number, said, values.get(wrong.column, "")[:80] or "nothing", wrong.expected))
    return Read(header, columns, found, faults, count)


class _Wrong(Exception):
    def __init__(self, column: str, expected: str):
        super().__init__(expected)
        self.column, self.expected = column, expected


def _report(values: Mapping[str, str], now: datetime) -> Report:
    size = values.get("bytes", "")
    try:
        in_bytes = Decimal(size)
        if in_bytes != in_bytes.to_integral_value() or not 0 <= in_bytes <= usecases.MOST_BYTES:
            raise ValueError
    except (InvalidOperation, ValueError):
        raise _Wrong("bytes", f"a whole number from 0 to {usecases.MOST_BYTES}") from None
    at = _instant("at", values.get("at", "")) if "at" in values else now
    used = values.get("used_at", "")
    given = [name for name in ("person", "folder") if values.get(name)]
    if len(given) == 2:
        raise _Wrong("folder", "a person or a folder, not both")
    category = values.get("category") or None
    if not given and category is None:
        raise _Wrong("category", "a person, a folder or a category")
    where = Where(
        values.get("account") or None,
        values.get("person") or None,
        values.get("folder") or None,
        None if given else category,
        category if given else None,
    )
    if at > now + usecases.SKEW:
        raise _Wrong("at", f"an instant that has come; it is {now.isoformat(timespec='minutes')}")
    return Report(where, at, int(in_bytes), _instant("used_at", used) if used else None)


def _instant(column: str, text: str) -> datetime:
    try:
        found = datetime.fromisoformat(text)
        if found.tzinfo is None:
            raise ValueError
    except ValueError:
        raise _Wrong(column, "an instant with its offset, like 2026-11-27T08:00:00+00:00") from None
    return found


def _is_json(name: str, content: bytes) -> bool:
    return name.lower().endswith((".jsonl", ".ndjson", ".json")) or content.lstrip()[:1] == b"{"


def _json_lines(name: str, content: bytes) -> SheetTable:
    """JSON lines as a table: the names of the first lines' members are the header."""
    header: dict[str, None] = {}
    lines: list[tuple[int, dict[str, Any]]] = []
    try:
        text = content.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise invalid(f"{name}: not in UTF-8.", "file") from None
    for number, line in enumerate(text.splitlines(), start=1):
        if not line.strip():
            continue
        if len(lines) >= MOST_ROWS:
            raise invalid(f"At most {MOST_ROWS} rows at once.", "file")
        try:
            found = json.loads(line)
        except (ValueError, RecursionError):
            found = None
        if not isinstance(found, dict):
            raise invalid(f"{name}, line {number}: no JSON object.", "file")
        lines.append((number, found))
        if len(header) < 100:
            header.update(dict.fromkeys(str(key)[:100] for key in found))
    names = list(header)
    rows = [(number, [_cell(found.get(each)) for each in names]) for number, found in lines]
    return SheetTable(name, names, iter(rows))


def _cell(value: Any) -> str:
    return "" if value is None or isinstance(value, dict | list | bool) else str(value)


@dataclass(frozen=True)
class _Placed:
    """Rows as samples of a product, and the last uses of its series."""

    product: Product
    rows: dict[tuple[int, str, datetime], SizeRow] = field(default_factory=dict)
    """By account, category and instant."""
    used: dict[tuple[int, int, str], datetime] = field(default_factory=dict)

    def samples(self) -> list[dict[str, Any]]:
        """As they are recorded."""
        return [
            {"account_id": account_id, "category": category, "at": at, "bytes": row.report.bytes}
            for (account_id, category, at), row in self.rows.items()
        ]


def _placed(
    tx: Transaction, actor: Actor, product: str, account: str, rows: Sequence[SizeRow]
) -> tuple[list[_Placed], list[RowFault]]:
    """What is recorded of each product, those that rows name and the one that the others are of, and faults."""
    accounts = accounts_service.known(tx)
    accounts_service.row_in_scope(accounts, actor, account)
    found = pools_service.product(tx, product)
    if not found.is_storage:
        raise invalid(f"{found.name} is not storage.", "product")
    inside = Actor(actor.name, "", account)
    people = people_service.by_username(tx, {row.report.where.person for row in rows if row.report.where.person})
    placed = {each.code: _Placed(each) for each in pools_service.products(tx) if each.is_storage}
    faults: list[RowFault] = []
    for row in rows:
        each = row.report
        of, where = placed.get(row.product or product), each.where
        if of is None:
            faults.append(RowFault(row.number, "product", str(row.product), "the code of a product that is storage"))
            continue
        try:
            place = usecases.place_in(accounts, inside, where, people.get(where.person or ""))
        except Refused as refused:
            at = "account" if where.account else "person"
            faults.append(RowFault(row.number, at, str(where.account or where.person), refused.problem.detail))
            continue
        before = of.rows.setdefault((place.account_id, place.category, min(each.at, tx.now)), row)
        if before.report.bytes != each.bytes:
            other = f"{before.report.bytes}, as row {before.number} says of the same, or another instant"
            faults.append(RowFault(row.number, "bytes", str(each.bytes), other))
        if each.used_at is not None and each.used_at <= tx.now:
            series = (of.product.id, place.account_id, place.category)
            of.used[series] = max(each.used_at, of.used.get(series, each.used_at))
    return [each for each in placed.values() if each.rows], faults


def without_place(tx: Transaction, actor: Actor, product: str, account: str, rows: Sequence[SizeRow]) -> list[RowFault]:
    """What is wrong with rows that are to be recorded below an account of the actor's branch: they have no place, or
    one place has two sizes."""
    return _placed(tx, actor, product, account, rows)[1]


def record(
    tx: Transaction, actor: Actor, product: str, account: str, rows: Sequence[SizeRow]
) -> tuple[int, list[RowFault]]:
    """Record rows below an account of the actor's branch, of a product (its code) where they name none; all of them or,
    where something is wrong with one, none: how many, or the faults."""
    placed, faults = _placed(tx, actor, product, account, rows)
    if faults:
        return 0, faults
    if not placed:
        raise conflict("There is nothing to record.")
    top = accounts_service.ids_by_code(tx, [account])[account]
    for of in sorted(placed, key=lambda each: each.product.id):
        for part in batched(of.samples(), AT_ONCE):
            storing.report_sizes(tx, of.product, part, of.used)
        told = {"product": of.product.code, "sizes": len(of.rows)}
        log_service.write(tx, actor, None, [log_service.Entry("sizes recorded", account, top, None, told)])
    return sum(len(each.rows) for each in placed), []
