"""Queries over products, pools and lots."""

from __future__ import annotations

from collections.abc import Collection
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
    there = {(row.owner_id, row.product_id) for row in connection.execute(sa.select(pools.c.owner_id, pools.c.product_id))}
    new = [
        {"owner_id": row.owner_id, "product_id": row.product_id}
        for row in connection.execute(wanted) if (row.owner_id, row.product_id) not in there
    ]
    if new:
        connection.execute(sa.insert(pools), new)


def mark_stale(connection: sa.Connection, product_ids: Collection[int] | None = None) -> None:
    """Let the counters of these products' pools (all, if not said) be rebuilt before their next use."""
    statement = sa.update(pools).values(fresh_until=None)
    if product_ids is not None:
        statement = statement.where(pools.c.product_id.in_(product_ids))
    connection.execute(statement)
