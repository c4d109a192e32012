"""About how much memory values take."""

from __future__ import annotations

import sys
from collections.abc import Iterable
from datetime import date
from itertools import islice

import numpy as np
import sqlalchemy as sa

LOOKED_AT = 8
"""Of so many members of a long collection the others are taken to be like."""


def bytes_of(value: object) -> int:
    """About how many bytes a value takes, with the collections, rows, arrays and objects of ours that it refers to:
    long collections by some of their members, and what is referred to twice counted once."""
    return _bytes_of(value, set())


def _bytes_of(value: object, seen: set[int]) -> int:
    own = sys.getsizeof(value, 64)
    if isinstance(value, str | bytes | int | float | date | None):
        return own
    if id(value) in seen or isinstance(value, type):
        return 0
    seen.add(id(value))
    if isinstance(value, np.ndarray):
        return own if value.base is None else own + (0 if id(value.base) in seen else _bytes_of(value.base, seen))
    if isinstance(value, dict):
        return own + _members(value, len(value), seen) + _members(value.values(), len(value), seen)
    if isinstance(value, list | tuple | set | frozenset | sa.Row):
        return own + _members(value, len(value), seen)
    if not type(value).__module__.startswith("fair_ladle."):
        return own
    return own + sum(_bytes_of(each, seen) for each in _fields(value))


def _members(members: Iterable[object], count: int, seen: set[int]) -> int:
    some = list(islice(members, 0, None, max(1, count // LOOKED_AT)))
    return sum(_bytes_of(each, seen) for each in some) * count // max(1, len(some))


def _fields(value: object) -> list[object]:
    named = [each for kind in type(value).__mro__ for each in getattr(kind, "__slots__", ())]
    return [*getattr(value, "__dict__", {}).values(), *(getattr(value, each, None) for each in named)]
