"""Keys for programs, over HTTP."""

from __future__ import annotations

from typing import Any

from fastapi import Request
from pydantic import BaseModel, Field

from fair_ladle.app.plumbing.days import Day
from fair_ladle.app.plumbing.http import Db, Who, origin_of
from fair_ladle.app.plumbing.limits import FREE, limits_of
from fair_ladle.app.plumbing.permissions import PERMISSIONS
from fair_ladle.app.plumbing.routing import Router, keeps_order_itself
from fair_ladle.app.sign_in import keys as usecases
from fair_ladle.app.sign_in import own
from fair_ladle.app.sign_in.delegation_routes import LimitsBody, PermissionBody, limits_body

routes = Router("/api/keys", "keys", sees="own", changes="own")


class ProgramKeyBody(BaseModel):
    """A key: ``ending`` are its last characters, ``permissions`` what of one's role it is for (null = all), ``limits``
    how far it goes (null = as far as one's delegation)."""

    id: int
    name: str
    ending: str
    permissions: list[str] | None
    limits: LimitsBody | None
    made_at: str
    expires_at: str
    last_used: str | None
    last_origin: str | None


class NewProgramKey(BaseModel):
    """A key to make, until the end of its last day, by one's password (``current``); ``permissions`` null = all of
    one's role, ``limits`` null = as far as one's delegation goes."""

    name: str = Field(max_length=100)
    last_day: Day
    permissions: list[str] | None = Field(default=None, max_length=len(PERMISSIONS))
    limits: LimitsBody | None = None
    current: str = Field(max_length=1024)


class KeyUntil(BaseModel):
    """The last day of a key, by one's password."""

    last_day: Day
    current: str = Field(max_length=1024)


class MadeProgramKey(BaseModel):
    """A key, shown once."""

    key: str


class ProgramKeys(BaseModel):
    """The keys of a delegation, and what of its role others can be for."""

    keys: list[ProgramKeyBody]
    may: list[PermissionBody]


@routes.get("", response_model=ProgramKeys)
def keys(db: Db, who: Who) -> Any:
    """The keys of the delegation one acts through, and what one's role has for others."""
    found = [
        ProgramKeyBody(
            id=each.id,
            name=each.name,
            ending=each.ending,
            permissions=each.permissions,
            limits=None if each.limits is None else limits_body(limits_of(each.limits)),
            made_at=each.made_at.isoformat(),
            expires_at=each.expires_at.isoformat(),
            last_used=each.last_used.isoformat() if each.last_used else None,
            last_origin=each.last_origin,
        )
        for each in db.run(usecases.keys, who)
    ]
    may = [PermissionBody(key=key, words=words) for key, words in PERMISSIONS.items() if key in who.permissions]
    return ProgramKeys(keys=found, may=may)


@routes.post("", response_model=MadeProgramKey, status_code=201)
@keeps_order_itself
def make(body: NewProgramKey, request: Request, db: Db, who: Who) -> Any:
    """Make a key; it is shown once."""
    own.show_password(db, who, body.current, origin_of(request))
    limits = FREE if body.limits is None else body.limits.limits()
    return MadeProgramKey(key=db.run(usecases.make, who, body.name, body.last_day, body.permissions, limits))


@routes.post("/{api_key_id}/replace", response_model=MadeProgramKey, status_code=201)
@keeps_order_itself
def replace(api_key_id: int, body: KeyUntil, request: Request, db: Db, who: Who) -> Any:
    """Make another key in place of one, which still works for a day."""
    own.show_password(db, who, body.current, origin_of(request))
    return MadeProgramKey(key=db.run(usecases.replace, who, api_key_id, body.last_day))


@routes.post("/{api_key_id}/end", status_code=204)
def end(api_key_id: int, db: Db, who: Who) -> None:
    """A key works no more."""
    db.run(usecases.end, who, api_key_id)
