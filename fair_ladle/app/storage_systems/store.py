"""Queries over reserved uploads and unplaced reports."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from datetime import datetime
from typing import Any

import sqlalchemy as sa
from sqlalchemy.dialects import mysql

from fair_ladle.app.plumbing.database import batched, fetch
from fair_ladle.app.plumbing.prepared import Prepared, Question
from fair_ladle.app.storage_systems.rows import ReservationRecord, UnplacedRecord, UnplacedSums
from fair_ladle.app.storage_systems.tables import storage_reservations, unplaced_reports

r, u = storage_reservations, unplaced_reports


_SAID = ("token_hash", "key_id", "product_id", "account_id", "category", "bytes", "until")
_RESERVE = Prepared(sa.insert(r).values({name: sa.bindparam(name) for name in _SAID}))
_MINE = r.c.token_hash == sa.bindparam("hash")
_LOCK = Prepared(sa.select(r).where(_MINE).with_for_update())
_END = Prepared(
    sa.update(r)
    .where(r.c.id == sa.bindparam("number"))
    .values(ended_at=sa.bindparam("at"), outcome=sa.bindparam("how"))
)


def reserve(connection: sa.Connection, row: dict[str, Any]) -> None:
    """Keep a reservation."""
    _RESERVE.run_later(connection, row)


def lock_reservation(token_hash: str) -> Question[ReservationRecord | None]:
    """A reservation by its token, locked; None where there is none. Whoever finds it open ends it by a write, which
    holds on a cluster, too."""
    return Question([(_LOCK, {"hash": token_hash})], lambda rows: next(iter(rows), None))


def lapsed(connection: sa.Connection, now: datetime, limit: int) -> list[ReservationRecord]:
    """Some of the reservations whose time is over, the earliest first."""
    wanted = sa.select(r).where(r.c.ended_at.is_(None), r.c.until <= now)
    return fetch(connection, wanted.order_by(r.c.until).limit(limit), ReservationRecord)


def end(connection: sa.Connection, number: int, at: datetime, outcome: str) -> None:
    """End a reservation."""
    _END.run_later(connection, {"number": number, "at": at, "how": outcome})


def keep_unplaced(connection: sa.Connection, rows: Sequence[dict[str, Any]]) -> None:
    """Keep reports of accounts that nobody knows; a later one of the same takes its place."""
    for part in batched(rows):
        put = mysql.insert(u)
        connection.execute(
            put.on_duplicate_key_update(bytes=put.inserted.bytes, received_at=put.inserted.received_at), part
        )


def count_unplaced(connection: sa.Connection, key_account_id: int) -> int:
    """How many are kept of an account's keys."""
    wanted = sa.select(sa.func.count()).select_from(u).where(u.c.key_account_id == key_account_id)
    return int(connection.scalar(wanted) or 0)


def unplaced(connection: sa.Connection, inside: sa.ColumnElement[bool], limit: int) -> tuple[int, list[UnplacedSums]]:
    """How many reports of a branch's keys are unplaced, and by account and product how many, the newest of them, and
    the accounts whose keys reported them."""
    sums = sa.select(
        u.c.account,
        u.c.product_id,
        sa.func.count().label("reports"),
        sa.func.count(sa.distinct(u.c.category)).label("series"),
        sa.func.max(u.c.at).label("newest"),
        sa.func.json_arrayagg(sa.distinct(u.c.key_account_id)).label("key_account_ids"),
    )
    wanted = sums.where(inside).group_by(u.c.account, u.c.product_id).order_by(u.c.account, u.c.product_id).limit(limit)
    count = connection.scalar(sa.select(sa.func.count()).select_from(u).where(inside))
    return int(count or 0), fetch(connection, wanted, UnplacedSums)


def unplaced_of(
    connection: sa.Connection, inside: sa.ColumnElement[bool], accounts: Collection[str], limit: int
) -> list[UnplacedRecord]:
    """Some of the unplaced reports of these accounts (as reported), the earliest first."""
    wanted = sa.select(u).where(inside, u.c.account.in_(accounts)).order_by(u.c.at, u.c.id).limit(limit)
    return fetch(connection, wanted, UnplacedRecord)


def drop_unplaced(connection: sa.Connection, ids: Collection[int]) -> None:
    """Keep these no longer."""
    for part in batched(ids):
        connection.execute(sa.delete(u).where(u.c.id.in_(part)))
