"""Queries over API keys."""

from __future__ import annotations

from collections.abc import Collection
from datetime import datetime
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.accounts.tables import accounts
from fair_ladle.app.plumbing.database import fetch, fetch_first
from fair_ladle.app.sign_in.delegation_store import ACCOUNT, CALLED, LACKS_SECOND_FACTOR, RUN
from fair_ladle.app.sign_in.rows import KeyDelegation, KeyRecord
from fair_ladle.app.sign_in.tables import (
    api_keys,
    delegations,
    sign_ins,
)


def keys_of(connection: sa.Connection, delegation_id: int, now: datetime) -> list[KeyRecord]:
    """The keys of a delegation that work, the newest first."""
    k = api_keys
    working = (k.c.delegation_id == delegation_id, k.c.ended_at.is_(None), k.c.expires_at > now)
    return fetch(connection, sa.select(k).where(*working).order_by(k.c.id.desc()), KeyRecord)


def keys_working(connection: sa.Connection, delegation_ids: Collection[int], now: datetime) -> dict[int, int]:
    """How many keys that work these delegations have, by their numbers."""
    k = api_keys
    wanted = sa.select(k.c.delegation_id, sa.func.count()).where(k.c.delegation_id.in_(delegation_ids))
    working = wanted.where(k.c.ended_at.is_(None), k.c.expires_at > now)
    return {each[0]: each[1] for each in connection.execute(working.group_by(k.c.delegation_id))}


def add_key(connection: sa.Connection, row: dict[str, Any]) -> None:
    """Keep a key."""
    connection.execute(sa.insert(api_keys).values(row))


def change_key(connection: sa.Connection, key_id: int, values: dict[str, Any]) -> None:
    """Another end for a key."""
    connection.execute(sa.update(api_keys).where(api_keys.c.id == key_id).values(values))


def end_keys(connection: sa.Connection, delegation_id: int, at: datetime) -> int:
    """Every key of a delegation works no more; how many those were."""
    k = api_keys
    ids = list(connection.scalars(sa.select(k.c.id).where(k.c.delegation_id == delegation_id, k.c.ended_at.is_(None))))
    for each in ids:
        connection.execute(sa.update(k).where(k.c.id == each).values(ended_at=at))
    return len(ids)


def key(connection: sa.Connection, key_hash: str) -> KeyDelegation | None:
    """A key with its delegation, whose it is and over which account."""
    d, k = delegations, api_keys
    mine = [
        k.c.id.label("key_id"),
        k.c.name.label("key_name"),
        k.c.ending,
        k.c.permissions,
        k.c.limits.label("key_limits"),
        k.c.expires_at,
        k.c.ended_at,
        d.c.ended_at.is_not(None).label("is_ended"),
        d.c.sign_in_id,
    ]
    wanted = sa.select(*mine, sign_ins.c.email, CALLED.label("person"), *RUN, *ACCOUNT, LACKS_SECOND_FACTOR)
    joined = wanted.join(d, d.c.id == k.c.delegation_id).join(sign_ins, sign_ins.c.id == d.c.sign_in_id)
    found = joined.join(accounts, accounts.c.id == d.c.account_id)
    return fetch_first(connection, found.where(k.c.key_hash == key_hash), KeyDelegation)


def count_key(connection: sa.Connection, key_id: int, minute: int, at: datetime, origin: str) -> int:
    """Count a request that a key makes; how many there were in this minute, with it."""
    k = api_keys
    counted = sa.case((k.c.minute == minute, k.c.asked + 1), else_=1)
    values = [(k.c.asked, counted), (k.c.minute, minute), (k.c.last_used, at), (k.c.last_origin, origin)]
    connection.execute(sa.update(k).where(k.c.id == key_id).ordered_values(*values))
    return int(connection.scalar(sa.select(k.c.asked).where(k.c.id == key_id)) or 0)
