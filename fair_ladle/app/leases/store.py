"""Queries over leases."""

from __future__ import annotations

from collections.abc import Collection
from datetime import datetime
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.accounts.tables import accounts
from fair_ladle.app.leases.rows import LeaseRecord, OverLease, ShownLease
from fair_ladle.app.leases.tables import leases
from fair_ladle.app.people.tables import people
from fair_ladle.app.plumbing.database import fetch, fetch_first, name_of
from fair_ladle.app.pools.tables import products
from fair_ladle.app.usage.tables import assignments

LIVE = leases.c.ended_at.is_(None)


def add(connection: sa.Connection, row: dict[str, Any]) -> None:
    """A new lease."""
    connection.execute(sa.insert(leases).values(row))


def live_of(connection: sa.Connection, product_id: int, person_id: int) -> list[LeaseRecord]:
    """Somebody's live sessions of a product, locked, the oldest first."""
    wanted = sa.select(leases).where(leases.c.product_id == product_id, leases.c.person_id == person_id, LIVE)
    return fetch(connection, wanted.order_by(leases.c.id).with_for_update(), LeaseRecord)


def beat(connection: sa.Connection, token_hash: str, until: datetime) -> bool:
    """A heartbeat keeps a lease; False where it is over, or there is more to say than that."""
    kept = (
        sa.update(leases)
        .where(leases.c.token_hash == token_hash, LIVE, leases.c.ends_at.is_(None))
        .values(until=until, offline_until=None)
    )
    return connection.execute(kept).rowcount == 1


def by_token(connection: sa.Connection, token_hash: str, lock: bool = False) -> LeaseRecord | None:
    """A lease by its token's hash."""
    wanted = sa.select(leases).where(leases.c.token_hash == token_hash)
    return fetch_first(connection, wanted.with_for_update() if lock else wanted, LeaseRecord)


def by_ids(connection: sa.Connection, ids: Collection[int]) -> list[LeaseRecord]:
    """Leases, locked."""
    return fetch(
        connection, sa.select(leases).where(leases.c.id.in_(ids)).order_by(leases.c.id).with_for_update(), LeaseRecord
    )


def change(connection: sa.Connection, ids: Collection[int], values: dict[str, Any]) -> None:
    """Other values for some leases."""
    if ids:
        connection.execute(sa.update(leases).where(leases.c.id.in_(ids)).values(values))


def over(connection: sa.Connection, at: datetime, limit: int) -> list[OverLease]:
    """Live leases that are lost, whose time to save is over, or whose unit was released, locked, in the order of their
    ids; ``held`` says whether there is still a unit. Those that somebody else has locked are left to them."""
    a = assignments
    held = sa.exists().where(
        a.c.product_id == leases.c.product_id,
        a.c.subject == leases.c.username,
        a.c.begins <= at,
        sa.or_(a.c.ends.is_(None), a.c.ends > at),
    )
    gone = sa.select(leases.c.id).where(LIVE, sa.or_(leases.c.until < at, leases.c.ends_at <= at, ~held))
    ids = list(connection.scalars(gone.order_by(leases.c.id).limit(limit)))
    if not ids:
        return []
    mine = sa.select(leases.c.id).where(leases.c.id.in_(ids)).order_by(leases.c.id)
    locked = list(connection.scalars(mine.with_for_update(skip_locked=True)))
    again = sa.select(leases, held.label("held")).where(
        leases.c.id.in_(locked), LIVE, sa.or_(leases.c.until < at, leases.c.ends_at <= at, ~held)
    )
    return fetch(connection, again.order_by(leases.c.id), OverLease) if locked else []


def still_live(connection: sa.Connection, product_id: int, person_ids: Collection[int]) -> set[int]:
    """Which of these people still have a live session of a product."""
    return set(
        connection.scalars(
            sa.select(leases.c.person_id).where(
                leases.c.product_id == product_id, leases.c.person_id.in_(person_ids), LIVE
            )
        )
    )


def live(
    connection: sa.Connection,
    account_ids: Collection[int] | None,
    product_ids: Collection[int],
    find: str,
    username: str | None,
    sort: str,
    down: bool,
    offset: int,
    limit: int,
) -> tuple[int, list[ShownLease]]:
    """How many live sessions of these products these accounts (None = all) have, and some of them with their people,
    in an order."""
    wanted = (
        sa.select(leases, people.c.display_name)
        .join(people, people.c.id == leases.c.person_id)
        .where(LIVE, leases.c.product_id.in_(product_ids))
    )
    if account_ids is not None:
        wanted = wanted.where(leases.c.account_id.in_(account_ids))
    if username is not None:
        wanted = wanted.where(leases.c.username == username)
    for word in find.split()[:8]:
        wanted = wanted.where(
            sa.or_(
                *(
                    each.contains(word, autoescape=True)
                    for each in (people.c.display_name, leases.c.username, leases.c.machine)
                )
            )
        )
    total = int(connection.scalar(sa.select(sa.func.count()).select_from(wanted.subquery())) or 0)
    by: Any = {
        "person": people.c.display_name,
        "product": name_of(products, leases.c.product_id),
        "account": name_of(accounts, leases.c.account_id),
        "machine": leases.c.machine,
        "began": leases.c.began_at,
    }[sort]
    return total, fetch(
        connection,
        wanted.order_by(by.desc() if down else by.asc(), leases.c.id).offset(offset).limit(limit),
        ShownLease,
    )
