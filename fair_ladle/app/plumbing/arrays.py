"""Rows of numbers as arrays."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import chain
from typing import Any

import numpy as np
import sqlalchemy as sa

from fair_ladle.core.tree import Ints

ROWS_AT_ONCE = 50_000
"""So many are held as rows before they are numbers."""


def numbers(connection: sa.Connection, statement: sa.Executable) -> Ints:
    """All rows of a statement of which every column is a whole number: columns × rows."""
    result = connection.execute(_streamed(statement))
    width = len(result.keys())
    parts = [np.empty((0, width), dtype=np.int64)]
    parts += [as_numbers(rows, width) for rows in result.partitions(ROWS_AT_ONCE)]
    return np.ascontiguousarray(np.concatenate(parts).T)


def in_parts(connection: sa.Connection, statement: sa.Executable) -> Iterator[Sequence[Sequence[Any]]]:
    """The rows of a statement, some at a time while the server still reads others: nothing else is asked of the
    connection until all of them have come."""
    yield from connection.execute(_streamed(statement)).partitions(ROWS_AT_ONCE)


def _streamed(statement: sa.Executable) -> sa.Executable:
    return statement.execution_options(stream_results=True, max_row_buffer=ROWS_AT_ONCE)


def as_numbers(rows: Sequence[Sequence[Any]], width: int) -> Ints:
    """Rows of so many whole numbers: rows × columns."""
    # An array made of rows asks each of them what it is, which takes eight times as long.
    return np.fromiter(chain.from_iterable(rows), dtype=np.int64, count=len(rows) * width).reshape(-1, width)
