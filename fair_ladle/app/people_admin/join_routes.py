"""Joining by an e-mail domain, over HTTP: what an admin sets and decides, and what anybody may ask."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any, Literal

from fastapi import Query
from pydantic import BaseModel, Field

from fair_ladle.app.people_admin import domains
from fair_ladle.app.plumbing.http import Db, Who
from fair_ladle.app.plumbing.routing import Router

JOINING = "/api/joining"
routes = Router("/api/domains", "joining", sees="people.see", changes="people.change")
open_routes = Router(JOINING, "joining", is_open=True)


class DomainBody(BaseModel):
    """A domain and the account whose people have addresses there."""

    domain: str
    account: str
    account_name: str
    joining: Literal["at once", "approved"]
    approved: bool = Field(description="False: asked for; nobody joins by it before the operator has approved it")


class DomainWaiting(BaseModel):
    """A domain that waits for the operator's approval."""

    domain: str
    account_name: str


class DomainOfAccount(BaseModel):
    """The account that wants a domain."""

    account: str = Field(max_length=64)


class DomainWanted(BaseModel):
    """The account a domain shall belong to, and how people join."""

    account: str = Field(max_length=64)
    joining: Literal["at once", "approved"]


class JoinWaiting(BaseModel):
    """Somebody who waits to be let in."""

    id: int
    name: str
    email: str
    account: str
    account_name: str
    since: datetime


class Decision(BaseModel):
    """Whether somebody is let in."""

    let_in: bool


class LetIn(BaseModel):
    """Who they became; null where they were not let in."""

    username: str | None


class WishToJoin(BaseModel):
    """Somebody asks to join by their address."""

    email: str = Field(max_length=254)
    name: str = Field(max_length=200)


class WishBody(BaseModel):
    """What a link is about, and what has become of it."""

    name: str
    account: str
    state: Literal["open", "waits", "joined", "refused"]
    at_once: bool


@routes.get("", response_model=list[DomainBody])
def every(db: Db, who: Who) -> Any:
    """The domains of one's branch."""
    accounts, rows = db.run(domains.domains, who)
    return [
        DomainBody(
            domain=r.domain,
            account=accounts.tree.codes[accounts.row_of_id[r.account_id]],
            account_name=accounts.name(accounts.row_of_id[r.account_id]),
            joining=r.joining,
            approved=r.approved_at is not None,
        )
        for r in rows
    ]


@routes.put("/{domain}", status_code=204)
def put(domain: str, body: DomainWanted, db: Db, who: Who) -> None:
    """Let an account have a domain; it counts once the operator has approved it."""
    db.run(domains.put_domain, who, domain, body.account, body.joining)


@routes.post("/{domain}/approve", status_code=204)
def approve(domain: str, body: DomainOfAccount, db: Db, who: Who) -> None:
    """Agree that a domain is an account's; the operator does."""
    db.run(domains.approve, who, domain, body.account)


@routes.delete("/{domain}", status_code=204)
def forget(domain: str, account: Annotated[str, Query(max_length=64)], db: Db, who: Who) -> None:
    """An account no longer has or wants a domain."""
    db.run(domains.forget_domain, who, domain, account)


@routes.get("/waiting", response_model=list[JoinWaiting])
def waiting(db: Db, who: Who) -> Any:
    """Who waits to be let in."""
    return [JoinWaiting(**vars(each)) for each in db.run(domains.waiting, who)]


@routes.post("/waiting/{request_id}", response_model=LetIn)
def decide(request_id: int, body: Decision, db: Db, who: Who) -> Any:
    """Let somebody in, or do not."""
    return LetIn(username=db.run(domains.decide, who, request_id, body.let_in))


@open_routes.post("", status_code=204)
def ask(body: WishToJoin, db: Db) -> None:
    """Ask to join; a link goes to the address where its domain is known, and the answer is the same where it is not."""
    db.run(domains.ask, body.email, body.name)


@open_routes.get("/{token}", response_model=WishBody)
def asked(token: str, db: Db) -> Any:
    """What a link is about."""
    return WishBody(**vars(db.run(domains.asked, token)))


@open_routes.post("/{token}", response_model=WishBody)
def prove(token: str, db: Db) -> Any:
    """Join, or wait for approval."""
    return WishBody(**vars(db.run(domains.prove, token)))
