"""Tables of sizes of any other system: CSV, a workbook, or JSON lines; account, person, folder or category, instant and
bytes, in columns of whatever name. Faults are told with their row and column first; nothing is recorded while there are
any."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal, InvalidOperation
from itertools import islice
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.assignments import storing
from fair_ladle.app.log import service as log_service
from fair_ladle.app.people import service as people_service
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.foreign import columns_by_name, table_of
from fair_ladle.app.plumbing.problems import Refused, conflict, invalid
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.storage_systems import usecases
from fair_ladle.app.storage_systems.usecases import Report, Where
from fair_ladle.connectors.sheets_in import SheetTable

NAMES = {
    "account": ("account", "tenant", "client", "customer"),
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
class Read:
    """A table as it is understood: where each column stands, its rows as reports, and faults (the first of them, and
    how many)."""

    header: list[str]
    columns: dict[str, int]
    reports: list[tuple[int, Report]]
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
    reports, faults, count = [], list[RowFault](), 0
    if "bytes" not in columns or not columns.keys() & {"person", "folder", "category"}:
        return Read(header, columns, [], [], 0)
    for number, cells in rows:
        values = {what: cells[place].strip() if place < len(cells) else "" for what, place in columns.items()}
        if not any(values.values()):
            continue
        try:
            reports.append((number, _report(values, now)))
        except _Wrong as wrong:
            count += 1
            if len(faults) < MOST_FAULTS:
                said = header[columns[wrong.column]] if wrong.column in columns else wrong.column
                faults.append(RowFault(number, said, values.get(wrong.column, "")[:80] or "nothing", wrong.expected))
    return Read(header, columns, reports, faults, count)


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
        category if given == ["person"] else None,
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
    """Reports as samples, the last uses of series, and what has no place."""

    product: Product
    rows: list[dict[str, Any]]
    used: dict[tuple[int, int, str], datetime]
    faults: list[RowFault]


def _placed(
    tx: Transaction, actor: Actor, product: str, account: str, reports: Sequence[tuple[int, Report]]
) -> _Placed:
    accounts = accounts_service.known(tx)
    accounts_service.row_in_scope(accounts, actor, account)
    found = pools_service.product(tx, product)
    if not found.is_storage:
        raise invalid(f"{found.name} is not storage.", "product")
    inside = Actor(actor.name, "", account)
    people = people_service.by_username(tx, {each.where.person for _, each in reports if each.where.person})
    rows: dict[tuple[int, str, datetime], dict[str, Any]] = {}
    placed = _Placed(found, [], {}, [])
    for number, each in reports:
        try:
            place = usecases.place_in(accounts, inside, each.where, people.get(each.where.person or ""))
        except Refused as refused:
            if len(placed.faults) < MOST_FAULTS:
                at = "account" if each.where.account else "person"
                named = str(each.where.account or each.where.person)
                placed.faults.append(RowFault(number, at, named, refused.problem.detail))
            continue
        key = (place.account_id, place.category, min(each.at, tx.now))
        rows[key] = dict(zip(("account_id", "category", "at"), key, strict=True)) | {"bytes": each.bytes}
        if each.used_at is not None and each.used_at <= tx.now:
            series = (found.id, place.account_id, place.category)
            placed.used[series] = max(each.used_at, placed.used.get(series, each.used_at))
    placed.rows.extend(rows.values())
    return placed


def without_place(
    tx: Transaction, actor: Actor, product: str, account: str, reports: Sequence[tuple[int, Report]]
) -> list[RowFault]:
    """The reports that have no place below an account of the actor's branch."""
    return _placed(tx, actor, product, account, reports).faults


def record(
    tx: Transaction, actor: Actor, product: str, account: str, reports: Sequence[tuple[int, Report]]
) -> tuple[int, list[RowFault]]:
    """Record reports below an account of the actor's branch, all of them or, where one has no place, none: how many, or
    the faults."""
    placed = _placed(tx, actor, product, account, reports)
    if placed.faults:
        return 0, placed.faults
    if not placed.rows:
        raise conflict("There is nothing to record.")
    for start in range(0, len(placed.rows), AT_ONCE):
        storing.report_sizes(tx, placed.product, placed.rows[start : start + AT_ONCE], placed.used)
    top = accounts_service.ids_by_code(tx, [account])[account]
    told = {"product": placed.product.code, "sizes": len(placed.rows)}
    log_service.write(tx, actor, None, [log_service.Entry("sizes recorded", account, top, None, told)])
    return len(placed.rows), []
