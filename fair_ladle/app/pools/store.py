"""Queries over products, pools and lots."""

from __future__ import annotations

from collections.abc import Collection
from datetime import date
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.pools.tables import lots, pools, products


def all_products(connection: sa.Connection) -> list[Any]:
    """Every product, by code."""
    return list(connection.execute(sa.select(products).order_by(products.c.code)))


def pools_of(connection: sa.Connection, product_ids: Collection[int]) -> list[Any]:
    """The pools of these products."""
    return list(connection.execute(sa.select(pools).where(pools.c.product_id.in_(product_ids))))


def lots_of(connection: sa.Connection, product_ids: Collection[int]) -> list[Any]:
    """The lots of these products, by first day."""
    return list(
        connection.execute(
            sa.select(lots).where(lots.c.product_id.in_(product_ids)).order_by(lots.c.first_day, lots.c.id)
        )
    )


def ensure_pools(connection: sa.Connection) -> None:
    """A pool for every owner and product that has a lot and no pool yet."""
    wanted = sa.select(lots.c.owner_id, lots.c.product_id).distinct()
    there = {
        (row.owner_id, row.product_id) for row in connection.execute(sa.select(pools.c.owner_id, pools.c.product_id))
    }
    new = [
        {"owner_id": row.owner_id, "product_id": row.product_id}
        for row in connection.execute(wanted)
        if (row.owner_id, row.product_id) not in there
    ]
    if new:
        connection.execute(sa.insert(pools), new)


def mark_stale(connection: sa.Connection, product_ids: Collection[int] | None = None) -> None:
    """Let the counters of these products' pools (all, if not said) be rebuilt before their next use."""
    statement = sa.update(pools).values(fresh_until=None)
    if product_ids is not None:
        statement = statement.where(pools.c.product_id.in_(product_ids))
    connection.execute(statement)


def add_lot(connection: sa.Connection, row: dict[str, Any]) -> None:
    """A purchase."""
    connection.execute(sa.insert(lots).values(row))


def _is_lot(owner_id: int, product_id: int, reference: str, first_day: date) -> tuple[sa.ColumnElement[bool], ...]:
    return (
        lots.c.owner_id == owner_id,
        lots.c.product_id == product_id,
        lots.c.reference == reference,
        lots.c.first_day == first_day,
    )


def end_lot(
    connection: sa.Connection, owner_id: int, product_id: int, reference: str, first_day: date, last_day: date | None
) -> None:
    """Another last day for a lot."""
    connection.execute(
        sa.update(lots).where(*_is_lot(owner_id, product_id, reference, first_day)).values(last_day=last_day)
    )


def take_out_lot(connection: sa.Connection, owner_id: int, product_id: int, reference: str, first_day: date) -> None:
    """A lot that never was."""
    connection.execute(sa.delete(lots).where(*_is_lot(owner_id, product_id, reference, first_day)))
