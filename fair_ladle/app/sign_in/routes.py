"""Signing in and out, and who one is. The only routes that are open."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any

import segno
from fastapi import Cookie, Depends, Request, Response
from fastapi.responses import JSONResponse
from pydantic import BaseModel, Field

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import AccountFacts, is_set_up
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.http import Db, Who, origin_of, shown_as
from fair_ladle.app.plumbing.installation import is_demo
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.plumbing.routing import Router, answers_a_secret, keeps_order_itself
from fair_ladle.app.sign_in import delegating, own, second, service, usecases

COOKIE = "fair_ladle_session"
open_routes = Router("/api", "sign in", is_open=True)
routes = Router("/api", "sign in", sees="own", changes="own")


class SignIn(BaseModel):
    """An address and a password."""

    email: str = Field(max_length=254)
    password: str = Field(max_length=1024)
    code: str | None = Field(None, max_length=40, description="of the second factor, where one is asked for")


class Delegation(BaseModel):
    """A branch one may run, and what one may do there (said of the one that is run)."""

    account: str
    name: str
    kind: str
    role: str
    permissions: list[str]
    people_of: str | None
    """A group whose people alone are run; null = all of the account."""
    currency: str | None
    """The account's own; null where it has that of the one above it."""


class Me(BaseModel):
    """Who is signed in, what they run, and the token that every change has to carry."""

    name: str
    email: str
    running: Delegation
    delegations: list[Delegation]
    csrf_token: str
    now: str
    time_zone: str
    """The zone that days are reckoned in, as IANA names it."""
    demo: bool
    """Whether this is the operator's admin of a demo, whose mail can be looked at."""
    lacks_second_factor: bool
    """Whether they can do nothing here but set up the second factor that is required."""
    shown_as: str | None
    """The role whose view of the account this is, where they only look at that."""


@open_routes.post("/sign-in", status_code=204)
@keeps_order_itself
def sign_in(body: SignIn, request: Request, db: Db) -> Response:
    """Begin a session; its token comes as an HttpOnly cookie."""
    agent = request.headers.get("User-Agent", "")
    found = usecases.sign_in(db, body.email, body.password, origin_of(request), body.code, agent)
    return with_session(found, request)


def with_session(session: usecases.Session, request: Request) -> Response:
    """An empty answer that carries a session's cookie."""
    answer = Response(status_code=204)
    answer.set_cookie(
        COOKIE,
        session.token,
        httponly=True,
        samesite="strict",
        secure=request.url.scheme == "https",
        max_age=int(service.LONGEST.total_seconds()),
        path="/",
    )
    return answer


class PasswordLinkBody(BaseModel):
    """Whose password a link sets, and whether it is their first."""

    name: str
    email: str
    is_first: bool


class NewPassword(BaseModel):
    """Another password."""

    password: str = Field(max_length=1024)


class Forgotten(BaseModel):
    """Who forgot their password."""

    email: str = Field(max_length=254)


@open_routes.get("/passwords/{token}", response_model=PasswordLinkBody)
def password_link(token: str, db: Db) -> Any:
    """What a link to set a password is for."""
    return PasswordLinkBody(**vars(db.run(usecases.password_link, token)))


@open_routes.post("/passwords/{token}", status_code=204)
@keeps_order_itself
def set_password(request: Request, token: str, body: NewPassword, db: Db) -> None:
    """Set a password by a link, once; whoever has it signs in with it then."""
    usecases.set_password(db, token, body.password, origin_of(request))


@open_routes.post("/passwords", status_code=204)
def forgotten(body: Forgotten, request: Request, db: Db) -> None:
    """Have a link mailed to set another password; the answer is the same whatever the address."""
    db.run(usecases.forgotten, body.email, request.client.host if request.client else "")


class Installation(BaseModel):
    """What is to be known before anybody is signed in."""

    set_up: bool
    demo: bool


@open_routes.get("/installation", response_model=Installation)
def installation(db: Db) -> Any:
    """Whether this installation is set up, and whether it is a demo."""
    return Installation(set_up=db.run(is_set_up), demo=is_demo(db))


@open_routes.get("/me", response_model=Me | None)
def me(request: Request, db: Db, token: Annotated[str | None, Cookie(alias=COOKIE)] = None) -> Any:
    """Who is signed in; null where nobody is."""
    if not token:
        return JSONResponse(None)
    try:
        found = db.snapshot(service.signed_in, token, request.headers.get("X-Running"))
    except Refused:  # what they ran last is not theirs any more
        found = db.snapshot(service.signed_in, token)
    if found is None:
        return JSONResponse(None)
    every = [
        Delegation(
            account=each.code,
            name=each.name,
            kind=each.kind,
            role=each.role,
            permissions=sorted(found.actor.permissions) if each.delegation_id == found.actor.delegation_id else [],
            people_of=each.people_of,
            currency=each.currency,
        )
        for each in found.delegations
    ]
    running = next(each for each in every if each.account == found.actor.scope)
    shown, actor = shown_as(request), found.actor
    if shown is not None:
        actor = db.run(delegating.as_role, actor, *shown)
        running = _running_as(db.snapshot(delegating.account_run, actor), actor)
    return Me(
        name=found.actor.name,
        email=found.actor.email,
        running=running,
        delegations=every,
        csrf_token=found.csrf_token,
        now=db.clock.now().isoformat(),
        time_zone=str(db.snapshot(accounts_service.zone)),
        demo=running.kind == "operator" and is_demo(db),
        lacks_second_factor=actor.lacks_second_factor,
        shown_as=actor.only_looks,
    )


def _running_as(facts: AccountFacts, actor: Actor) -> Delegation:
    return Delegation(
        account=facts.code,
        name=facts.name,
        kind=facts.kind,
        role=actor.role,
        permissions=sorted(actor.permissions),
        people_of=None,
        currency=facts.currency,
    )


@routes.post("/sign-out", status_code=204)
def sign_out(db: Db, token: Annotated[str | None, Cookie(alias=COOKIE)] = None) -> Response:
    """End the session."""
    if token:
        db.run(usecases.sign_out, token)
    answer = Response(status_code=204)
    answer.delete_cookie(COOKIE, path="/")
    return answer


class OwnSessionBody(BaseModel):
    """A session of one's own; ``here`` = the one that asks."""

    name: str
    began: datetime
    last_used: datetime
    origin: str
    agent: str
    here: bool


class OwnBody(BaseModel):
    """What is one's own. ``recovery_codes``: how many are left; null without a second factor."""

    sessions: list[OwnSessionBody]
    recovery_codes: int | None


class PasswordChange(BaseModel):
    """The password there is, and another one."""

    current: str = Field(max_length=1024)
    password: str = Field(max_length=1024)


class Proof(BaseModel):
    """The password there is."""

    current: str = Field(max_length=1024)


class CodeShown(BaseModel):
    """What the authenticator shows."""

    code: str = Field(max_length=40)


class NewFactorBody(BaseModel):
    """What an authenticator takes up: as text, as an address, and as a picture of that (a data URI)."""

    secret: str
    address: str
    picture: str


class RecoveryCodes(BaseModel):
    """Codes in place of a second factor that was lost, each once."""

    codes: list[str]


def session_token(request: Request) -> str:
    """The token of the session a request is made in."""
    return request.cookies.get(COOKIE, "")


Token = Annotated[str, Depends(session_token)]


@routes.get("/own", response_model=OwnBody)
def own_things(db: Db, who: Who, token: Token) -> Any:
    """One's sessions, and whether one has a second factor."""
    return OwnBody(
        sessions=[OwnSessionBody(**vars(each)) for each in db.run(own.sessions, who, token)],
        recovery_codes=db.run(second.state, who),
    )


@routes.post("/own/sessions/end", status_code=204)
def end_others(db: Db, who: Who, token: Token) -> None:
    """End all of one's sessions but this one."""
    db.run(own.end_sessions, who, token, None)


@routes.post("/own/sessions/{name}/end", status_code=204)
def end_session(name: str, db: Db, who: Who, token: Token) -> None:
    """End one of one's sessions."""
    db.run(own.end_sessions, who, token, name)


@routes.post("/own/password", status_code=204)
@keeps_order_itself
def change_password(body: PasswordChange, request: Request, db: Db, who: Who, token: Token) -> None:
    """Change one's password; one's other sessions end."""
    own.change_password(db, who, token, body.current, body.password, origin_of(request))


@routes.post("/own/second-factor", response_model=NewFactorBody)
@keeps_order_itself
def begin_second_factor(body: Proof, request: Request, db: Db, who: Who) -> Any:
    """Begin with a second factor, by one's password: what an authenticator takes up."""
    own.show_password(db, who, body.current, origin_of(request))
    found = db.run(second.begin, who)
    picture = segno.make(found.address).svg_data_uri(scale=4, dark="#000", light="#fff")
    return NewFactorBody(secret=found.secret, address=found.address, picture=picture)


@routes.post("/own/second-factor/confirm", response_model=RecoveryCodes)
@answers_a_secret
def confirm_second_factor(body: CodeShown, db: Db, who: Who) -> Any:
    """Let the second factor count, by a code of it; the recovery codes are shown once."""
    return RecoveryCodes(codes=db.run(second.confirm, who, body.code))


@routes.post("/own/second-factor/end", status_code=204)
@keeps_order_itself
def end_second_factor(body: Proof, request: Request, db: Db, who: Who) -> None:
    """Take one's second factor away, by one's password."""
    own.drop_second_factor(db, who, body.current, origin_of(request))
