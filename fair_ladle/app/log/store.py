"""Queries over the log."""

from __future__ import annotations

import json
from collections.abc import Collection
from datetime import datetime
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.log.tables import log_entries
from fair_ladle.app.plumbing.database import Prepared

e = log_entries
ADD = Prepared(
    sa.insert(e).values(
        {
            name: sa.bindparam(f"new_{name}")
            for name in ("at", "actor", "through", "account_id", "action", "subject", "before", "after")
        }
    )
)


def add(connection: sa.Connection, rows: list[dict[str, Any]]) -> None:
    """Write entries."""
    ADD.run(
        connection,
        *(
            {f"new_{name}": json.dumps(value) if isinstance(value, dict) else value for name, value in row.items()}
            for row in rows
        ),
    )


def newest(
    connection: sa.Connection,
    account_ids: Collection[int] | None,
    actor: str | None,
    action: str | None,
    before: int | None,
    limit: int,
) -> list[Any]:
    """Entries, newest first, of these accounts (None = of all, those of no account too)."""
    statement = sa.select(e).order_by(e.c.id.desc()).limit(limit)
    if account_ids is not None:
        statement = statement.where(e.c.account_id.in_(account_ids))
    if actor:
        statement = statement.where(e.c.actor == actor)
    if action:
        statement = statement.where(e.c.action == action)
    if before is not None:
        statement = statement.where(e.c.id < before)
    return list(connection.execute(statement))


def actors(connection: sa.Connection, account_ids: Collection[int] | None) -> list[str]:
    """Everyone who has an entry about these accounts."""
    statement = sa.select(e.c.actor).distinct().order_by(e.c.actor)
    if account_ids is not None:
        statement = statement.where(e.c.account_id.in_(account_ids))
    return list(connection.scalars(statement))


def about(connection: sa.Connection, account_id: int, action: str, subject: str) -> list[Any]:
    """Every entry of an account about something, the oldest first."""
    return list(
        connection.execute(
            sa.select(e)
            .where(e.c.account_id == account_id, e.c.action == action, e.c.subject == subject)
            .order_by(e.c.id)
        )
    )


def about_subject(connection: sa.Connection, account_id: int, subject: str, limit: int = 100) -> list[Any]:
    """The entries of an account about one subject, the newest first."""
    return list(
        connection.execute(
            sa.select(e)
            .where(e.c.account_id == account_id, e.c.subject == subject)
            .order_by(e.c.id.desc())
            .limit(limit)
        )
    )


def last(connection: sa.Connection, account_id: int, action: str, subject: str) -> Any | None:
    """The newest entry of an account about something."""
    wanted = sa.select(e).where(e.c.account_id == account_id, e.c.action == action, e.c.subject == subject)
    return connection.execute(wanted.order_by(e.c.id.desc()).limit(1)).first()


def head(connection: sa.Connection) -> int:
    """The newest entry's id; 0 where there is none."""
    return connection.scalar(sa.select(sa.func.max(e.c.id))) or 0


def newest_instant(connection: sa.Connection) -> datetime | None:
    """When the newest entry was written."""
    return connection.scalar(sa.select(e.c.at).order_by(e.c.id.desc()).limit(1))


def last_seal(connection: sa.Connection) -> Any | None:
    """The end of the chain, locked; None where nothing is sealed."""
    return connection.execute(
        sa.select(e.c.seal_number, e.c.seal)
        .where(e.c.seal_number.is_not(None))
        .order_by(e.c.seal_number.desc())
        .limit(1)
        .with_for_update()
    ).first()


def unsealed(connection: sa.Connection, limit: int) -> list[Any]:
    """Entries that are not in the chain yet, oldest first."""
    return list(connection.execute(sa.select(e).where(e.c.seal_number.is_(None)).order_by(e.c.id).limit(limit)))


def seal(connection: sa.Connection, rows: list[dict[str, Any]]) -> None:
    """Put entries into the chain: rows of entry_id, number and value."""
    connection.execute(
        sa.update(e)
        .where(e.c.id == sa.bindparam("entry_id"))
        .values(seal_number=sa.bindparam("number"), seal=sa.bindparam("value")),
        rows,
    )


def sealed(connection: sa.Connection, after: int, limit: int) -> list[Any]:
    """The chain in its order."""
    return list(connection.execute(sa.select(e).where(e.c.seal_number > after).order_by(e.c.seal_number).limit(limit)))
