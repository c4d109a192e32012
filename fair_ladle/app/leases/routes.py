"""Sessions over HTTP: what their clients do with a key or a token, and what admins see."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from fastapi import Query, Response
from pydantic import BaseModel, Field

from fair_ladle.app.devices.routes import PUBLIC
from fair_ladle.app.leases import jobs, usecases
from fair_ladle.app.plumbing.exports import Format, sheet
from fair_ladle.app.plumbing.http import Bearer, Db, ProblemBody, Who, written
from fair_ladle.app.plumbing.routing import Router

GONE: dict[int | str, dict[str, Any]] = {410: {"model": ProblemBody, "description": "The session has ended"}}
routes = Router("/api/sessions", "sessions", sees="devices.see", changes="devices.change")
public_routes = Router(f"{PUBLIC}/sessions", "public", is_open=True, responses=GONE)


class SessionBody(BaseModel):
    """A live session."""

    id: int
    username: str
    person: str
    product: str
    product_name: str
    account: str
    account_name: str
    machine: str
    began_at: datetime
    until: datetime
    offline_until: datetime | None
    ends_at: datetime | None
    why: str | None


class SessionsBody(BaseModel):
    """Live sessions: how many, and some of them."""

    total: int
    rows: list[SessionBody]


class EndSessions(BaseModel):
    """Sessions to end."""

    ids: list[int] = Field(min_length=1, max_length=jobs.AT_ONCE)


class Ended(BaseModel):
    """How many sessions are told to end."""

    notified: int


class Beginning(BaseModel):
    """Somebody begins on a machine, with a key of their account."""

    key: str = Field(max_length=100)
    username: str = Field(min_length=1, max_length=128)
    machine: str = Field(min_length=1, max_length=128)


class Begun(BaseModel):
    """A session; its token is shown only now. ``ends_on``: machines on which the person's sessions before are told
    to end."""

    token: str
    product: str
    ends_on: list[str]
    beat_again: int


class Beat(BaseModel):
    """Whether a session goes on, and when to say so again."""

    state: str
    beat_again: int
    save_by: datetime | None = None
    says: str | None = None


class OfflineFor(BaseModel):
    """For how many days a session works without a network."""

    days: int


class OfflineUntil(BaseModel):
    """Until when."""

    until: datetime


@routes.get("", response_model=SessionsBody)
def sessions(
    db: Db,
    who: Who,
    username: str | None = None,
    find: str = Query("", max_length=200),
    product: str | None = None,
    account: str | None = None,
    sort: usecases.Sort = "person",
    down: bool = False,
    offset: int = Query(0, ge=0, le=10_000_000),
    limit: int = Query(200, ge=1, le=500),
) -> Any:
    """A part of the live sessions of one's branch."""
    total, found = db.run(usecases.sessions, who, username, find, product, account, sort, down, offset, limit)
    return SessionsBody(
        total=total,
        rows=[
            SessionBody(
                id=e.row.id,
                username=e.row.username,
                person=e.person,
                product=e.product.code,
                product_name=e.product.name,
                account=e.account,
                account_name=e.account_name,
                machine=e.row.machine,
                began_at=e.row.began_at,
                until=e.row.until,
                offline_until=e.row.offline_until,
                ends_at=e.row.ends_at,
                why=e.row.why,
            )
            for e in found
        ],
    )


@routes.get("/export", response_class=Response)
def export(
    db: Db,
    who: Who,
    form: Format,
    find: str = Query("", max_length=200),
    product: str | None = None,
    account: str | None = None,
    sort: usecases.Sort = "person",
    down: bool = False,
) -> Response:
    """What the list shows, as a file."""
    found = db.stream(usecases.every, who, find, product, account, sort, down)
    return sheet(
        "sessions",
        form,
        ["username", "name", "product", "account", "machine", "began_at", "until", "offline_until", "ends_at", "why"],
        (
            [
                e.row.username,
                e.person,
                e.product.code,
                e.account,
                e.row.machine,
                *(written(at) for at in (e.row.began_at, e.row.until, e.row.offline_until, e.row.ends_at)),
                e.row.why,
            ]
            for e in found
        ),
    )


@routes.post("/end", response_model=Ended)
def end_sessions(body: EndSessions, db: Db, who: Who) -> Any:
    """Tell sessions to save and end."""
    return Ended(notified=db.run(usecases.end_sessions, who, body.ids))


@public_routes.post("/begin", response_model=Begun)
def begin(body: Beginning, db: Db) -> Any:
    """Begin a session; a limit that stops it is told."""
    token, product, ends_on = db.run(usecases.begin, body.key, body.username, body.machine)
    return Begun(token=token, product=product.code, ends_on=ends_on, beat_again=usecases.BEAT_SECONDS)


@public_routes.post("/beat", response_model=Beat)
def beat(token: Bearer, db: Db) -> Any:
    """A heartbeat (Authorization: Bearer …); 410 where the session has ended."""
    return Beat(**db.run(usecases.beat, token))


@public_routes.post("/end", status_code=204)
def end(token: Bearer, db: Db) -> None:
    """Close a session."""
    db.run(usecases.end, token)


@public_routes.post("/offline", response_model=OfflineUntil)
def offline(body: OfflineFor, token: Bearer, db: Db) -> Any:
    """Take a session along without a network."""
    return OfflineUntil(until=db.run(usecases.go_offline, token, body.days))
