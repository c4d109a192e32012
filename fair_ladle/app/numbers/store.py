"""Queries over numbered things."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from datetime import datetime
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.accounts.tables import accounts
from fair_ladle.app.numbers.rows import NumberRecord, ShownNumber
from fair_ladle.app.numbers.tables import items
from fair_ladle.app.people.tables import people
from fair_ladle.app.plumbing.database import fetch, name_of
from fair_ladle.app.usage.tables import assignments

Clause = sa.ColumnElement[bool]


def _open(at: datetime) -> Clause:
    a = assignments
    return sa.and_(a.c.begins <= at, sa.or_(a.c.ends.is_(None), a.c.ends > at))


def add(connection: sa.Connection, rows: Sequence[dict[str, Any]]) -> None:
    """New items."""
    connection.execute(sa.insert(items), list(rows))


def known(
    connection: sa.Connection, product_id: int, numbers: Collection[str], lock: bool = False
) -> dict[str, NumberRecord]:
    """Items by number, by choice locked in the order of their numbers."""
    wanted = (
        sa.select(items).where(items.c.product_id == product_id, items.c.number.in_(numbers)).order_by(items.c.number)
    )
    return {row.number: row for row in fetch(connection, wanted.with_for_update() if lock else wanted, NumberRecord)}


def change(connection: sa.Connection, product_id: int, numbers: Collection[str], values: dict[str, Any]) -> None:
    """The same other values for several items."""
    if numbers:
        connection.execute(
            sa.update(items).where(items.c.product_id == product_id, items.c.number.in_(numbers)).values(values)
        )


def pick(connection: sa.Connection, pool_id: int, product_id: int, count: int, at: datetime) -> list[str]:
    """The first free numbers of a pool, locked; those that somebody else is picking are left to them."""
    a, i = assignments, items
    taken = sa.exists().where(a.c.product_id == product_id, a.c.subject == i.c.number, _open(at))
    free = sa.and_(
        i.c.pool_id == pool_id,
        i.c.withdrawn_at.is_(None),
        sa.or_(i.c.reserved_until.is_(None), i.c.reserved_until <= at),
        ~taken,
    )
    found: list[str] = []
    after = ""
    while len(found) < count:
        part = sa.select(i.c.number).where(free, i.c.number > after).order_by(i.c.number).limit(count - len(found))
        numbers = list(connection.scalars(part))
        if not numbers:
            break
        after = numbers[-1]
        mine = sa.select(i.c.number).where(i.c.product_id == product_id, i.c.number.in_(numbers)).order_by(i.c.number)
        locked = list(connection.scalars(mine.with_for_update(skip_locked=True)))
        still = sa.select(i.c.number).where(free, i.c.number.in_(locked)).order_by(i.c.number)
        found += list(connection.scalars(still)) if locked else []
    return found


def page(
    connection: sa.Connection,
    product_id: int,
    pool_ids: Collection[int],
    account_ids: Collection[int] | None,
    state: str,
    find: str,
    username: str | None,
    at: datetime,
    sort: str,
    down: bool,
    offset: int,
    limit: int,
) -> tuple[int, list[ShownNumber]]:
    """How many items, and some of them in an order: in use by these accounts (None = all), or in these pools and
    not."""
    a, i = assignments, items
    columns = [
        i.c.id,
        i.c.address,
        i.c.reserved_by,
        i.c.reserved_until,
        i.c.withdrawn_at,
        people.c.username,
        people.c.display_name,
    ]
    if state == "assigned":
        wanted = (
            sa.select(a.c.subject.label("number"), a.c.account_id, a.c.begins, *columns)
            .select_from(
                a.outerjoin(i, sa.and_(i.c.product_id == a.c.product_id, i.c.number == a.c.subject)).outerjoin(
                    people, sa.and_(people.c.id == i.c.person_id, people.c.status != "removed")
                )
            )
            .where(a.c.product_id == product_id, _open(at))
        )
        if account_ids is not None:
            wanted = wanted.where(a.c.account_id.in_(account_ids))
        if username is not None:
            wanted = wanted.where(people.c.username == username)
        number, since = a.c.subject, a.c.begins
    else:
        taken = sa.exists().where(a.c.product_id == product_id, a.c.subject == i.c.number, _open(at))
        reserved = i.c.reserved_until > at
        wanted = sa.select(
            i.c.number, sa.null().label("account_id"), i.c.brought_in_at.label("begins"), *columns
        ).select_from(i.outerjoin(people, sa.false()))
        wanted = wanted.where(
            i.c.product_id == product_id,
            i.c.pool_id.in_(pool_ids),
            ~taken,
            i.c.withdrawn_at.is_not(None) if state == "withdrawn" else i.c.withdrawn_at.is_(None),
        )
        if state in ("free", "reserved"):
            wanted = wanted.where(
                reserved if state == "reserved" else sa.func.coalesce(reserved, sa.false()).is_(sa.false())
            )
        number, since = i.c.number, i.c.brought_in_at
    for word in find.split()[:8]:
        wanted = wanted.where(
            sa.or_(
                number.contains(word, autoescape=True),
                i.c.address.contains(word, autoescape=True),
                people.c.display_name.contains(word, autoescape=True),
            )
        )
    total = int(connection.scalar(sa.select(sa.func.count()).select_from(wanted.subquery())) or 0)
    by: Any = {
        "number": number,
        "account": name_of(accounts, a.c.account_id) if state == "assigned" else number,
        "person": people.c.display_name,
        "address": i.c.address,
        "since": since,
    }[sort]
    return total, fetch(
        connection, wanted.order_by(by.desc() if down else by.asc(), number).offset(offset).limit(limit), ShownNumber
    )
