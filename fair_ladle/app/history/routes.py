"""The log in sentences over HTTP."""

from __future__ import annotations

from datetime import date
from typing import Annotated, Any

from fastapi import Query
from pydantic import BaseModel

from fair_ladle.app.history import usecases
from fair_ladle.app.history.wording import kind_name
from fair_ladle.app.log.routes import Wanted
from fair_ladle.app.plumbing.http import Db, Who
from fair_ladle.app.plumbing.routing import Router

routes = Router("/api/log", "log", sees="log.see", changes="log.see")
MOST_ACCOUNTS, MOST_NUMBER = 3, 2**62


class AccountNamed(BaseModel):
    """An account, by code and name."""

    account: str
    name: str


class LoggedAct(BaseModel):
    """What was done together: by whom, when, in a sentence; so many entries of the log, ``newest`` to ``oldest``."""

    newest: int
    oldest: int
    entries: int
    at: str
    actor: str
    sentence: str
    detail: str
    """From what to what, where the act is one entry."""
    accounts: list[AccountNamed]
    """The first few accounts concerned."""
    more_accounts: int
    via: str | None
    request: str | None
    origin: str | None


class Kind(BaseModel):
    """A kind of entry: as the filter takes it, and its name."""

    kind: str
    name: str


class LoggedActs(BaseModel):
    """A page of acts, newest first; ``before`` asks for the next page, null at the end. Who wrote any lately, and of
    which kinds those are."""

    acts: list[LoggedAct]
    before: int | None
    actors: list[str]
    kinds: list[Kind]


class SaidEntry(BaseModel):
    """One entry of an act, in a sentence."""

    number: int
    at: str
    account: str | None
    account_name: str | None
    sentence: str
    detail: str


class DayCount(BaseModel):
    """How many entries a day has."""

    day: date
    entries: int


class DensityBody(BaseModel):
    """Entries a day, oldest first. ``partial`` = only the newest were counted: the first day has more, and there are
    days before it."""

    days: list[DayCount]
    partial: bool


@routes.get("/acts", response_model=LoggedActs)
def acts(db: Db, who: Who, wanted: Wanted, before: int | None = None, limit: int = Query(60, ge=1, le=100)) -> Any:
    """What was done in one's branch, newest first: a bulk act is one, however many it concerned."""
    found = db.snapshot(usecases.acts, who, wanted, before, limit)
    accounts = found.page.accounts
    return LoggedActs(
        acts=[
            LoggedAct(
                newest=each.newest.id,
                oldest=each.oldest,
                entries=each.count,
                at=each.newest.at.isoformat(),
                actor=each.newest.actor,
                sentence=each.sentence,
                detail=each.detail,
                accounts=[
                    AccountNamed(account=accounts.tree.codes[row], name=accounts.full_name(row, found.page.top))
                    for row in [row for row in each.rows if row >= 0][:MOST_ACCOUNTS]
                ],
                more_accounts=max(len([row for row in each.rows if row >= 0]) - MOST_ACCOUNTS, 0),
                via=each.newest.via if each.tells_how else None,
                request=each.newest.request_id if each.tells_how else None,
                origin=each.newest.origin if each.tells_how else None,
            )
            for each in found.acts
        ],
        before=found.before,
        actors=found.actors,
        kinds=sorted((Kind(kind=each, name=kind_name(each)) for each in found.kinds), key=lambda each: each.name),
    )


@routes.get("/entries", response_model=list[SaidEntry])
def entries(
    db: Db,
    who: Who,
    wanted: Wanted,
    newest: Annotated[int, Query(ge=0, le=MOST_NUMBER)],
    oldest: Annotated[int, Query(ge=0, le=MOST_NUMBER)],
    limit: int = Query(500, ge=1, le=500),
) -> Any:
    """The entries of one act, newest first, each in a sentence."""
    page, found = db.snapshot(usecases.entries_of, who, wanted, newest, oldest, limit)
    accounts = page.accounts
    told = []
    for entry, sentence, detail in found:
        row = accounts.row_of_id.get(entry.account_id)
        told.append(
            SaidEntry(
                number=entry.id,
                at=entry.at.isoformat(),
                account=None if row is None else accounts.tree.codes[row],
                account_name=None if row is None else accounts.full_name(row, page.top),
                sentence=sentence,
                detail=detail,
            )
        )
    return told


@routes.get("/days", response_model=DensityBody)
def days(db: Db, who: Who, wanted: Wanted) -> Any:
    """How many entries each day has, of the newest 20,000 that are looked for."""
    found, partial = db.snapshot(usecases.by_day, who, wanted)
    return DensityBody(days=[DayCount(day=day, entries=count) for day, count in sorted(found.items())], partial=partial)
