"""Assigning and releasing over HTTP."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Header
from pydantic import BaseModel, Field

from fair_ladle.app.assignments import usecases
from fair_ladle.app.plumbing.http import PROBLEMS, Db, Who

routes = APIRouter(prefix="/api/assignments", tags=["assignments"], responses=PROBLEMS)
Key = Annotated[str | None, Header(alias="Idempotency-Key", min_length=1, max_length=128)]


class UnitOf(BaseModel):
    """One unit: of which account, of which product, for whom (a username, a device, a number)."""

    account: str = Field(max_length=64)
    product: str = Field(max_length=64)
    subject: str = Field(min_length=1, max_length=128)


class Units(BaseModel):
    """Units that are taken or released together, all or none."""

    units: list[UnitOf] = Field(min_length=1, max_length=usecases.MOST_AT_ONCE)

    def wanted(self) -> list[usecases.Wanted]:
        """As the use-case takes them."""
        return [usecases.Wanted(each.account, each.product, each.subject) for each in self.units]


class Assigned(BaseModel):
    """How many units were assigned, and when."""

    assigned: int
    at: str


class Released(BaseModel):
    """How many units were released, and when."""

    released: int
    at: str


@routes.post("", response_model=Assigned)
def assign(body: Units, db: Db, who: Who, key: Key = None) -> Any:
    """Assign units. Where a limit stops one, nothing is assigned and the answer carries the ladder."""
    return db.run(usecases.assign, who, body.wanted(), key)


@routes.post("/release", response_model=Released)
def release(body: Units, db: Db, who: Who, key: Key = None) -> Any:
    """Release units."""
    return db.run(usecases.release, who, body.wanted(), key)
