"""Bringing rows into a table by their key: what is new is created, what differs changed, the rest left."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import islice
from typing import Any

import sqlalchemy as sa

BATCH = 10_000
Row = dict[str, Any]
Progress = Callable[[int], None]


@dataclass
class Merged:
    """What a merge did; ``changes`` holds (key, before, after) of what was changed, up to a bound."""

    created: int = 0
    changed: int = 0
    left: int = 0
    changes: list[tuple[tuple[Any, ...], Row, Row]] = field(default_factory=list)


MOST_CHANGES = 2000


def merge(
    connection: sa.Connection,
    table: sa.Table,
    key: Sequence[str],
    rows: Iterable[Row],
    progress: Progress | None = None,
    beside: Mapping[tuple[Any, ...], Mapping[str, tuple[Sequence[str], Sequence[str]]]] | None = None,
) -> Merged:
    """Merge rows, each with every column of the key and of its values, all with the same columns; they are gone through
    more than once, what changes before what is new.

    ``beside`` are lists of rows by their key, as they are and as they shall be, which stand in tables of their own: the
    caller writes them, and a row of which only such a list differs counts as changed.
    """
    merged = Merged()
    first = next(iter(rows), None)
    if first is None:
        return merged
    names = list(first)
    there: dict[tuple[Any, ...], sa.Row[Any]] = {}
    if connection.execute(sa.select(table).limit(1)).first() is not None:
        for each in connection.execute(sa.select(*(table.c[name] for name in names))):
            there[tuple(getattr(each, name) for name in key)] = each
    for row in rows if there else ():
        keyed = tuple(row[name] for name in key)
        found = there.get(keyed)
        if found is None:
            continue
        before = {name: value for name in names if (value := getattr(found, name)) != row[name]}
        lists = {name: each for name, each in (beside or {}).get(keyed, {}).items() if each[0] != each[1]}
        if not before and not lists:
            merged.left += 1
            continue
        after = {name: row[name] for name in before}
        if before:
            connection.execute(
                sa.update(table)
                .where(*(table.c[name] == value for name, value in zip(key, keyed, strict=True)))
                .values(after)
            )
        before |= {name: ";".join(was) for name, (was, _) in lists.items()}
        after |= {name: ";".join(becomes) for name, (_, becomes) in lists.items()}
        merged.changed += 1
        if len(merged.changes) < MOST_CHANGES:
            merged.changes.append((keyed, before, after))
    new = (row for row in rows if not there or tuple(row[name] for name in key) not in there)
    while part := list(islice(new, BATCH)):
        connection.execute(sa.insert(table), part)
        merged.created += len(part)
        if progress:
            progress(merged.created)
    return merged
