"""Queries over holds and thresholds."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from datetime import datetime
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.enforcement.rows import EnforcedRecord, HoldRecord, ShownHold
from fair_ladle.app.enforcement.tables import crossings, enforced, holds, threshold_levels, thresholds
from fair_ladle.app.people.tables import people
from fair_ladle.app.plumbing.database import fetch, fetch_first
from fair_ladle.app.pools.tables import products
from fair_ladle.app.usage.tables import assignments


def lock_product(connection: sa.Connection, product_id: int) -> EnforcedRecord | None:
    """Up to when, and from what, a product's holds are replayed; its row is locked, so that one at a time replays
    them."""
    return fetch_first(
        connection, sa.select(enforced).where(enforced.c.product_id == product_id).with_for_update(), EnforcedRecord
    )


def begin_enforced(connection: sa.Connection, product_id: int, since: datetime) -> None:
    """A row to lock, unless somebody made it meanwhile."""
    connection.execute(sa.insert(enforced).prefix_with("IGNORE").values(product_id=product_id, until=since))


def set_enforced(connection: sa.Connection, product_id: int, until: datetime, made_of: str) -> None:
    """Note how far holds are replayed, and from what."""
    done = sa.update(enforced).where(enforced.c.product_id == product_id)
    connection.execute(done.values(until=until, made_of=made_of))


def open_holds(connection: sa.Connection, product_id: int) -> list[HoldRecord]:
    """Holds that have not ended, by account and place."""
    h = holds
    return fetch(
        connection,
        sa.select(h)
        .where(h.c.product_id == product_id, h.c.ends.is_(None))
        .order_by(h.c.account_id, h.c.begins, h.c.place),
        HoldRecord,
    )


def on_hold_for(
    connection: sa.Connection, account_ids: Collection[int] | None, most: int
) -> dict[tuple[int, int], int]:
    """How many units are on hold for whose excess, by account's and product's id: of these accounts, or the first so
    many of all."""
    whose = (holds.c.account_id, holds.c.product_id)
    wanted = sa.select(*whose, sa.func.count().label("count")).where(holds.c.ends.is_(None)).group_by(*whose)
    if account_ids is not None:
        wanted = wanted.where(holds.c.account_id.in_(account_ids))
    return {(row[0], row[1]): row[2] for row in connection.execute(wanted.order_by(*whose).limit(most))}


def add_holds(connection: sa.Connection, rows: Sequence[dict[str, Any]]) -> None:
    """Keep holds."""
    if rows:
        connection.execute(sa.insert(holds), list(rows))


def end_hold(connection: sa.Connection, hold_id: int, at: datetime) -> None:
    """A hold has ended."""
    connection.execute(sa.update(holds).where(holds.c.id == hold_id).values(ends=at))


def shown_holds(
    connection: sa.Connection, whose: sa.ColumnElement[bool], product_id: int | None, most: int | None
) -> list[ShownHold]:
    """So many holds (None = all) that have not ended of units of some accounts (a condition on the assignments'), with
    whom they are of, and the name of whoever has a seat and is of that account."""
    a, p = assignments, products
    statement = (
        sa.select(
            holds, a.c.subject, a.c.account_id.label("of_account_id"), p.c.code.label("product"), people.c.display_name
        )
        .join(a, a.c.id == holds.c.assignment_id)
        .join(p, p.c.id == holds.c.product_id)
        .outerjoin(
            people,
            sa.and_(people.c.username == a.c.subject, people.c.account_id == a.c.account_id, p.c.measure == "seat"),
        )
        .where(holds.c.ends.is_(None), whose)
        .order_by(p.c.code, holds.c.account_id, holds.c.begins, holds.c.place)
        .limit(most)
    )
    if product_id is not None:
        statement = statement.where(holds.c.product_id == product_id)
    return fetch(connection, statement, ShownHold)


def levels(connection: sa.Connection) -> dict[tuple[int, int], tuple[int, ...]]:
    """Thresholds that are not the usual ones, by account's and product's id."""
    found: dict[tuple[int, int], tuple[int, ...]] = {
        (row.account_id, row.product_id): () for row in connection.execute(sa.select(thresholds))
    }
    for row in connection.execute(sa.select(threshold_levels).order_by(threshold_levels.c.level)):
        found[row.account_id, row.product_id] += (row.level,)
    return found


def set_levels(connection: sa.Connection, account_id: int, product_id: int, wanted: Sequence[int] | None) -> None:
    """Other thresholds for an account in a pool; None = the usual ones again."""
    here = sa.and_(thresholds.c.account_id == account_id, thresholds.c.product_id == product_id)
    connection.execute(sa.delete(thresholds).where(here))
    if wanted is not None:
        key = {"account_id": account_id, "product_id": product_id}
        connection.execute(sa.insert(thresholds).values(key))
        if wanted:
            connection.execute(sa.insert(threshold_levels), [{**key, "level": each} for each in wanted])


def crossed(connection: sa.Connection, product_id: int) -> set[tuple[int, int]]:
    """(account, level) that are crossed now, as far as is known."""
    found = connection.execute(
        sa.select(crossings.c.account_id, crossings.c.level).where(crossings.c.product_id == product_id)
    )
    return {(row.account_id, row.level) for row in found}


def cross(connection: sa.Connection, product_id: int, pairs: Collection[tuple[int, int]], at: datetime) -> None:
    """Thresholds that are crossed from now on."""
    if pairs:
        connection.execute(
            sa.insert(crossings),
            [{"account_id": a, "product_id": product_id, "level": level, "since": at} for a, level in pairs],
        )


def uncross(connection: sa.Connection, product_id: int, pairs: Collection[tuple[int, int]]) -> None:
    """Thresholds that are not crossed any more."""
    for account_id, level in pairs:
        connection.execute(
            sa.delete(crossings).where(
                crossings.c.product_id == product_id, crossings.c.account_id == account_id, crossings.c.level == level
            )
        )
