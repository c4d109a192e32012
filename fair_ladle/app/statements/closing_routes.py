"""Closing months over HTTP: what stands in the way, and closing."""

from __future__ import annotations

from typing import Any, Literal

from fastapi import BackgroundTasks
from pydantic import BaseModel, Field

from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.http import Db, Keyed, Who
from fair_ladle.app.plumbing.once import KeyedDatabase
from fair_ladle.app.plumbing.routing import Router
from fair_ladle.app.statements import closing, closing_runs

MOST_TOLD = 200
"""Findings told at once."""

routes = Router("/api/closings", "statements", sees="statements.see", changes="statements.close")


class ClosingFinding(BaseModel):
    """What blocks closing a month, or has to be acknowledged with a reason."""

    blocks: bool
    says: str
    buyer: str | None


class ClosingTotal(BaseModel):
    """What the statements of a month come to in a currency, with tax."""

    currency: str
    statements: int
    total: str


class ClosingBody(BaseModel):
    """A month as it would be closed: the first findings, those that block before the others, of so many.
    ``seen`` says what was looked at, for closing just that."""

    seller: str
    month: str
    findings: list[ClosingFinding]
    blocking: int
    passing: int
    totals: list[ClosingTotal]
    seen: str


class CloseBody(BaseModel):
    """Close what was looked at."""

    seen: str = Field(max_length=64)
    reason: str = Field("", max_length=2000)


class ClosingRun(BaseModel):
    """How far closing a month is: buyers gone through, of so many; once done how many statements, the first number and
    the last."""

    state: Literal["running", "stopped", "refused", "done"]
    done: int
    total: int
    says: str | None
    statements: int
    first: str | None
    last: str | None


def _run(db: Database | KeyedDatabase, who: Actor, seller: str, month: str) -> ClosingRun | None:
    found = db.run(closing_runs.run_of, who, seller, month)
    if found is None:
        return None
    return ClosingRun(
        state=found.state,  # type: ignore[arg-type]
        done=found.done,
        total=found.total,
        says=found.says,
        statements=found.statements,
        first=found.first_number,
        last=found.last_number,
    )


@routes.get("/{seller}/{month}", response_model=ClosingBody)
def look(db: Db, who: Who, seller: str, month: str) -> Any:
    """What stands in the way of closing a month (YYYY-MM), and what it would come to."""
    found = db.snapshot(closing.look, who, seller, month)
    return ClosingBody(
        seller=seller,
        month=month,
        findings=[
            ClosingFinding(blocks=each.blocks, says=each.says, buyer=each.buyer)
            for each in sorted(found.findings, key=lambda each: not each.blocks)[:MOST_TOLD]
        ],
        blocking=len(found.blocking),
        passing=len(found.findings) - len(found.blocking),
        totals=[
            ClosingTotal(currency=currency, statements=count, total=f"{total:f}")
            for currency, count, total in found.totals()
        ],
        seen=found.digest(),
    )


@routes.get("/{seller}/{month}/run", response_model=ClosingRun | None)
def run(db: Db, who: Who, seller: str, month: str) -> Any:
    """How far closing a month is; null where nobody began."""
    return _run(db, who, seller, month)


@routes.post("/{seller}/{month}", response_model=ClosingRun)
def close(db: Keyed, who: Who, seller: str, month: str, body: CloseBody, after: BackgroundTasks) -> Any:
    """Begin to close a month: its statements are numbered and kept for good, all of them at once. It goes on by itself,
    and is refused where the month is not any more what was seen."""
    key = db.run(closing_runs.begin, who, seller, month, body.seen, body.reason)
    after.add_task(closing_runs.work_soon, db.database, *key)
    return _run(db, who, seller, month)


@routes.post("/{seller}/{month}/stop", response_model=ClosingRun)
def stop(db: Keyed, who: Who, seller: str, month: str) -> Any:
    """Stop closing a month; nothing of it is numbered."""
    db.run(closing_runs.stop, who, seller, month)
    return _run(db, who, seller, month)


@routes.post("/{seller}/{month}/resume", response_model=ClosingRun)
def resume(db: Keyed, who: Who, seller: str, month: str, after: BackgroundTasks) -> Any:
    """Take closing a month up again."""
    after.add_task(closing_runs.work_soon, db.database, *db.run(closing_runs.resume, who, seller, month))
    return _run(db, who, seller, month)
