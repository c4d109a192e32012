"""Queries over allocation versions."""

from __future__ import annotations

from collections.abc import Collection
from datetime import date
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.allocations.tables import allocations


def versions(
    connection: sa.Connection,
    product_ids: Collection[int],
    first: date | None = None,
    last: date | None = None,
    account_ids: Collection[int] | None = None,
) -> list[Any]:
    """Versions in force at some time from first to last (None = unlimited), by first day."""
    a = allocations
    wanted: list[sa.ColumnElement[bool]] = [a.c.product_id.in_(product_ids)]
    if last is not None:
        wanted.append(a.c.first_day <= last)
    if first is not None:
        wanted.append(sa.or_(a.c.last_day.is_(None), a.c.last_day >= first))
    if account_ids is not None:
        wanted.append(a.c.account_id.in_(account_ids))
    return list(connection.execute(sa.select(a).where(*wanted).order_by(a.c.first_day)))


def next_boundary(connection: sa.Connection, product_ids: Collection[int], after: date) -> date | None:
    """The next day on which a version begins, or the day after one ends."""
    a = allocations
    of = a.c.product_id.in_(product_ids)
    begins = connection.scalar(sa.select(sa.func.min(a.c.first_day)).where(of, a.c.first_day > after))
    ends = connection.scalar(sa.select(sa.func.min(a.c.last_day)).where(of, a.c.last_day >= after))
    day_after = None if ends is None else date.fromordinal(ends.toordinal() + 1)
    return min((day for day in (begins, day_after) if day is not None), default=None)


def insert(connection: sa.Connection, row: dict[str, Any]) -> None:
    """Add a version."""
    connection.execute(sa.insert(allocations).values(row))


def update(connection: sa.Connection, version_id: int, values: dict[str, Any]) -> None:
    """Change a version in place: only ever its end, or one that has not outlived its first day."""
    connection.execute(sa.update(allocations).where(allocations.c.id == version_id).values(values))


def delete(connection: sa.Connection, version_id: int) -> None:
    """Take a version out that has not outlived its first day."""
    connection.execute(sa.delete(allocations).where(allocations.c.id == version_id))


def end_all(connection: sa.Connection, account_ids: Collection[int], day: date) -> None:
    """Let these accounts have no allocation from a day on, those ahead included."""
    a = allocations
    mine = a.c.account_id.in_(account_ids)
    connection.execute(sa.delete(a).where(mine, a.c.first_day >= day))
    connection.execute(
        sa.update(a)
        .where(mine, sa.or_(a.c.last_day.is_(None), a.c.last_day >= day))
        .values(last_day=date.fromordinal(day.toordinal() - 1))
    )


def lock_version(connection: sa.Connection, account_id: int, product_id: int, day: date) -> list[Any]:
    """The versions of one allocation in force on a day or later, locked."""
    a = allocations
    return list(
        connection.execute(
            sa.select(a)
            .where(
                a.c.account_id == account_id,
                a.c.product_id == product_id,
                sa.or_(a.c.last_day.is_(None), a.c.last_day >= day),
            )
            .order_by(a.c.first_day)
            .with_for_update()
        )
    )
