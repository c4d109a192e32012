"""Rows as CSV for scripts, or as a table for reading."""

from __future__ import annotations

import csv
import sys
from collections.abc import Iterable, Sequence
from decimal import Decimal

from rich import box
from rich.console import Console
from rich.table import Table

to_people = Console(stderr=True)


def _text(cell: object) -> str:
    return "" if cell is None else f"{cell:f}" if isinstance(cell, Decimal) else str(cell)


def show(columns: Sequence[str], rows: Iterable[Sequence[object]], as_csv: bool) -> None:
    """Print rows under their columns on standard output; None is an empty cell."""
    if as_csv:
        writer = csv.writer(sys.stdout, lineterminator="\n")
        writer.writerow(columns)
        writer.writerows([_text(cell) for cell in row] for row in rows)
        return
    table = Table(box=box.SIMPLE_HEAD, header_style="bold")
    texts = [[_text(cell) for cell in row] for row in rows]
    for place, column in enumerate(columns):
        figures = [row[place] for row in texts if row[place]]
        numeric = bool(figures) and all(each.replace(".", "", 1).lstrip("-").isdigit() for each in figures)
        table.add_column(column, justify="right" if numeric else "left", no_wrap=True, overflow="fold")
    for row in texts:
        table.add_row(*row)
    Console(width=None if sys.stdout.isatty() else 200).print(table)
