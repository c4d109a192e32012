"""Reading the log over HTTP."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Annotated, Any

from fastapi import Depends, Query, Response
from pydantic import BaseModel

from fair_ladle.app.log import usecases
from fair_ladle.app.plumbing.days import Day
from fair_ladle.app.plumbing.exports import Format, sheet
from fair_ladle.app.plumbing.http import Db, Who
from fair_ladle.app.plumbing.routing import Router

routes = Router("/api/log", "log", sees="log.see", changes="log.see")


class Change(BaseModel):
    """One figure or fact that changed."""

    what: str
    before: str | None
    after: str | None


class LogEntry(BaseModel):
    """Who did what to what, when, and what changed by it."""

    number: int
    at: str
    actor: str
    account: str | None
    account_name: str | None
    action: str
    subject: str
    changes: list[Change]
    via: str | None
    """Through which role, where, and with which key."""
    request: str | None
    origin: str | None
    """The address it was asked from."""


class LogEntries(BaseModel):
    """A page of the log, newest first, with who wrote any lately and of which kinds; ``before`` asks for the next
    page, null at the end."""

    entries: list[LogEntry]
    actors: list[str]
    kinds: list[str]
    before: int | None


def _text(value: Any) -> str | None:
    return None if value is None else str(value)


def _entries(page: usecases.LogPage) -> list[LogEntry]:
    accounts = page.accounts
    found = []
    for entry in page.entries:
        row = accounts.row_of_id.get(entry.account_id)
        before, after = entry.before or {}, entry.after or {}
        found.append(
            LogEntry(
                number=entry.id,
                at=entry.at.isoformat(),
                actor=entry.actor,
                account=None if row is None else accounts.tree.codes[row],
                account_name=None if row is None else accounts.name(row),
                action=entry.action,
                subject=entry.subject,
                changes=[
                    Change(what=name, before=_text(before.get(name)), after=_text(after.get(name)))
                    for name in dict.fromkeys([*before, *after])
                ],
                via=entry.via if page.tells_how(entry) else None,
                request=entry.request_id if page.tells_how(entry) else None,
                origin=entry.origin if page.tells_how(entry) else None,
            )
        )
    return found


async def sought(
    account: Annotated[str | None, Query(max_length=64)] = None,
    by: Annotated[str | None, Query(max_length=200)] = None,
    kind: Annotated[str | None, Query(max_length=64)] = None,
    first_day: Day | None = None,
    last_day: Day | None = None,
    find: Annotated[str, Query(max_length=200)] = "",
) -> usecases.Sought:
    """What is looked for."""
    return usecases.Sought(account, by, kind, first_day, last_day, find)


Wanted = Annotated[usecases.Sought, Depends(sought)]


@routes.get("", response_model=LogEntries)
def read(db: Db, who: Who, wanted: Wanted, before: int | None = None, limit: int = Query(100, ge=1, le=500)) -> Any:
    """The log of one's branch, newest first: of one account and its branch, by one person, of one kind, of some days,
    with some words in it."""
    page = db.snapshot(usecases.read, who, wanted, before, limit)
    entries = _entries(page)
    return LogEntries(
        entries=entries,
        actors=page.actors,
        kinds=page.kinds,
        before=entries[-1].number if len(entries) == limit else None,
    )


@routes.get("/export", response_class=Response)
def export(db: Db, who: Who, form: Format, wanted: Wanted) -> Response:
    """What is shown, as a file, newest first."""

    def rows() -> Iterator[list[Any]]:
        for page in db.stream(usecases.every, who, wanted):
            for entry in _entries(page):
                shared = [entry.at, entry.actor, entry.account, entry.action, entry.subject]
                how = [entry.via, entry.origin, entry.request]
                for change in entry.changes or [Change(what="", before=None, after=None)]:
                    yield [*shared, change.what, change.before, change.after, *how]

    shared = ["at", "who", "account", "action", "subject", "what", "before", "after"]
    return sheet("log", form, [*shared, "through", "address", "request"], rows())
