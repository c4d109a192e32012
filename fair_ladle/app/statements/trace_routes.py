"""The way from a seat to the statements it is charged in, over HTTP. Amounts are decimals, as text."""

from __future__ import annotations

from dataclasses import asdict
from typing import Annotated, Any

from fastapi import Query
from pydantic import BaseModel

from fair_ladle.app.plumbing.http import Db, Who
from fair_ladle.app.plumbing.routing import Router
from fair_ladle.app.statements import trace

routes = Router("/api/statements/trace", "statements", sees="statements.see", changes="statements.see")


class ChargedInBody(BaseModel):
    """A statement in which an account's use of a product is charged: the account's part of the line, the line, and what
    the statement comes to with tax."""

    buyer: str
    buyer_name: str
    seller: str
    account_name: str
    part: str
    line: str
    total: str
    currency: str
    number: str | None


class TraceBody(BaseModel):
    """A product of somebody's in a month: hours of it, of all there are, and the statements it is charged in."""

    product: str
    product_name: str
    month: str
    hours: str
    of_hours: int
    charged_in: list[ChargedInBody]


@routes.get("", response_model=TraceBody)
def traced(
    db: Db,
    who: Who,
    username: Annotated[str, Query(max_length=128)],
    product: Annotated[str, Query(max_length=64)],
    month: str,
) -> Any:
    """Where somebody is charged for with a product in a month (YYYY-MM)."""
    found = db.snapshot(trace.trace, who, username, product, month)
    return TraceBody(
        product=found.product.code,
        product_name=found.product.name,
        month=month,
        hours=f"{found.hours:.1f}",
        of_hours=found.of_hours,
        charged_in=[
            ChargedInBody(
                **asdict(each) | {name: f"{getattr(each, name):f}" for name in ("part", "line", "total")},
            )
            for each in found.charged_in
        ],
    )
