"""Queries over systems that are asked what they store, and their runs."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from datetime import datetime
from typing import Any

import sqlalchemy as sa
from sqlalchemy.dialects import mysql

from fair_ladle.app.people.rows import PersonRecord
from fair_ladle.app.people.tables import people
from fair_ladle.app.plumbing.database import batched, fetch, fetch_first
from fair_ladle.app.storage_systems.rows import SourceRecord, SourceRun
from fair_ladle.app.storage_systems.tables import storage_source_runs, storage_source_series, storage_sources

o, r, m = storage_sources, storage_source_runs, storage_source_series
MOST_RUNS = 50


def add(connection: sa.Connection, row: dict[str, Any]) -> int:
    """A new source; its number."""
    key = connection.execute(sa.insert(o).values(row)).inserted_primary_key
    assert key is not None
    return int(key[0])


def change(connection: sa.Connection, number: int, values: dict[str, Any]) -> None:
    """Other settings of a source."""
    connection.execute(sa.update(o).where(o.c.id == number).values(values))


def drop(connection: sa.Connection, number: int) -> None:
    """A source no longer; its runs go with it."""
    connection.execute(sa.delete(o).where(o.c.id == number))


def some(connection: sa.Connection, inside: sa.ColumnElement[bool], limit: int) -> list[SourceRecord]:
    """The sources of a branch, by name."""
    return fetch(connection, sa.select(o).where(inside).order_by(o.c.name, o.c.id).limit(limit), SourceRecord)


def one(connection: sa.Connection, number: int) -> SourceRecord | None:
    """A source by its number."""
    return fetch_first(connection, sa.select(o).where(o.c.id == number), SourceRecord)


def due(connection: sa.Connection, now: datetime, limit: int) -> list[int]:
    """The sources whose time has come, the earliest first."""
    wanted = sa.select(o.c.id).where(o.c.due_at <= now, sa.or_(o.c.paused.is_(False), o.c.asked.is_not(None)))
    return list(connection.scalars(wanted.order_by(o.c.due_at).limit(limit)))


def begin_run(connection: sa.Connection, row: dict[str, Any]) -> int:
    """A run begins; its number. Of older ones only the newest are kept."""
    key = connection.execute(sa.insert(r).values(row)).inserted_primary_key
    assert key is not None
    ids = list(connection.scalars(sa.select(r.c.id).where(r.c.source_id == row["source_id"]).order_by(r.c.id.desc())))
    for part in batched(ids[MOST_RUNS:]):
        connection.execute(sa.delete(r).where(r.c.id.in_(part)))
    return int(key[0])


def change_run(connection: sa.Connection, number: int, values: dict[str, Any]) -> None:
    """How far a run is."""
    connection.execute(sa.update(r).where(r.c.id == number).values(values))


def end_left_runs(connection: sa.Connection, source_id: int, at: datetime) -> None:
    """Runs that nobody ended, because whoever ran them is gone, were stopped."""
    left = sa.update(r).where(r.c.source_id == source_id, r.c.ended_at.is_(None))
    connection.execute(left.values(ended_at=at, outcome="stopped"))


def runs(connection: sa.Connection, source_ids: Collection[int], each: int) -> list[SourceRun]:
    """The newest runs of sources, the newest first."""
    place = sa.func.row_number().over(partition_by=r.c.source_id, order_by=r.c.id.desc()).label("place")
    mine = sa.select(r, place).where(r.c.source_id.in_(source_ids)).subquery()
    return fetch(connection, sa.select(mine).where(mine.c.place <= each).order_by(mine.c.id.desc()), SourceRun)


Recorded = tuple[int, str]
"""An account, and a category of it."""


def series(connection: sa.Connection, source_id: int, subjects: Collection[str] | None = None) -> dict[str, Recorded]:
    """Where what a source said of its subjects (of all, if not said) was recorded, by subject."""
    of_source = sa.select(m).where(m.c.source_id == source_id)
    parts = [of_source] if subjects is None else [of_source.where(m.c.subject.in_(part)) for part in batched(subjects)]
    return {row.subject: (row.account_id, row.category) for part in parts for row in connection.execute(part)}


def of_others(
    connection: sa.Connection, source_id: int, places: Collection[Recorded], subjects: Collection[str]
) -> set[Recorded]:
    """Those of these places where something is recorded of other subjects of a source than these."""
    found = set[Recorded]()
    for part in batched(places):
        mine = [m.c.source_id == source_id, sa.tuple_(m.c.account_id, m.c.category).in_(part)]
        rows = connection.execute(sa.select(m.c.account_id, m.c.category).where(*mine, m.c.subject.not_in(subjects)))
        found.update((row.account_id, row.category) for row in rows)
    return found


def put_series(connection: sa.Connection, rows: Sequence[dict[str, Any]]) -> None:
    """Keep where subjects are recorded."""
    for part in batched(rows):
        put = mysql.insert(m)
        connection.execute(
            put.on_duplicate_key_update(account_id=put.inserted.account_id, category=put.inserted.category), part
        )


def drop_series(connection: sa.Connection, source_id: int, subjects: Collection[str]) -> None:
    """Subjects that a system names no longer."""
    for part in batched(sorted(subjects)):
        connection.execute(sa.delete(m).where(m.c.source_id == source_id, m.c.subject.in_(part)))


def people_in(connection: sa.Connection, inside: sa.ColumnElement[bool], after: int, limit: int) -> list[PersonRecord]:
    """Some of the people who are present in a branch (``inside`` is of people.account_id), by number."""
    p = people
    present = [p.c.status.in_(("active", "suspended")), p.c.id > after, inside]
    return fetch(connection, sa.select(p).where(*present).order_by(p.c.id).limit(limit), PersonRecord)
