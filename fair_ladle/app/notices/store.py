"""Queries over notices."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from typing import Any

import sqlalchemy as sa
from sqlalchemy.dialects import mysql

from fair_ladle.app.notices.rows import NoticeRecord
from fair_ladle.app.notices.tables import notices, notices_seen
from fair_ladle.app.plumbing.database import batched, fetch
from fair_ladle.app.pools.tables import products


def known(connection: sa.Connection, keys: Collection[str]) -> set[str]:
    """Which of these were told before."""
    return set(connection.scalars(sa.select(notices.c.key).where(notices.c.key.in_(keys)))) if keys else set()


def add(connection: sa.Connection, rows: Sequence[dict[str, Any]]) -> None:
    """Keep notices."""
    if rows:
        connection.execute(sa.insert(notices), list(rows))


def is_unseen(sign_in_id: int) -> sa.ColumnElement[bool]:
    """That somebody has not put a notice away."""
    seen = sa.select(notices_seen.c.notice_id).where(notices_seen.c.sign_in_id == sign_in_id)
    return notices.c.id.not_in(seen)


def up_to(notice_id: int, itself: bool) -> sa.ColumnElement[bool]:
    """That a notice is older than another, or it ``itself``."""
    n, other = notices.c, notices.alias()
    at = sa.select(other.c.at).where(other.c.id == notice_id).scalar_subquery()
    return sa.and_(n.at <= at, sa.or_(n.at < at, n.id <= notice_id if itself else n.id < notice_id))


def newest(connection: sa.Connection, conditions: Sequence[sa.ColumnElement[bool]], limit: int) -> list[NoticeRecord]:
    """The newest notices of which some conditions hold."""
    wanted = sa.select(notices, products.c.code.label("product")).where(*conditions)
    joined = wanted.outerjoin(products, products.c.id == notices.c.product_id)
    return fetch(connection, joined.order_by(notices.c.at.desc(), notices.c.id.desc()).limit(limit), NoticeRecord)


def count(connection: sa.Connection, conditions: Sequence[sa.ColumnElement[bool]], most: int) -> int:
    """Of how many notices they hold, counted no further than to so many."""
    some = sa.select(notices.c.id).where(*conditions).limit(most).subquery()
    return connection.scalar(sa.select(sa.func.count()).select_from(some)) or 0


def ids_of(connection: sa.Connection, conditions: Sequence[sa.ColumnElement[bool]], most: int) -> list[int]:
    """Notices (numbers) of which some conditions hold, so many at most."""
    return list(connection.scalars(sa.select(notices.c.id).where(*conditions).limit(most)))


def put_away(connection: sa.Connection, ids: Collection[int], sign_in_id: int) -> None:
    """Note that somebody has seen notices, whether noted before or not."""
    put = mysql.insert(notices_seen)
    again = put.on_duplicate_key_update(sign_in_id=put.inserted.sign_in_id)
    for part in batched(sorted(set(ids))):
        connection.execute(again, [{"notice_id": each, "sign_in_id": sign_in_id} for each in part])
