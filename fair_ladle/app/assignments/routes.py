"""Assigning and releasing over HTTP."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel, Field

from fair_ladle.app.assignments import usecases
from fair_ladle.app.assignments.eligibility import Wanted
from fair_ladle.app.assignments.many import MOST_AT_ONCE
from fair_ladle.app.plumbing.http import Db, Who
from fair_ladle.app.plumbing.routing import Router

routes = Router("/api/assignments", "assignments", sees="allocations.see", changes="seats.give")


class UnitOf(BaseModel):
    """One unit: of which account, of which product, for whom (a username, a device, a number)."""

    account: str = Field(max_length=64)
    product: str = Field(max_length=64)
    subject: str = Field(min_length=1, max_length=128)


class Units(BaseModel):
    """Units that are taken or released together, all or none."""

    units: list[UnitOf] = Field(min_length=1, max_length=MOST_AT_ONCE)

    def wanted(self) -> list[Wanted]:
        """As the use-case takes them."""
        return [Wanted(each.account, each.product, each.subject) for each in self.units]


class Assigned(BaseModel):
    """How many units were assigned, and when."""

    assigned: int
    at: str


class Released(BaseModel):
    """How many units were released, and when."""

    released: int
    at: str


@routes.post("", response_model=Assigned)
def assign(body: Units, db: Db, who: Who) -> Any:
    """Assign units. Where a limit stops one, nothing is assigned and the answer carries the ladder."""
    at = db.run(usecases.assign, who, body.wanted())
    return Assigned(assigned=len(body.units), at=at.isoformat())


@routes.post("/release", response_model=Released)
def release(body: Units, db: Db, who: Who) -> Any:
    """Release units."""
    at = db.run(usecases.release, who, body.wanted())
    return Released(released=len(body.units), at=at.isoformat())
