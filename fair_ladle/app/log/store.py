"""Queries over the log."""

from __future__ import annotations

import json
from collections.abc import Collection, Sequence
from datetime import datetime
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.log.rows import EntryRecord, Numbered, SealedEntry, SealRecord
from fair_ladle.app.log.tables import log_entries
from fair_ladle.app.log.tables import log_seals as seals
from fair_ladle.app.plumbing.database import fetch, fetch_first
from fair_ladle.app.plumbing.prepared import Prepared

e = log_entries
ADD = Prepared(
    sa.insert(e).values(
        {
            name: sa.bindparam(f"new_{name}")
            for name in (
                *("at", "actor", "through", "account_id", "action", "subject", "before", "after", "code"),
                *("digest", "salt", "via", "delegation_id", "key_id", "request_id", "origin"),
            )
        }
    )
)


def add(connection: sa.Connection, rows: list[dict[str, Any]]) -> None:
    """Write entries."""
    ADD.run_later(
        connection,
        *(
            {f"new_{name}": json.dumps(value) if isinstance(value, dict) else value for name, value in row.items()}
            for row in rows
        ),
    )


def newest(
    connection: sa.Connection, wanted: Sequence[sa.ColumnElement[bool]], before: int | None, limit: int
) -> list[EntryRecord]:
    """Entries that meet all of these, newest first, older than one (its number)."""
    statement = sa.select(e).where(*wanted).order_by(e.c.id.desc()).limit(limit)
    return fetch(connection, statement if before is None else statement.where(e.c.id < before), EntryRecord)


def instants(connection: sa.Connection, wanted: Sequence[sa.ColumnElement[bool]], limit: int) -> list[datetime]:
    """When the newest entries that meet all of these were written."""
    return list(connection.scalars(sa.select(e.c.at).where(*wanted).order_by(e.c.id.desc()).limit(limit)))


def says(
    word: str, told: sa.ColumnElement[bool], told_how: sa.ColumnElement[bool], above: str
) -> sa.ColumnElement[bool]:
    """Entries in which a word stands, in whatever letters: in who acted where that is told, else in the account above;
    in how they were asked for only where that is told."""
    kept = json.dumps(word)[1:-1]
    said = [each.contains(word, autoescape=True) for each in (e.c.action, e.c.subject)]
    changed = [sa.cast(each, sa.Text).contains(kept, autoescape=True) for each in (e.c.before, e.c.after)]
    asked = [each.contains(word, autoescape=True) for each in (e.c.via, e.c.request_id, e.c.origin)]
    acted = [sa.and_(told, e.c.actor.contains(word, autoescape=True))]
    if word.lower() in above.lower():
        acted.append(~told)
    return sa.or_(*said, *changed, *acted, sa.and_(told_how, sa.or_(*asked)))


def lately(
    connection: sa.Connection, wanted: Sequence[sa.ColumnElement[bool]], told: sa.ColumnElement[bool], limit: int
) -> tuple[list[tuple[str, bool]], list[str]]:
    """Who has written the newest entries that meet all of these, with whether that is told, and what they are."""
    newest = sa.select(e.c.actor, e.c.action, told.label("told")).where(*wanted).order_by(e.c.id.desc()).limit(limit)
    rows = connection.execute(sa.select(newest.subquery()).distinct()).all()
    return [(each.actor, bool(each.told)) for each in rows], sorted({each.action for each in rows})


def naming(connection: sa.Connection, account_ids: Collection[int], names: Collection[str]) -> list[Numbered]:
    """Entries of these accounts about one of these names that can be erased."""
    wanted = sa.select(e.c.id).where(e.c.account_id.in_(account_ids), e.c.subject.in_(names), e.c.salt.is_not(None))
    return fetch(connection, wanted.order_by(e.c.id), Numbered)


def erase(connection: sa.Connection, entry_id: int, by: str) -> None:
    """Take out whom and what an entry names; what was sealed of it stays."""
    nobody = {"subject": by, "before": sa.null(), "after": sa.null(), "salt": None}
    connection.execute(sa.update(e).where(e.c.id == entry_id).values(nobody))


def about(connection: sa.Connection, account_id: int, action: str, subject: str) -> list[EntryRecord]:
    """Every entry of an account about something, the oldest first."""
    return fetch(
        connection,
        sa.select(e).where(e.c.account_id == account_id, e.c.action == action, e.c.subject == subject).order_by(e.c.id),
        EntryRecord,
    )


def about_subject(connection: sa.Connection, account_id: int, subject: str, limit: int = 100) -> list[EntryRecord]:
    """The entries of an account about one subject, the newest first."""
    return fetch(
        connection,
        sa.select(e).where(e.c.account_id == account_id, e.c.subject == subject).order_by(e.c.id.desc()).limit(limit),
        EntryRecord,
    )


def last(connection: sa.Connection, account_id: int, action: str, subject: str) -> EntryRecord | None:
    """The newest entry of an account about something."""
    wanted = sa.select(e).where(e.c.account_id == account_id, e.c.action == action, e.c.subject == subject)
    return fetch_first(connection, wanted.order_by(e.c.id.desc()).limit(1), EntryRecord)


def newest_instant(connection: sa.Connection) -> datetime | None:
    """When the newest entry was written."""
    return connection.scalar(sa.select(e.c.at).order_by(e.c.id.desc()).limit(1))


def newest_id(connection: sa.Connection) -> int:
    """The newest entry's number; 0 where there is none."""
    return connection.scalar(sa.select(sa.func.max(e.c.id))) or 0


def newest_without_code(connection: sa.Connection) -> int:
    """The number of the newest entry that was written before there was a key; 0 where there is none."""
    return connection.scalar(sa.select(sa.func.max(e.c.id)).where(e.c.code.is_(None))) or 0


def last_seal(connection: sa.Connection) -> SealRecord | None:
    """The end of the chain; None where nothing is sealed."""
    return fetch_first(connection, sa.select(seals).order_by(seals.c.number.desc()).limit(1), SealRecord)


def unsealed(connection: sa.Connection, limit: int) -> list[EntryRecord]:
    """Entries that are not in the chain yet, oldest first."""
    missing = sa.select(e).outerjoin(seals, seals.c.entry_id == e.c.id).where(seals.c.number.is_(None))
    return fetch(connection, missing.order_by(e.c.id).limit(limit), EntryRecord)


def seal(connection: sa.Connection, rows: list[dict[str, Any]]) -> None:
    """Put entries into the chain: rows of entry_id, number and seal. Their number is a key: two who seal at once cannot
    both."""
    connection.execute(sa.insert(seals), rows)


def sealed(connection: sa.Connection, after: int, limit: int) -> list[SealedEntry]:
    """The chain in its order, each seal with its entry (NULL where that is gone)."""
    wanted = sa.select(seals.c.number, seals.c.seal, seals.c.entry_id, e).outerjoin(e, e.c.id == seals.c.entry_id)
    part = wanted.where(seals.c.number > after).order_by(seals.c.number).limit(limit)
    return fetch(connection, part, SealedEntry)
