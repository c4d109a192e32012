"""Rows of numbers as arrays."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import chain
from typing import Any

import numpy as np
import sqlalchemy as sa

from fair_ladle.core.tree import Ints

ROWS_AT_ONCE = 50_000
"""So many are held as rows before they are numbers."""


def numbers(connection: sa.Connection, statement: sa.Executable) -> Ints:
    """All rows of a statement of which every column is a whole number: columns × rows."""
    result = connection.execute(statement)
    width = len(result.keys())
    parts = [np.empty((0, width), dtype=np.int64)]
    parts += [as_numbers(rows, width) for rows in result.partitions(ROWS_AT_ONCE)]
    return np.ascontiguousarray(np.concatenate(parts).T)


def as_numbers(rows: Sequence[Sequence[Any]], width: int) -> Ints:
    """Rows of so many whole numbers: rows × columns."""
    # An array made of rows asks each of them what it is, which takes eight times as long.
    return np.fromiter(chain.from_iterable(rows), dtype=np.int64, count=len(rows) * width).reshape(-1, width)
