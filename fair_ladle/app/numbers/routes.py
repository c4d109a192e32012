"""Numbered things over HTTP."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal

from fastapi import Query, Response
from pydantic import BaseModel, Field

from fair_ladle.app.assignments.many import MOST_AT_ONCE
from fair_ladle.app.numbers import usecases
from fair_ladle.app.plumbing.exports import Format, sheet
from fair_ladle.app.plumbing.http import Db, Who, written
from fair_ladle.app.plumbing.routing import Router

routes = Router("/api/items", "items", sees="devices.see", changes="devices.change")
States = Literal["free", "reserved", "assigned", "withdrawn"]


class NumberBody(BaseModel):
    """A number and what it is doing."""

    number: str
    state: States
    account: str | None
    account_name: str | None
    since: datetime
    username: str | None
    person: str | None
    address: str | None
    mine: bool
    until: datetime | None
    recorded: bool


class NumbersPage(BaseModel):
    """A part of the numbers."""

    total: int
    rows: list[NumberBody]


class BringIn(BaseModel):
    """Numbers, one a line, or ranges: first - last."""

    owner: str = Field(max_length=64)
    numbers: str = Field(max_length=1_000_000)


class Numbers(BaseModel):
    """Some numbers."""

    numbers: list[str] = Field(min_length=1, max_length=MOST_AT_ONCE)


class Reserving(BaseModel):
    """Numbers to keep while choosing: those named, or the first so many."""

    account: str = Field(max_length=64)
    count: int = 0
    numbers: list[str] = Field([], max_length=MOST_AT_ONCE)


class Reserved(BaseModel):
    """Numbers kept, and until when."""

    numbers: list[str]
    until: datetime


class UseBody(BaseModel):
    """A number, who uses it, and where."""

    number: str = Field(max_length=128)
    username: str | None = Field(default=None, max_length=128)
    address: str | None = Field(default=None, max_length=500)


class AssignItems(BaseModel):
    """Numbers to assign in an account, all or none."""

    account: str = Field(max_length=64)
    uses: list[UseBody] = Field(min_length=1, max_length=MOST_AT_ONCE)


class Counted(BaseModel):
    """How many."""

    count: int


@routes.get("/{product}", response_model=NumbersPage)
def items(
    product: str,
    db: Db,
    who: Who,
    state: States = "assigned",
    find: str = Query("", max_length=200),
    account: str | None = None,
    username: str | None = None,
    sort: usecases.Sort = "number",
    down: bool = False,
    offset: int = Query(0, ge=0, le=10_000_000),
    limit: int = Query(200, ge=1, le=500),
) -> Any:
    """A part of the numbers of a product in one's branch."""
    total, found = db.run(usecases.listing, who, product, state, find, account, username, sort, down, offset, limit)
    return NumbersPage(total=total, rows=[NumberBody(**vars(each)) for each in found])


@routes.get("/{product}/export", response_class=Response)
def export(
    product: str,
    db: Db,
    who: Who,
    form: Format,
    state: States = "assigned",
    find: str = Query("", max_length=200),
    account: str | None = None,
    sort: usecases.Sort = "number",
    down: bool = False,
) -> Response:
    """What the list shows, as a file."""
    found = db.stream(usecases.every, who, product, state, find, account, sort, down)
    return sheet(
        "numbers",
        form,
        ["number", "state", "account", "username", "name", "address", "since"],
        ([e.number, e.state, e.account, e.username, e.person, e.address, written(e.since)] for e in found),
    )


@routes.post("/{product}", response_model=Counted, status_code=201)
def load(product: str, body: BringIn, db: Db, who: Who) -> Any:
    """Bring numbers in, all or none."""
    return Counted(count=db.run(usecases.load, who, product, body.owner, body.numbers))


@routes.post("/{product}/withdraw", response_model=Counted)
def withdraw(product: str, body: Numbers, db: Db, who: Who) -> Any:
    """Take free numbers out of the stock."""
    return Counted(count=db.run(usecases.withdraw, who, product, body.numbers))


@routes.post("/{product}/reserve", response_model=Reserved)
def reserve(product: str, body: Reserving, db: Db, who: Who) -> Any:
    """Keep numbers while choosing, until the time answered."""
    numbers, until = db.run(usecases.reserve, who, product, body.account, body.count, body.numbers)
    return Reserved(numbers=numbers, until=until)


@routes.post("/{product}/cancel-hold", status_code=204)
def let_go(product: str, body: Numbers, db: Db, who: Who) -> None:
    """Numbers kept by oneself are free again."""
    db.run(usecases.cancel_reservation, who, product, body.numbers)


@routes.post("/{product}/assign", response_model=Counted)
def assign(product: str, body: AssignItems, db: Db, who: Who) -> Any:
    """Assign numbers, all or none."""
    return Counted(
        count=db.run(
            usecases.assign, who, product, body.account, [usecases.Use(**each.model_dump()) for each in body.uses]
        )
    )


@routes.post("/{product}/release", response_model=Counted)
def release(product: str, body: Numbers, db: Db, who: Who) -> Any:
    """Release numbers, all or none."""
    return Counted(count=db.run(usecases.release, who, product, body.numbers))
