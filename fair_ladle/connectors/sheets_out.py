"""Writing tables as CSV or XLSX, so that no cell runs as a formula where it is opened."""

from __future__ import annotations

import csv
import io
import tempfile
from collections.abc import Generator, Iterable, Sequence
from datetime import date, datetime
from decimal import Decimal
from typing import Any

from openpyxl import Workbook
from openpyxl.cell import WriteOnlyCell
from openpyxl.cell.cell import ILLEGAL_CHARACTERS_RE

ROWS_AT_ONCE, MOST_ROWS = 500, 1_048_575
Cell = str | int | Decimal | date | datetime | None
RISKY = ("=", "+", "-", "@", "\t", "\r", "\n", "＝", "＋", "－", "＠")
TYPES = {
    "csv": "text/csv; charset=utf-8",
    "tsv": "text/tab-separated-values; charset=utf-8",
    "xlsx": "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
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


def _as_text(sheet: Any, value: Cell) -> Any:
    """A figure as it is, and text so that it stays text: where it could be read as something else, in a cell that says
    so."""
    if isinstance(value, datetime):
        return value.isoformat()
    if not isinstance(value, str):
        return value
    text: str = ILLEGAL_CHARACTERS_RE.sub("", value)
    if not text.startswith(("=", "#")):
        return text
    cell = WriteOnlyCell(sheet, value=text)
    cell.data_type = "s"
    return cell


def xlsx_parts(title: str, columns: Sequence[str], rows: Iterable[Sequence[Cell]]) -> Generator[bytes]:
    """A workbook, written row by row to a file on the disk, then read from it; figures as numbers, text always as text.
    What is too long for one sheet goes on in the next. While rows are written nothing comes but empty parts, at which
    whoever waits can be looked for."""
    workbook = Workbook(write_only=True)
    sheet = None
    try:
        for number, row in enumerate(rows):
            if number % MOST_ROWS == 0:
                sheet = _new_sheet(workbook, title, columns)
            assert sheet is not None
            sheet.append([_as_text(sheet, value) for value in row])
            if number % ROWS_AT_ONCE == ROWS_AT_ONCE - 1:
                yield b""
    except BaseException:
        for each in workbook.worksheets:  # each has a file of its own until the workbook is saved
            each.close()
            each._writer.cleanup()
        raise
    if sheet is None:
        _new_sheet(workbook, title, columns)
    with tempfile.TemporaryFile() as out:
        workbook.save(out)
        out.seek(0)
        while part := out.read(2**16):
            yield part


def _new_sheet(workbook: Any, title: str, columns: Sequence[str]) -> Any:
    number = len(workbook.worksheets) + 1
    sheet = workbook.create_sheet(title[:31] if number == 1 else f"{title[:27]} {number}")
    sheet.append([_as_text(sheet, column) for column in columns])
    return sheet


def as_xlsx(title: str, columns: Sequence[str], rows: Iterable[Sequence[Cell]]) -> bytes:
    """The same as a whole."""
    return b"".join(xlsx_parts(title, columns, rows))
