"""What is on hold, and thresholds, over HTTP."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from pydantic import BaseModel, Field

from fair_ladle.app.enforcement import usecases
from fair_ladle.app.plumbing.http import Db, Who
from fair_ladle.app.plumbing.routing import Router

routes = Router("/api/enforcement", "enforcement", sees="allocations.see", changes="accounts.change")


class HoldBody(BaseModel):
    """A unit on hold: whose, of which account, for whose cap, since when, and its place (the last is freed first)."""

    product: str
    subject: str
    name: str | None
    """Of the person who has the seat, where they are of that account"""
    account: str
    for_account: str
    since: str
    place: int


class Levels(BaseModel):
    """Percents of the cap at which people are told; null = the usual ones."""

    levels: list[int] | None = Field(max_length=10)


class LevelsNow(BaseModel):
    """Percents of the cap at which people are told."""

    levels: list[int]


@routes.get("/holds", response_model=list[HoldBody])
def holds(db: Db, who: Who, account: str | None = None, product: str | None = None) -> Any:
    """The first units on hold in one's branch, or in a branch below."""
    found = db.snapshot(usecases.on_hold, who, account, product, usecases.MOST_SHOWN)
    return [HoldBody(**asdict(each)) for each in found]


@routes.get("/thresholds", response_model=LevelsNow)
def thresholds(db: Db, who: Who, account: str, product: str) -> Any:
    """When an account in a pool is told."""
    return LevelsNow(levels=list(db.run(usecases.levels_of, who, account, product)))


@routes.put("/thresholds", response_model=LevelsNow)
def set_thresholds(body: Levels, db: Db, who: Who, account: str, product: str) -> Any:
    """Tell an account in a pool at other percents of its cap."""
    return LevelsNow(levels=list(db.run(usecases.set_levels, who, account, product, body.levels)))
