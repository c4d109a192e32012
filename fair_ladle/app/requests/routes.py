"""Requests over HTTP. Quantities are whole grains."""

from __future__ import annotations

from datetime import date
from typing import Any, Literal

from fastapi import Query
from pydantic import BaseModel, Field

from fair_ladle.app.drafts.effects import EffectBody, effect_body
from fair_ladle.app.plumbing.days import Day
from fair_ladle.app.plumbing.http import Db, Who
from fair_ladle.app.plumbing.routing import Router
from fair_ladle.app.requests import usecases

routes = Router("/api/requests", "requests", sees="allocations.see", changes="requests.make")


class Ask(BaseModel):
    """What the account at the top of one's branch asks for; an amount below 0 offers some back."""

    account: str = Field(max_length=64)
    product: str = Field(max_length=64)
    amount: int
    as_what: Literal["cap", "reserve"] = "cap"
    reason: str = Field(max_length=2000)
    wish_day: Day | None = None
    last_day: Day | None = None
    """Wanted until then; null = for good."""


class GrantBody(BaseModel):
    """All of it (part null) or part, with a word."""

    part: int | None = None
    text: str = Field("", max_length=2000)


class Reason(BaseModel):
    """Why."""

    reason: str = Field("", max_length=2000)


class StepBody(BaseModel):
    """A step of a request."""

    at: str
    by: str
    what: str
    text: str


class RequestBody(BaseModel):
    """A request with its steps."""

    id: int
    account: str
    name: str
    parent: str
    product: str
    product_name: str
    unit: str
    per_unit: int
    amount: int
    as_what: str
    reason: str
    wish_day: date | None
    last_day: date | None
    state: str
    granted: int | None
    asked_by: str
    asked_at: str
    passed_up: bool
    to_answer: bool
    to_withdraw: bool
    steps: list[StepBody]


def request_body(found: usecases.Request) -> RequestBody:
    """A request for an answer."""
    row = found.row
    return RequestBody(
        id=row.id,
        account=found.account,
        name=found.name,
        parent=found.parent,
        product=found.product.code,
        product_name=found.product.name,
        unit=found.product.unit,
        per_unit=found.product.per_unit,
        amount=row.amount,
        as_what=row.as_what,
        reason=row.reason,
        wish_day=row.wish_day,
        last_day=row.last_day,
        state=row.state,
        granted=row.granted,
        asked_by=row.asked_by,
        asked_at=row.asked_at.isoformat(),
        passed_up=row.passed_up_id is not None,
        to_answer=found.to_answer,
        to_withdraw=found.to_withdraw,
        steps=[StepBody(at=each.at.isoformat(), by=each.by, what=each.what, text=each.text) for each in found.steps],
    )


@routes.get("", response_model=list[RequestBody])
def requests(db: Db, who: Who, account: str | None = None, waiting: bool = False) -> Any:
    """Requests of one's branch or of one account in it, those that wait first."""
    return [request_body(each) for each in db.run(usecases.requests, who, account, waiting)]


@routes.post("", response_model=RequestBody, status_code=201)
def ask(body: Ask, db: Db, who: Who) -> Any:
    """Ask one's parent for more, or offer some back."""
    wanted = (body.account, body.product, body.amount, body.as_what, body.reason, body.wish_day, body.last_day)
    return request_body(db.run(usecases.ask, who, *wanted))


@routes.get("/{request_id}/effect", response_model=EffectBody)
def effect(request_id: int, db: Db, who: Who, part: int | None = Query(None)) -> Any:
    """What granting it, or part of it, would do."""
    return db.run(lambda tx: effect_body(usecases.preview(tx, who, request_id, part), who))


@routes.post("/{request_id}/grant", response_model=RequestBody)
def grant(request_id: int, body: GrantBody, db: Db, who: Who) -> Any:
    """Give all of it or part."""
    return request_body(db.run(usecases.grant, who, request_id, body.part, body.text))


@routes.post("/{request_id}/refuse", response_model=RequestBody)
def refuse(request_id: int, body: Reason, db: Db, who: Who) -> Any:
    """Say no, with a reason."""
    return request_body(db.run(usecases.refuse, who, request_id, body.reason))


@routes.post("/{request_id}/pass-up", response_model=RequestBody)
def pass_up(request_id: int, body: Reason, db: Db, who: Who) -> Any:
    """Ask one's own parent for it."""
    return request_body(db.run(usecases.pass_up, who, request_id, body.reason))


@routes.post("/{request_id}/withdraw", response_model=RequestBody)
def withdraw(request_id: int, db: Db, who: Who) -> Any:
    """Take one's own request back."""
    return request_body(db.run(usecases.withdraw, who, request_id))
