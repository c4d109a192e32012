"""Queries over requests."""

from __future__ import annotations

from collections.abc import Collection
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import fetch, fetch_first, insert_row
from fair_ladle.app.pools.tables import products
from fair_ladle.app.requests.rows import RequestRecord, StepRecord
from fair_ladle.app.requests.tables import request_steps, requests


def _with_product() -> sa.Select[Any]:
    return sa.select(requests, products.c.code.label("product")).join(products, products.c.id == requests.c.product_id)


def one(connection: sa.Connection, request_id: int, lock: bool = False) -> RequestRecord | None:
    """A request with its product's code."""
    if lock:
        connection.execute(sa.select(requests.c.id).where(requests.c.id == request_id).with_for_update()).all()
    return fetch_first(connection, _with_product().where(requests.c.id == request_id), RequestRecord)


def of_accounts(
    connection: sa.Connection, whose: sa.ColumnElement[bool], waiting_only: bool, limit: int
) -> list[RequestRecord]:
    """Requests of some accounts (a condition on theirs), those that wait first, then the newest."""
    statement = _with_product().where(whose)
    if waiting_only:
        statement = statement.where(requests.c.state == "waiting")
    return fetch(
        connection,
        statement.order_by(requests.c.state != "waiting", requests.c.asked_at.desc(), requests.c.id.desc()).limit(
            limit
        ),
        RequestRecord,
    )


def below(connection: sa.Connection, request_id: int) -> RequestRecord | None:
    """The request because of which another one was made above."""
    return fetch_first(connection, _with_product().where(requests.c.passed_up_id == request_id), RequestRecord)


def add(connection: sa.Connection, row: dict[str, Any]) -> int:
    """A new request's id."""
    return insert_row(connection, requests, row)


def update(connection: sa.Connection, request_id: int, values: dict[str, Any]) -> None:
    """Change a request's state."""
    connection.execute(sa.update(requests).where(requests.c.id == request_id).values(values))


def add_step(connection: sa.Connection, row: dict[str, Any]) -> None:
    """Keep a step."""
    connection.execute(sa.insert(request_steps).values(row))


def steps(connection: sa.Connection, request_ids: Collection[int]) -> list[StepRecord]:
    """The steps of these requests, the first first."""
    if not request_ids:
        return []
    return fetch(
        connection,
        sa.select(request_steps).where(request_steps.c.request_id.in_(request_ids)).order_by(request_steps.c.id),
        StepRecord,
    )
