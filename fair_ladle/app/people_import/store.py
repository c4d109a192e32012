"""Queries over imports of people and their parts."""

from __future__ import annotations

import json
import zlib
from collections.abc import Sequence
from datetime import date
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.people_import.rows import ImportRecord, ImportSummary, PartRecord
from fair_ladle.app.people_import.tables import people_import_parts as parts
from fair_ladle.app.people_import.tables import people_imports as imports
from fair_ladle.app.plumbing.database import fetch, fetch_first, insert_row

KEPT = 50


def packed(value: Any) -> bytes:
    """JSON, deflated."""
    return zlib.compress(json.dumps(value, separators=(",", ":")).encode(), 1)


def unpacked(content: bytes) -> Any:
    """What was packed."""
    return json.loads(zlib.decompress(content))


def add(connection: sa.Connection, row: dict[str, Any]) -> int:
    """A new import's id."""
    return insert_row(connection, imports, row)


def one(connection: sa.Connection, import_id: int, lock: bool = False) -> ImportRecord | None:
    """An import, by choice locked until the transaction ends."""
    wanted = sa.select(imports).where(imports.c.id == import_id)
    return fetch_first(connection, wanted.with_for_update() if lock else wanted, ImportRecord)


def claim(connection: sa.Connection, import_id: int) -> ImportRecord | None:
    """An import, locked; None where somebody else is at it."""
    return fetch_first(
        connection, sa.select(imports).where(imports.c.id == import_id).with_for_update(skip_locked=True), ImportRecord
    )


def of(connection: sa.Connection, sign_in_id: int, through: str) -> list[ImportSummary]:
    """Somebody's newest imports, without their cells."""
    columns = [each for each in imports.c if each.name not in ("cells", "how", "header")]
    wanted = sa.select(*columns).where(imports.c.sign_in_id == sign_in_id, imports.c.through == through)
    return fetch(connection, wanted.order_by(imports.c.id.desc()).limit(KEPT), ImportSummary)


def running(connection: sa.Connection) -> list[int]:
    """Imports that are under way."""
    return list(connection.scalars(sa.select(imports.c.id).where(imports.c.state == "running").order_by(imports.c.id)))


def begin_due(connection: sa.Connection, today: date) -> None:
    """Begin what is planned for this day or one before. Locks each, so that one that is just cancelled stays so."""
    due = sa.select(imports.c.id).where(imports.c.state == "planned", imports.c.on_day <= today)
    for import_id in connection.scalars(due.order_by(imports.c.id)).all():
        connection.execute(
            sa.update(imports).where(imports.c.id == import_id, imports.c.state == "planned").values(state="running")
        )


def change(connection: sa.Connection, import_id: int, values: dict[str, Any]) -> None:
    """Other values for an import."""
    connection.execute(sa.update(imports).where(imports.c.id == import_id).values(values))


def forget(connection: sa.Connection, import_id: int) -> None:
    """Put an import away."""
    drop_parts(connection, import_id)
    connection.execute(sa.delete(imports).where(imports.c.id == import_id))


def drop_parts(connection: sa.Connection, import_id: int) -> None:
    """The parts of an import that has not begun."""
    connection.execute(sa.delete(parts).where(parts.c.import_id == import_id))


def put_parts(connection: sa.Connection, import_id: int, every: Sequence[Sequence[Any]]) -> None:
    """The parts of an import, in order."""
    if every:
        connection.execute(
            sa.insert(parts),
            [{"import_id": import_id, "number": n, "steps": packed(each)} for n, each in enumerate(every)],
        )


def next_part(connection: sa.Connection, import_id: int) -> PartRecord | None:
    """The first part that is not done; None where all are."""
    wanted = sa.select(parts).where(parts.c.import_id == import_id, parts.c.outcome.is_(None))
    return fetch_first(connection, wanted.order_by(parts.c.number).limit(1), PartRecord)


def note_outcome(connection: sa.Connection, import_id: int, number: int, outcome: Sequence[Any]) -> None:
    """What was done in a part."""
    connection.execute(
        sa.update(parts).where(parts.c.import_id == import_id, parts.c.number == number).values(outcome=packed(outcome))
    )


def outcomes(connection: sa.Connection, import_id: int) -> list[Any]:
    """What was done so far, row by row."""
    found = connection.scalars(
        sa.select(parts.c.outcome)
        .where(parts.c.import_id == import_id, parts.c.outcome.is_not(None))
        .order_by(parts.c.number)
    )
    return [row for part in found for row in unpacked(part)]
