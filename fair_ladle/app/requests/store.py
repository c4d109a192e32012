"""Queries over requests."""

from __future__ import annotations

from collections.abc import Collection
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import insert_row
from fair_ladle.app.pools.tables import products
from fair_ladle.app.requests.tables import request_steps, requests


def _with_product() -> sa.Select[Any]:
    return sa.select(requests, products.c.code.label("product")).join(products, products.c.id == requests.c.product_id)


def one(connection: sa.Connection, request_id: int, lock: bool = False) -> Any | None:
    """A request with its product's code."""
    if lock:
        connection.execute(sa.select(requests.c.id).where(requests.c.id == request_id).with_for_update()).all()
    return connection.execute(_with_product().where(requests.c.id == request_id)).first()


def of_accounts(connection: sa.Connection, whose: sa.ColumnElement[bool], waiting_only: bool, limit: int) -> list[Any]:
    """Requests of some accounts (a condition on theirs), those that wait first, then the newest."""
    statement = _with_product().where(whose)
    if waiting_only:
        statement = statement.where(requests.c.state == "waiting")
    return list(
        connection.execute(
            statement.order_by(requests.c.state != "waiting", requests.c.asked_at.desc(), requests.c.id.desc()).limit(
                limit
            )
        )
    )


def below(connection: sa.Connection, request_id: int) -> Any | None:
    """The request because of which another one was made above."""
    return connection.execute(_with_product().where(requests.c.passed_up_id == request_id)).first()


def add(connection: sa.Connection, row: dict[str, Any]) -> int:
    """A new request's id."""
    return insert_row(connection, requests, row)


def update(connection: sa.Connection, request_id: int, values: dict[str, Any]) -> None:
    """Change a request's state."""
    connection.execute(sa.update(requests).where(requests.c.id == request_id).values(values))


def add_step(connection: sa.Connection, row: dict[str, Any]) -> None:
    """Keep a step."""
    connection.execute(sa.insert(request_steps).values(row))


def steps(connection: sa.Connection, request_ids: Collection[int]) -> list[Any]:
    """The steps of these requests, the first first."""
    if not request_ids:
        return []
    return list(
        connection.execute(
            sa.select(request_steps).where(request_steps.c.request_id.in_(request_ids)).order_by(request_steps.c.id)
        )
    )
