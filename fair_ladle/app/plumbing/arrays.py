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


def in_micros(column: sa.ColumnElement[Any]) -> sa.ColumnElement[int]:
    """An instant as µs since 1970."""
    found: sa.ColumnElement[int] = sa.func.timestampdiff(
        sa.text("MICROSECOND"), sa.literal_column("'1970-01-01 00:00:00'"), column
    )
    return found


def numbers(connection: sa.Connection, statement: sa.Executable) -> Ints:
    """All rows of a statement of which every column is a whole number: columns × rows."""
    with connection.execute(_streamed(statement)) as result:
        width = len(result.keys())
        parts = [np.empty((0, width), dtype=np.int64)]
        parts += [_as_numbers(rows, width) for rows in _fetched(result)]
    return np.ascontiguousarray(np.concatenate(parts).T)


def in_parts(connection: sa.Connection, statement: sa.Executable) -> Iterator[Sequence[Sequence[Any]]]:
    """The rows of a statement as the driver has them, some at a time while the server still reads others: nothing else
    is asked of the connection until all of them have come."""
    with connection.execute(_streamed(statement)) as result:
        yield from _fetched(result)


def _streamed(statement: sa.Executable) -> sa.Executable:
    return statement.execution_options(stream_results=True, max_row_buffer=1)


def _fetched(result: sa.CursorResult[Any]) -> Iterator[Sequence[Sequence[Any]]]:
    first = result.fetchmany(1)  # it is read with the columns' names
    if first:
        yield first
        # The rest past what makes rows of the driver's tuples, which takes longer than to read them.
        cursor = result.cursor
        assert cursor is not None
        while rows := _more(result, cursor):
            yield rows


def _more(result: sa.CursorResult[Any], cursor: Any) -> Sequence[Sequence[Any]]:
    try:
        rows: Sequence[Sequence[Any]] = cursor.fetchmany(ROWS_AT_ONCE)
    except Exception as trouble:  # as any other that comes of a statement: a lost connection is begun again
        result.cursor_strategy.handle_exception(result, cursor, trouble)
    return rows


def _as_numbers(rows: Sequence[Sequence[Any]], width: int) -> Ints:
    """Rows of so many whole numbers: rows × columns."""
    # An array made of rows asks each of them what it is, which takes eight times as long.
    return np.fromiter(chain.from_iterable(rows), dtype=np.int64, count=len(rows) * width).reshape(-1, width)
