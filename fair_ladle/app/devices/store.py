"""Queries over activation keys and devices."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from datetime import datetime
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.accounts.tables import accounts
from fair_ladle.app.devices.rows import ActivationKeyRecord, CountedKey, DeviceRecord, ShownDevice
from fair_ladle.app.devices.tables import activation_keys as keys
from fair_ladle.app.devices.tables import devices, signing_keys
from fair_ladle.app.people.tables import people
from fair_ladle.app.plumbing import generations
from fair_ladle.app.plumbing.database import fetch, fetch_first, insert_row, lock_rows, name_of
from fair_ladle.app.plumbing.prepared import Prepared, Question
from fair_ladle.app.pools.tables import products
from fair_ladle.app.usage.tables import assignments


def add_key(connection: sa.Connection, row: dict[str, Any]) -> int:
    """A new key's id."""
    return insert_row(connection, keys, row)


_KEY_AND_GENERATIONS = Prepared(sa.select(keys, generations.ALL).where(keys.c.key_hash == sa.bindparam("key_hash")))


def key_and_generations(key_hash: str) -> Question[tuple[ActivationKeyRecord, str | None] | None]:
    """A key by its hash, and all generations, for ``generations.note``."""
    asked = [(_KEY_AND_GENERATIONS, {"key_hash": key_hash})]
    return Question(asked, lambda rows: (rows[0], rows[0].generations) if rows else None)


def key(
    connection: sa.Connection, key_hash: str | None = None, key_id: int | None = None, locks: bool = True
) -> ActivationKeyRecord | None:
    """A key by its hash or its number, locked by a write: whoever activates by it does so one after the other."""
    mine = keys.c.key_hash == key_hash if key_hash else keys.c.id == key_id
    if not locks:
        return fetch_first(connection, sa.select(keys).where(mine), ActivationKeyRecord)
    found = connection.scalar(sa.select(keys.c.id).where(mine))
    return None if found is None else next(iter(lock_rows(connection, keys, [found])), None)


def every_key(connection: sa.Connection, account_ids: Collection[int]) -> list[CountedKey]:
    """Keys of these accounts with how many devices came by each, the newest first."""
    counted = (
        sa.select(sa.func.count()).where(devices.c.key_id == keys.c.id, devices.c.state == "active").scalar_subquery()
    )
    return fetch(
        connection,
        sa.select(keys, counted.label("devices")).where(keys.c.account_id.in_(account_ids)).order_by(keys.c.id.desc()),
        CountedKey,
    )


def withdraw_key(connection: sa.Connection, key_id: int, at: datetime) -> None:
    """Nothing new begins with it."""
    connection.execute(sa.update(keys).where(keys.c.id == key_id).values(withdrawn_at=at))


def active_by_key(connection: sa.Connection, key_id: int) -> int:
    """How many devices are active by a key."""
    return int(
        connection.scalar(sa.select(sa.func.count()).where(devices.c.key_id == key_id, devices.c.state == "active"))
        or 0
    )


def device(connection: sa.Connection, product_id: int, machine: str) -> DeviceRecord | None:
    """A device of a product, locked."""
    return fetch_first(
        connection,
        sa.select(devices).where(devices.c.product_id == product_id, devices.c.machine == machine).with_for_update(),
        DeviceRecord,
    )


def by_token(connection: sa.Connection, token_hash: str) -> DeviceRecord | None:
    """A device by its token's hash, locked."""
    return fetch_first(
        connection, sa.select(devices).where(devices.c.token_hash == token_hash).with_for_update(), DeviceRecord
    )


def put(connection: sa.Connection, device_id: int | None, values: dict[str, Any]) -> None:
    """A new device (id None), or other values for one."""
    connection.execute(
        sa.insert(devices).values(values)
        if device_id is None
        else sa.update(devices).where(devices.c.id == device_id).values(values)
    )


def some(connection: sa.Connection, wanted: Collection[tuple[int, str]]) -> list[DeviceRecord]:
    """Devices by product and machine, locked."""
    return (
        fetch(
            connection,
            sa.select(devices)
            .where(sa.tuple_(devices.c.product_id, devices.c.machine).in_(wanted))
            .order_by(devices.c.id)
            .with_for_update(),
            DeviceRecord,
        )
        if wanted
        else []
    )


def change(connection: sa.Connection, device_ids: Collection[int], values: dict[str, Any]) -> None:
    """The same other values for these devices."""
    if device_ids:
        connection.execute(sa.update(devices).where(devices.c.id.in_(device_ids)).values(values))


def record(connection: sa.Connection, rows: Sequence[dict[str, Any]]) -> None:
    """New devices."""
    if rows:
        connection.execute(sa.insert(devices), rows)


def forget(connection: sa.Connection, device_ids: Collection[int]) -> None:
    """Devices are as if they had never been."""
    connection.execute(sa.delete(devices).where(devices.c.id.in_(device_ids)))


def page(
    connection: sa.Connection,
    account_ids: Collection[int] | None,
    product_ids: Collection[int],
    revoked: bool,
    find: str,
    username: str | None,
    at: datetime,
    sort: str,
    down: bool,
    offset: int,
    limit: int,
) -> tuple[int, list[ShownDevice]]:
    """How many devices, and some of them in an order: those with a unit in use, or those that were revoked."""
    a, d = assignments, devices
    whose = sa.and_(people.c.id == d.c.person_id, people.c.status != "removed")
    columns = [
        d.c.id,
        d.c.name,
        d.c.key_id,
        d.c.state,
        d.c.reported_at,
        d.c.offline_until,
        d.c.revoked_at,
        people.c.username,
        people.c.display_name,
    ]
    if revoked:
        wanted = sa.select(
            d.c.product_id, d.c.account_id, d.c.machine.label("subject"), d.c.activated_at.label("begins"), *columns
        )
        wanted = wanted.select_from(d.outerjoin(people, whose)).where(
            d.c.state != "active", d.c.product_id.in_(product_ids)
        )
        account, subject, product, since = d.c.account_id, d.c.machine, d.c.product_id, d.c.activated_at
    else:
        wanted = (
            sa.select(a.c.product_id, a.c.account_id, a.c.subject, a.c.begins, *columns)
            .select_from(
                a.outerjoin(d, sa.and_(d.c.product_id == a.c.product_id, d.c.machine == a.c.subject)).outerjoin(
                    people, whose
                )
            )
            .where(a.c.product_id.in_(product_ids), a.c.begins <= at, sa.or_(a.c.ends.is_(None), a.c.ends > at))
        )
        account, subject, product, since = a.c.account_id, a.c.subject, a.c.product_id, a.c.begins
    if account_ids is not None:
        wanted = wanted.where(account.in_(account_ids))
    if username is not None:
        wanted = wanted.where(people.c.username == username)
    for word in find.split()[:8]:
        wanted = wanted.where(
            sa.or_(*(each.contains(word, autoescape=True) for each in (subject, d.c.name, people.c.display_name)))
        )
    total = int(connection.scalar(sa.select(sa.func.count()).select_from(wanted.subquery())) or 0)
    by: Any = {
        "machine": subject,
        "product": name_of(products, product),
        "account": name_of(accounts, account),
        "person": people.c.display_name,
        "since": since,
        "reported": d.c.reported_at,
    }[sort]
    return total, fetch(
        connection,
        wanted.order_by(by.desc() if down else by.asc(), subject, product).offset(offset).limit(limit),
        ShownDevice,
    )


def signing_key(connection: sa.Connection) -> bytes | None:
    """The newest key to sign with; None where there is none yet."""
    return connection.scalar(sa.select(signing_keys.c.private).order_by(signing_keys.c.id.desc()).limit(1))


def keep_signing_key(connection: sa.Connection, private: bytes, at: datetime) -> None:
    """The first key to sign with; an integrity error where there is one by now."""
    connection.execute(sa.insert(signing_keys).values(id=1, private=private, made_at=at))
