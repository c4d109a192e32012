"""Writing tables as CSV or XLSX, so that no cell runs as a formula where it is opened, and for a browser to print."""

from __future__ import annotations

import csv
import io
import json
import re
import tempfile
from collections.abc import Generator, Iterable, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from decimal import Decimal
from itertools import islice
from typing import Any

from xlsxwriter import Workbook
from xlsxwriter.utility import xl_range_abs

ROWS_AT_ONCE, MOST_ROWS, MOST_CHARACTERS, MOST_TOTALS = 500, 1_048_575, 32_767, 300
MOST_PRINTED = 10_000
NOT_IN_XML = re.compile(r"[\x00-\x08\x0b\x0c\x0e-\x1f]")
NOT_IN_A_TITLE = re.compile(r"[^\w .-]")
Cell = str | int | Decimal | date | datetime | None
RISKY = ("=", "+", "-", "@", "\t", "\r", "\n", "＝", "＋", "－", "＠")
TYPES = {
    "csv": "text/csv; charset=utf-8",
    "tsv": "text/tab-separated-values; charset=utf-8",
    "xlsx": "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
    "print": "application/json",
}


def csv_parts(columns: Sequence[str], rows: Iterable[Sequence[Cell]], delimiter: str = ",") -> Generator[bytes]:
    """CSV after RFC 4180, UTF-8, as its rows come; text that a spreadsheet would run begins with an apostrophe."""
    out = io.StringIO(newline="")
    writer = csv.writer(out, delimiter=delimiter)
    writer.writerow(columns)
    for number, row in enumerate(rows, 1):
        writer.writerow([_harmless(cell) for cell in row])
        if number % ROWS_AT_ONCE == 0:
            yield out.getvalue().encode()
            out.seek(0)
            out.truncate()
    yield out.getvalue().encode()


def as_csv(columns: Sequence[str], rows: Iterable[Sequence[Cell]]) -> bytes:
    """The same as a whole."""
    return b"".join(csv_parts(columns, rows))


def _harmless(cell: Cell) -> Cell:
    if isinstance(cell, str) and cell.startswith(RISKY):
        return f"'{cell}"
    return f"{cell:f}" if isinstance(cell, Decimal) else cell


@dataclass(frozen=True)
class Totals:
    """Which columns of a workbook are added up beneath it, once for each value of the column ``by`` (a currency);
    where there is a column ``only_without``, only of the rows that have nothing in it."""

    figures: Sequence[str]
    by: str
    only_without: str | None = None

    def within(self, columns: Sequence[str]) -> Totals | None:
        """The same of fewer columns; None where what they need is not among these."""
        figures = [each for each in self.figures if each in columns]
        needs = {self.by, self.only_without} - {None}
        return Totals(figures, self.by, self.only_without) if figures and needs.issubset(columns) else None


class _Sums:
    """The totals of a workbook as they come to while its rows are written."""

    def __init__(self, totals: Totals, columns: Sequence[str]):
        self._names, self._by = list(totals.figures), columns.index(totals.by)
        self._figures = [columns.index(each) for each in totals.figures]
        self._without = None if totals.only_without is None else columns.index(totals.only_without)
        self._sums: dict[str, list[Decimal]] = {}

    def add(self, row: Sequence[Cell]) -> None:
        """Count a row."""
        if row[self._by] is None or (self._without is not None and row[self._without] is not None):
            return
        mine = self._sums.setdefault(str(row[self._by]), [Decimal(0)] * len(self._figures))
        for place, column in enumerate(self._figures):
            mine[place] += Decimal(str(row[column] or 0))

    def lines(self) -> list[tuple[str, dict[int, Decimal]]]:
        """By the value they are added up for: its sums by column."""
        return [(value, dict(zip(self._figures, sums, strict=True))) for value, sums in sorted(self._sums.items())]

    def write(self, sheet: Any, bold: Any, last: int) -> None:
        """Write them beneath a sheet whose last row is this one, as formulas that say what they come to."""

        def cells(column: int) -> str:
            return str(xl_range_abs(1, column, last, column))

        for place, (value, sums) in enumerate(self.lines(), start=1):
            sheet.write_string(last + place, 0, f"Total {value}", bold)
            named = value.replace('"', '""')
            more = "" if self._without is None else f',{cells(self._without)},"="'
            for column, figure in sums.items():
                formula = f'=SUMIFS({cells(column)},{cells(self._by)},"{named}"{more})'
                sheet.write_formula(last + place, column, formula, bold, float(figure))


def print_parts(
    columns: Sequence[str], rows: Iterable[Sequence[Cell]], totals: Totals | None = None
) -> Generator[bytes]:
    """What a browser prints, as JSON: columns, rows, totals, and whether there are more rows than that. Figures are
    objects, so that text stays text."""
    sums, rest = None if totals is None else _Sums(totals, columns), iter(rows)
    part = list(islice(rest, ROWS_AT_ONCE))  # what is refused is so before anything is sent
    yield f'{{"columns":{json.dumps(columns)},"rows":['.encode()
    for begin in range(0, MOST_PRINTED, ROWS_AT_ONCE):
        part = list(islice(rest, ROWS_AT_ONCE)) if begin else part
        if sums is not None:
            for row in part:
                sums.add(row)
        if part:
            written = json.dumps([[_shown(cell) for cell in row] for row in part], separators=(",", ":"))[1:-1]
            yield f"{',' if begin else ''}{written}".encode()
    more = next(rest, None) is not None
    added = [
        [f"Total {value}", *(_shown(figures.get(column)) for column in range(1, len(columns)))]
        for value, figures in (sums.lines() if sums is not None and not more else [])
    ]
    yield f'],"totals":{json.dumps(added)},"more":{json.dumps(more)}}}'.encode()


def _shown(cell: Cell) -> str | dict[str, str] | None:
    if isinstance(cell, bool):
        return "yes" if cell else "no"
    if isinstance(cell, Decimal | int):
        return {"figure": f"{cell:f}" if isinstance(cell, Decimal) else str(cell)}
    return cell.isoformat() if isinstance(cell, date) else cell


def _write(sheet: Any, row: int, column: int, value: Cell, day: Any) -> None:
    """A figure as a number, a day as a day, and text always as text."""
    if value is None:
        return
    if isinstance(value, datetime):
        value = value.isoformat()
    if isinstance(value, str):
        sheet.write_string(row, column, NOT_IN_XML.sub("", value)[:MOST_CHARACTERS])
    elif isinstance(value, date):
        sheet.write_datetime(row, column, value, day)
    else:
        sheet.write_number(row, column, value)


def xlsx_parts(
    title: str, columns: Sequence[str], rows: Iterable[Sequence[Cell]], totals: Totals | None = None
) -> Generator[bytes]:
    """A workbook, written row by row to files on the disk, then read from there. What is too long for one sheet goes on
    in the next, and then has no totals. While rows are written nothing comes but empty parts, at which whoever waits
    can be looked for."""
    with tempfile.TemporaryDirectory() as folder, tempfile.TemporaryFile() as out:
        workbook = Workbook(out, {"constant_memory": True, "tmpdir": folder})
        day, bold = workbook.add_format({"num_format": "yyyy-mm-dd"}), workbook.add_format({"bold": True})
        sums = None if totals is None else _Sums(totals, columns)
        sheet, number = _new_sheet(workbook, title, columns), 0
        for number, row in enumerate(rows, start=1):
            place = (number - 1) % MOST_ROWS
            if number > 1 and place == 0:
                sheet, sums = _new_sheet(workbook, title, columns), None
            for column, value in enumerate(row):
                _write(sheet, place + 1, column, value, day)
            if sums is not None:
                sums.add(row)
            if number % ROWS_AT_ONCE == 0:
                yield b""
        if sums is not None and 0 < number < MOST_ROWS - MOST_TOTALS:
            sums.write(sheet, bold, number)
        workbook.close()
        out.seek(0)
        while part := out.read(2**16):
            yield part


def _new_sheet(workbook: Workbook, title: str, columns: Sequence[str]) -> Any:
    number, named = len(workbook.worksheets()) + 1, NOT_IN_A_TITLE.sub("-", title) or "Sheet"
    sheet = workbook.add_worksheet(_cut(named, 31) if number == 1 else f"{_cut(named, 27)} {number}")
    for place, column in enumerate(columns):
        sheet.write_string(0, place, column)
    return sheet


def _cut(text: str, most: int) -> str:
    """As much of a text as a workbook counts so many characters (some letters are two)."""
    return text.encode("utf-16-le")[: 2 * most].decode("utf-16-le", "ignore")


def as_xlsx(title: str, columns: Sequence[str], rows: Iterable[Sequence[Cell]], totals: Totals | None = None) -> bytes:
    """The same as a whole."""
    return b"".join(xlsx_parts(title, columns, rows, totals))
