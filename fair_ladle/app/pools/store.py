"""Queries over products, pools and lots."""

from __future__ import annotations

from collections.abc import Collection
from datetime import date
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import fetch
from fair_ladle.app.pools.rows import LotRecord, PoolRecord, ProductRecord
from fair_ladle.app.pools.tables import lots, pools, product_bases, product_components, products


def all_products(connection: sa.Connection) -> list[ProductRecord]:
    """Every product, by code."""
    return fetch(connection, sa.select(products).order_by(products.c.code), ProductRecord)


def bases(connection: sa.Connection) -> dict[int, list[str]]:
    """The codes of the base products of which each product (by id) needs one."""
    b = product_bases
    statement = (
        sa.select(b.c.product_id, products.c.code)
        .join(products, products.c.id == b.c.base_id)
        .order_by(b.c.product_id, b.c.place)
    )
    found: dict[int, list[str]] = {}
    for row in connection.execute(statement):
        found.setdefault(row.product_id, []).append(row.code)
    return found


def components(connection: sa.Connection) -> dict[int, list[tuple[str, bool]]]:
    """The components of each product (by id), and whether each is mandatory."""
    c = product_components
    found: dict[int, list[tuple[str, bool]]] = {}
    for row in connection.execute(sa.select(c).order_by(c.c.product_id, c.c.place)):
        found.setdefault(row.product_id, []).append((row.component, row.mandatory))
    return found


def set_bases(connection: sa.Connection, rows: list[tuple[int, list[int]]]) -> None:
    """Other base products for products, by their ids."""
    _anew(
        connection,
        product_bases,
        [product_id for product_id, _ in rows],
        [
            {"product_id": product_id, "base_id": base_id, "place": place}
            for product_id, base_ids in rows
            for place, base_id in enumerate(base_ids)
        ],
    )


def set_components(connection: sa.Connection, rows: list[tuple[int, list[tuple[str, bool]]]]) -> None:
    """Other components for products."""
    _anew(
        connection,
        product_components,
        [product_id for product_id, _ in rows],
        [
            {"product_id": product_id, "component": code, "mandatory": mandatory, "place": place}
            for product_id, codes in rows
            for place, (code, mandatory) in enumerate(codes)
        ],
    )


def _anew(connection: sa.Connection, table: sa.Table, product_ids: list[int], rows: list[dict[str, Any]]) -> None:
    connection.execute(sa.delete(table).where(table.c.product_id.in_(product_ids)))
    if rows:
        connection.execute(sa.insert(table), rows)


def pools_of(connection: sa.Connection, product_ids: Collection[int]) -> list[PoolRecord]:
    """The pools of these products."""
    return fetch(connection, sa.select(pools).where(pools.c.product_id.in_(product_ids)), PoolRecord)


def lots_of(connection: sa.Connection, product_ids: Collection[int]) -> list[LotRecord]:
    """The lots of these products, by first day."""
    return fetch(
        connection,
        sa.select(lots).where(lots.c.product_id.in_(product_ids)).order_by(lots.c.first_day, lots.c.id),
        LotRecord,
    )


def ensure_pools(connection: sa.Connection) -> set[int]:
    """A pool for every owner and product that has a lot and no pool yet; the products of those."""
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
    return {each["product_id"] for each in new}


def mark_stale(connection: sa.Connection, product_ids: Collection[int] | None = None) -> None:
    """Let the counters of these products' pools (all, if not said) be rebuilt before their next use."""
    wanted = sa.select(pools.c.id).order_by(pools.c.id)
    if product_ids is not None:
        wanted = wanted.where(pools.c.product_id.in_(product_ids))
    ids = connection.scalars(wanted).all()
    connection.execute(sa.update(pools).where(pools.c.id.in_(ids)).values(fresh_until=None))


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


def last_day_of(
    connection: sa.Connection, owner_id: int, product_id: int, reference: str, first_day: date
) -> date | None:
    """The last day of a lot (None = open)."""
    last_day: date | None = connection.scalar(
        sa.select(lots.c.last_day).where(*_is_lot(owner_id, product_id, reference, first_day))
    )
    return last_day


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
