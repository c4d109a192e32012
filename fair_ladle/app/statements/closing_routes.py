"""Closing months over HTTP: what stands in the way, and closing."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel, Field

from fair_ladle.app.plumbing.http import Db, Keyed, Who
from fair_ladle.app.plumbing.problems import conflict
from fair_ladle.app.plumbing.routing import Router
from fair_ladle.app.statements import closing

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


class ClosedBody(BaseModel):
    """The statements a month was closed with: how many, the first number and the last."""

    statements: int
    first: str | None
    last: str | None


@routes.get("/{seller}/{month}", response_model=ClosingBody)
def look(db: Db, who: Who, seller: str, month: str) -> Any:
    """What stands in the way of closing a month (YYYY-MM), and what it would come to."""
    found = db.snapshot(closing.prepare, who, seller, month)
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


@routes.post("/{seller}/{month}", response_model=ClosedBody)
def close(db: Keyed, who: Who, seller: str, month: str, body: CloseBody) -> Any:
    """Close a month: number its statements and keep them for good. Refused where it is not any more what was seen."""
    prepared = db.database.snapshot(closing.prepare, who, seller, month)
    if not prepared.blocking and prepared.digest() != body.seen:
        raise conflict("The month has changed since you looked at it. Look again.")
    closed = db.run(closing.close, who, prepared, body.reason)
    return ClosedBody(
        statements=len(closed),
        first=closed[0].number if closed else None,
        last=closed[-1].number if closed else None,
    )
