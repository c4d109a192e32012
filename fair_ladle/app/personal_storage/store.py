"""Queries over personal storage limits."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import sqlalchemy as sa
from sqlalchemy.dialects.mysql import insert

from fair_ladle.app.personal_storage.rows import LimitRecord
from fair_ladle.app.personal_storage.tables import storage_limits as limits
from fair_ladle.app.plumbing.database import fetch
from fair_ladle.app.plumbing.prepared import Prepared, Question


def all_but_direct(connection: sa.Connection) -> list[LimitRecord]:
    """Every limit of an account or a group."""
    return fetch(connection, sa.select(limits).where(limits.c.person_id.is_(None)), LimitRecord)


def direct(connection: sa.Connection, person_ids: Sequence[int]) -> list[LimitRecord]:
    """The limits that these people have of their own."""
    return fetch(connection, sa.select(limits).where(limits.c.person_id.in_(person_ids)), LimitRecord)


_DIRECT = Prepared(
    sa.select(limits).where(
        limits.c.product_id == sa.bindparam("product"), limits.c.person_id == sa.bindparam("person")
    )
)


def direct_of(product_id: int, person_id: int) -> Question[LimitRecord | None]:
    """The limit of a product that somebody has of their own."""
    asked = [(_DIRECT, {"product": product_id, "person": person_id})]
    return Question(asked, lambda rows: next(iter(rows), None))


def products_with_direct(connection: sa.Connection) -> set[int]:
    """The products of which somebody has a limit of their own."""
    return set(connection.scalars(sa.select(limits.c.product_id).distinct().where(limits.c.person_id.is_not(None))))


def exchange(
    connection: sa.Connection,
    product_id: int,
    of: dict[str, int],
    was: dict[str, Any] | None,
    values: dict[str, Any] | None,
) -> bool:
    """Set the limit of an account or a group (None = none), if it is what it ``was``; whether it was. The row is locked
    by being written."""
    ((name, number),) = of.items()
    mine = [limits.c.product_id == product_id, limits.c[name] == number]
    if was is None:
        if connection.execute(sa.select(limits.c.id).where(*mine)).first() is not None:
            return False
        if values is not None:
            connection.execute(sa.insert(limits).values(product_id=product_id, **values, **of))
        return True
    mine += [limits.c[each].is_not_distinct_from(value) for each, value in was.items()]
    change = sa.delete(limits) if values is None else sa.update(limits).values(values)
    return connection.execute(change.where(*mine)).rowcount == 1


def put(connection: sa.Connection, product_id: int, of: dict[str, int], values: dict[str, Any] | None) -> None:
    """Set the limit of an account, a group or a person; None takes it away."""
    if values is None:
        ((name, number),) = of.items()
        connection.execute(sa.delete(limits).where(limits.c.product_id == product_id, limits.c[name] == number))
    else:
        connection.execute(
            insert(limits).values(product_id=product_id, **values, **of).on_duplicate_key_update(**values)
        )
