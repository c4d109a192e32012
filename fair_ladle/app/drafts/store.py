"""Queries over drafts."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from datetime import date
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.accounts.tables import accounts
from fair_ladle.app.drafts.rows import DraftRecord, ListedDraft, SharedWith
from fair_ladle.app.drafts.tables import draft_changes, draft_shares, drafts
from fair_ladle.app.plumbing.database import fetch, fetch_first, insert_row
from fair_ladle.app.sign_in.tables import sign_ins


def _with_owner() -> sa.Select[Any]:
    return (
        sa.select(
            drafts,
            sign_ins.c.name.label("owner_name"),
            sign_ins.c.email.label("owner_email"),
            accounts.c.code.label("through"),
        )
        .join(sign_ins, sign_ins.c.id == drafts.c.owner_id)
        .join(accounts, accounts.c.id == drafts.c.through_id)
    )


def one(connection: sa.Connection, draft_id: int, lock: bool = False, of: int | None = None) -> DraftRecord | None:
    """A draft with its owner's name and the code of the branch it was made in; with ``of`` (a sign-in) only where it is
    theirs or shared with them."""
    wanted = [drafts.c.id == draft_id]
    if of is not None:
        shared = sa.exists().where(draft_shares.c.draft_id == drafts.c.id, draft_shares.c.sign_in_id == of)
        wanted.append(sa.or_(drafts.c.owner_id == of, shared))
    if lock:
        connection.execute(sa.select(drafts.c.id).where(*wanted).with_for_update()).all()
    return fetch_first(connection, _with_owner().where(*wanted), DraftRecord)


def open_of(connection: sa.Connection, sign_in_id: int, through_id: int) -> DraftRecord | None:
    """The draft somebody has open in a branch."""
    return fetch_first(
        connection,
        _with_owner()
        .where(drafts.c.owner_id == sign_in_id, drafts.c.through_id == through_id, drafts.c.state == "open")
        .order_by(drafts.c.id.desc())
        .limit(1),
        DraftRecord,
    )


def seen_by(connection: sa.Connection, sign_in_id: int, through_id: int, limit: int) -> list[ListedDraft]:
    """Drafts somebody has made in a branch or been given, newest first, with how many changes they hold."""
    count = sa.select(sa.func.count()).where(draft_changes.c.draft_id == drafts.c.id).scalar_subquery().label("changes")
    shared = sa.select(draft_shares.c.draft_id).where(draft_shares.c.sign_in_id == sign_in_id)
    return fetch(
        connection,
        _with_owner()
        .add_columns(count)
        .where(
            sa.or_(
                sa.and_(drafts.c.owner_id == sign_in_id, drafts.c.through_id == through_id), drafts.c.id.in_(shared)
            ),
            drafts.c.state != "discarded",
        )
        .order_by(drafts.c.changed_at.desc())
        .limit(limit),
        ListedDraft,
    )


def due(connection: sa.Connection, day: date) -> list[int]:
    """Scheduled drafts whose day has come, the earliest first."""
    return list(
        connection.scalars(
            sa.select(drafts.c.id)
            .where(drafts.c.state == "scheduled", drafts.c.apply_on <= day)
            .order_by(drafts.c.apply_on, drafts.c.id)
        )
    )


def lock_person(connection: sa.Connection, sign_in_id: int) -> None:
    """Hold back whoever would begin another draft for the same person."""
    connection.execute(sa.select(sign_ins.c.id).where(sign_ins.c.id == sign_in_id).with_for_update())


def add(connection: sa.Connection, row: dict[str, Any]) -> int:
    """A new draft's id."""
    return insert_row(connection, drafts, row)


def update(connection: sa.Connection, draft_id: int, values: dict[str, Any]) -> None:
    """Change a draft's own facts."""
    connection.execute(sa.update(drafts).where(drafts.c.id == draft_id).values(values))


def changes(connection: sa.Connection, draft_id: int) -> list[object]:
    """The bodies of a draft's changes, in order."""
    d = draft_changes
    return list(connection.scalars(sa.select(d.c.body).where(d.c.draft_id == draft_id).order_by(d.c.place)))


def put(
    connection: sa.Connection, draft_id: int, rows: Sequence[dict[str, Any]], forget: Collection[tuple[str, str]]
) -> None:
    """Take changes over and others out; one that is there keeps its place."""
    d = draft_changes
    touched = [(row["kind"], row["key"]) for row in rows]
    places = {
        (row.kind, row.key): row.place
        for row in connection.execute(sa.select(d.c.kind, d.c.key, d.c.place).where(d.c.draft_id == draft_id))
    }
    next_place = max(places.values(), default=-1) + 1
    out = [*forget, *(each for each in touched if each in places)]
    for start in range(0, len(out), 500):
        pairs = out[start : start + 500]
        connection.execute(sa.delete(d).where(d.c.draft_id == draft_id, sa.tuple_(d.c.kind, d.c.key).in_(pairs)))
    if rows:
        connection.execute(
            sa.insert(d),
            [
                {**row, "draft_id": draft_id, "place": places.get((row["kind"], row["key"]), next_place + n)}
                for n, row in enumerate(rows)
            ],
        )


def shares(connection: sa.Connection, draft_id: int) -> list[SharedWith]:
    """With whom its owner shares a draft; who was asked to apply it is not among them."""
    return fetch(
        connection,
        sa.select(sign_ins.c.id, sign_ins.c.name, sign_ins.c.email)
        .join(draft_shares, draft_shares.c.sign_in_id == sign_ins.c.id)
        .where(draft_shares.c.draft_id == draft_id, draft_shares.c.asked.is_(False))
        .order_by(sign_ins.c.name),
        SharedWith,
    )


def share(connection: sa.Connection, draft_id: int, sign_in_id: int, asked: bool = False) -> None:
    """Share a draft, or ask somebody to apply it; nothing happens where it is shared already."""
    there = sa.select(draft_shares).where(draft_shares.c.draft_id == draft_id, draft_shares.c.sign_in_id == sign_in_id)
    if connection.execute(there).first() is None:
        connection.execute(sa.insert(draft_shares).values(draft_id=draft_id, sign_in_id=sign_in_id, asked=asked))


def ask_no_more(connection: sa.Connection, draft_id: int) -> None:
    """Whoever was asked to apply a draft sees it no more."""
    d = draft_shares
    connection.execute(sa.delete(d).where(d.c.draft_id == draft_id, d.c.asked.is_(True)))
