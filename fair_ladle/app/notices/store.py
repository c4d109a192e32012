"""Queries over notices."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from datetime import datetime
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.notices.rows import NoticeRecord
from fair_ladle.app.notices.tables import notices, notices_seen
from fair_ladle.app.plumbing.database import fetch
from fair_ladle.app.pools.tables import products


def known(connection: sa.Connection, keys: Collection[str]) -> set[str]:
    """Which of these were told before."""
    return set(connection.scalars(sa.select(notices.c.key).where(notices.c.key.in_(keys)))) if keys else set()


def add(connection: sa.Connection, rows: Sequence[dict[str, Any]]) -> None:
    """Keep notices."""
    if rows:
        connection.execute(sa.insert(notices), list(rows))


def of_accounts(
    connection: sa.Connection, about: sa.ColumnElement[bool], sign_in_id: int, since: datetime, limit: int
) -> list[NoticeRecord]:
    """Notices about some accounts (a condition on theirs) that somebody has not put away, newest first."""
    seen = sa.select(notices_seen.c.notice_id).where(notices_seen.c.sign_in_id == sign_in_id)
    return fetch(
        connection,
        sa.select(notices, products.c.code.label("product"))
        .outerjoin(products, products.c.id == notices.c.product_id)
        .where(about, notices.c.at >= since, notices.c.id.not_in(seen))
        .order_by(notices.c.at.desc(), notices.c.id.desc())
        .limit(limit),
        NoticeRecord,
    )


def put_away(connection: sa.Connection, ids: Collection[int], sign_in_id: int) -> None:
    """Note that somebody has seen notices."""
    there = set(
        connection.scalars(
            sa.select(notices_seen.c.notice_id).where(
                notices_seen.c.sign_in_id == sign_in_id, notices_seen.c.notice_id.in_(ids)
            )
        )
    )
    rows = [{"notice_id": each, "sign_in_id": sign_in_id} for each in ids if each not in there]
    if rows:
        connection.execute(sa.insert(notices_seen), rows)


def accounts_of(connection: sa.Connection, ids: Collection[int]) -> dict[int, int]:
    """The account each notice is about."""
    return {
        row.id: row.account_id
        for row in connection.execute(sa.select(notices.c.id, notices.c.account_id).where(notices.c.id.in_(ids)))
    }
