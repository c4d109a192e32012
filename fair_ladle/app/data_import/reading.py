"""From a source's text to parsed rows, every cell on its own; what a cell cannot hold is a fault with its place."""

from __future__ import annotations

from array import array
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from operator import itemgetter
from typing import Any

from fair_ladle.app.data_import.formats import FORMATS, Column, Expected
from fair_ladle.connectors.sheets_in import Fault, SheetTable, Source, Unreadable

Parsed = tuple[int, dict[str, Any]]
"""A row's number in its file, and its values by column."""

OnProgress = Callable[[str, int], None]
"""Told of progress: what is being done, and how many rows of it are done."""

TELL_EVERY = 50_000
MOST_FAULTS = 10_000
MOST_REMEMBERED = 100_000
"""Of so many cells of a column what they hold is remembered: what is there again is there once."""


class ParsedTable:
    """The rows of a table in the order of the file. They are kept as tuples, a third of what dicts take: an intake may
    have millions."""

    def __init__(self, names: Iterable[str] = ()):
        self.names = tuple(names)
        self._numbers = array("Q")
        self._rows: list[tuple[Any, ...]] = []

    def append(self, number: int, values: Mapping[str, Any]) -> None:
        """Add a row, which has every column of the table, by its number in the file."""
        self._numbers.append(number)
        self._rows.append(tuple([values[name] for name in self.names]))

    def __len__(self) -> int:
        return len(self._rows)

    def __iter__(self) -> Iterator[Parsed]:
        for number, row in zip(self._numbers, self._rows, strict=True):
            yield number, dict(zip(self.names, row, strict=True))

    def changing(self) -> Iterator[Parsed]:
        """Every row in turn; what is changed of it until the next is kept."""
        for place, (number, row) in enumerate(self):
            yield number, row
            self._rows[place] = tuple([row[name] for name in self.names])

    def values(self, *names: str) -> Iterator[tuple[int, Any]]:
        """The number of each row, and what it has in a column, or, of several, the tuple of them."""
        return zip(self._numbers, map(itemgetter(*map(self.names.index, names)), self._rows), strict=True)

    def clear(self) -> None:
        """Let the rows go."""
        self._rows.clear()
        self._numbers = array("Q")


@dataclass
class Intake:
    """The parsed rows of every table, the faults so far, and the tables that are there but could not be read."""

    rows: dict[str, ParsedTable] = field(default_factory=dict)
    faults: list[Fault] = field(default_factory=list)
    unreadable: set[str] = field(default_factory=set)
    dropped: dict[str, list[dict[str, Any]]] = field(default_factory=dict)
    """What could be read of rows that have a fault, by table: they are there, so nobody else is wrong to name them."""

    def table(self, name: str) -> ParsedTable:
        """The rows of a table; none where the intake does not have it."""
        return self.rows.get(name) or ParsedTable(each.name for each in FORMATS[name])

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


def _parse_table(intake: Intake, table: SheetTable, columns: tuple[Column, ...], progress: OnProgress) -> ParsedTable:
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
        return ParsedTable()
    used = [(place, known[name]) for place, name in enumerate(table.header) if name in known]
    remembered: dict[str, dict[str, Any]] = {column.name: {} for _, column in used}
    absent = {
        column.name: column.default for column in columns if not column.optional and column.name not in table.header
    }
    rows = ParsedTable([*absent, *(column.name for _, column in used)])
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
            before = remembered[column.name]
            if text in before:
                values[column.name] = before[text]
                continue
            try:
                values[column.name] = column.parse(text)
            except Expected as expected:
                intake.fault(table.name, number, column.name, text[:100], str(expected))
                sound = False
                continue
            if len(before) < MOST_REMEMBERED:
                before[text] = values[column.name]
        if sound:
            rows.append(number, values)
        else:
            intake.dropped.setdefault(table.name, []).append(values)
        if number % TELL_EVERY == 0:
            progress(f"reading {file}", number)
        if len(intake.faults) > MOST_FAULTS:
            intake.faults.append(Fault(file, number, None, "too many faults", "the rest is not read; mend these first"))
            break
    return rows
