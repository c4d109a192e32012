"""Writing tables as CSV or XLSX, so that no cell runs as a formula where it is opened."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Sequence
from datetime import date, datetime
from decimal import Decimal
from typing import Any

from openpyxl import Workbook
from openpyxl.cell import WriteOnlyCell
from openpyxl.cell.cell import ILLEGAL_CHARACTERS_RE

Cell = str | int | Decimal | date | datetime | None
RISKY = ("=", "+", "-", "@", "\t", "\r", "\n", "＝", "＋", "－", "＠")
TYPES = {
    "csv": "text/csv; charset=utf-8",
    "xlsx": "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
}


def as_csv(columns: Sequence[str], rows: Iterable[Sequence[Cell]]) -> bytes:
    """CSV after RFC 4180, UTF-8; text that a spreadsheet would run begins with an apostrophe."""
    out = io.StringIO(newline="")
    writer = csv.writer(out)
    writer.writerow(columns)
    for row in rows:
        writer.writerow([_harmless(cell) for cell in row])
    return out.getvalue().encode()


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


def as_xlsx(title: str, columns: Sequence[str], rows: Iterable[Sequence[Cell]]) -> bytes:
    """One sheet; figures as numbers, text always as text."""
    workbook = Workbook(write_only=True)
    sheet = workbook.create_sheet(title[:31])
    sheet.append(list(columns))
    for row in rows:
        sheet.append([_as_text(sheet, value) for value in row])
    out = io.BytesIO()
    workbook.save(out)
    return out.getvalue()
