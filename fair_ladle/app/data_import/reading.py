"""From a source's text to parsed rows, every cell on its own; what a cell cannot hold is a fault with its place."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from fair_ladle.app.data_import.formats import FORMATS, Column, Expected
from fair_ladle.connectors.sheets_in import Fault, SheetTable, Source, Unreadable

Parsed = tuple[int, dict[str, Any]]
"""A row's number in its file, and its values by column."""

OnProgress = Callable[[str, int], None]
"""Told of progress: what is being done, and how many rows of it are done."""

TELL_EVERY = 50_000
MOST_FAULTS = 10_000


@dataclass
class Intake:
    """The parsed rows of every table, the faults so far, and the tables that are there but could not be read."""

    rows: dict[str, list[Parsed]] = field(default_factory=dict)
    faults: list[Fault] = field(default_factory=list)
    unreadable: set[str] = field(default_factory=set)
    dropped: dict[str, list[dict[str, Any]]] = field(default_factory=dict)
    """What could be read of rows that have a fault, by table: they are there, so nobody else is wrong to name them."""

    def table(self, name: str) -> list[Parsed]:
        """The rows of a table; none where the intake does not have it."""
        return self.rows.get(name, [])

    def fault(self, table: str, row: int, column: str | None, found: object, expected: str) -> None:
        """Note a fault."""
        self.faults.append(Fault(f"{table}.csv", row, column, str(found), expected))


def parse(source: Source, progress: OnProgress) -> Intake:
    """Every table of the source that has a format; others are reported."""
    intake = Intake(faults=list(source.faults), unreadable=set(source.unreadable))
    for name in source.tables:
        if name not in FORMATS:
            intake.faults.append(
                Fault(f"{name}.csv", None, None, "no table of an intake", "one of " + ", ".join(FORMATS))
            )
    for name, columns in FORMATS.items():
        if name in source.tables:
            try:
                intake.rows[name] = _parse_table(intake, source.tables[name], columns, progress)
            except Unreadable as trouble:
                intake.faults.extend(trouble.faults)
                intake.unreadable.add(name)
    return intake


def _parse_table(intake: Intake, table: SheetTable, columns: tuple[Column, ...], progress: OnProgress) -> list[Parsed]:
    file = f"{table.name}.csv"
    known = {column.name: column for column in columns}
    wrong = False
    for place, name in enumerate(table.header, start=1):
        if name not in known:
            intake.faults.append(
                Fault(file, 1, name or f"column {place}", "an unknown column", "only " + ", ".join(known))
            )
        elif name in table.header[: place - 1]:
            intake.faults.append(Fault(file, 1, name, "a column twice", "each column once"))
    for column in columns:
        if column.required and column.name not in table.header:
            intake.faults.append(Fault(file, 1, column.name, "a column missing", f"a column {column.name}"))
            wrong = True
    if wrong:
        intake.unreadable.add(table.name)
        for _ in table.rows:  # the reader still meets what it cannot read
            pass
        return []
    used = [(place, known[name]) for place, name in enumerate(table.header) if name in known]
    absent = {
        column.name: column.default for column in columns if not column.optional and column.name not in table.header
    }
    rows: list[Parsed] = []
    for number, cells in table.rows:
        if not any(cells):
            continue
        if len(cells) > len(table.header) and any(cells[len(table.header) :]) or len(cells) < len(table.header):
            intake.faults.append(
                Fault(file, number, None, f"{len(cells)} cells", f"{len(table.header)} cells, as in the header")
            )
            intake.dropped.setdefault(table.name, []).append({})
            continue
        values = dict(absent)
        sound = True
        for place, column in used:
            text = cells[place].strip()
            if not text:
                values[column.name] = column.default
                if column.required:
                    intake.fault(table.name, number, column.name, "nothing", f"a {column.name}")
                    sound = False
                continue
            try:
                values[column.name] = column.parse(text)
            except Expected as expected:
                intake.fault(table.name, number, column.name, text[:100], str(expected))
                sound = False
        if sound:
            rows.append((number, values))
        else:
            intake.dropped.setdefault(table.name, []).append(values)
        if number % TELL_EVERY == 0:
            progress(f"reading {file}", number)
        if len(intake.faults) > MOST_FAULTS:
            intake.faults.append(Fault(file, number, None, "too many faults", "the rest is not read; mend these first"))
            break
    return rows
