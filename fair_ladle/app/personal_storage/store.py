"""Queries over personal storage limits."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import sqlalchemy as sa
from sqlalchemy.dialects.mysql import insert

from fair_ladle.app.personal_storage.rows import LimitRecord
from fair_ladle.app.personal_storage.tables import storage_limits as limits
from fair_ladle.app.plumbing.database import batched, fetch
from fair_ladle.app.plumbing.prepared import Prepared, Question


def all_but_direct(connection: sa.Connection) -> list[LimitRecord]:
    """Every limit of an account or a group."""
    return fetch(connection, sa.select(limits).where(limits.c.person_id.is_(None)), LimitRecord)


def reaching(connection: sa.Connection, person_ids: Sequence[int]) -> list[LimitRecord]:
    """Every limit of an account or a group, and those of these people themselves."""
    none = limits.c.person_id.is_(None)
    return fetch(connection, sa.select(limits).where(none | limits.c.person_id.in_(person_ids)), LimitRecord)


AT_ONCE = 16
_OF_PRODUCT = limits.c.product_id == sa.bindparam("product")
_DIRECT = Prepared(sa.select(limits).where(_OF_PRODUCT, limits.c.person_id == sa.bindparam("person")))
_OF_SOME = {
    name: Prepared(
        sa.select(limits).where(
            _OF_PRODUCT, limits.c[name].in_([sa.bindparam(f"n{place}") for place in range(AT_ONCE)])
        )
    )
    for name in ("account_id", "group_id")
}


def of_one(
    product_id: int, person_id: int, account_ids: Sequence[int], group_ids: Sequence[int]
) -> Question[list[LimitRecord]]:
    """The limits of a product that a person, these accounts and these groups have."""
    asked: list[tuple[Prepared, dict[str, Any]]] = [(_DIRECT, {"product": product_id, "person": person_id})]
    for name, ids in (("account_id", account_ids), ("group_id", group_ids)):
        for part in batched(ids, AT_ONCE):
            same = part + part[:1] * (AT_ONCE - len(part))  # one text, however many there are
            asked.append((_OF_SOME[name], {"product": product_id, **{f"n{at}": each for at, each in enumerate(same)}}))
    return Question(asked, lambda *rows: sum(rows, []))


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
