"""Margins over HTTP: what sellers earn, and what pools cost. Amounts are decimals, as text."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import asdict
from decimal import Decimal
from typing import Any

from fastapi import Response
from pydantic import BaseModel

from fair_ladle.app.plumbing.exports import Format, sheet
from fair_ladle.app.plumbing.http import Db, Who
from fair_ladle.app.plumbing.routing import Router, needs
from fair_ladle.app.statements import margins
from fair_ladle.connectors.sheets_out import Totals

routes = Router("/api/statements/margins", "statements", sees="statements.see", changes="statements.see")


class MarginRow(BaseModel):
    """What a seller charges for a product in a currency, to how many buyers, and what that cost it; null where that is
    not known of all of them."""

    seller: str
    seller_name: str
    product: str
    product_name: str
    currency: str
    buyers: int
    charged: str
    cost: str | None


class PoolMarginRow(BaseModel):
    """A pool's cost in a month, in the currency it is bought in: what of it the owner used itself, what nobody held,
    and that in each of the ``months`` (null = not worked out yet)."""

    owner: str
    owner_name: str
    product: str
    product_name: str
    currency: str
    cost: str
    own: str
    idle: str
    idle_before: list[str | None]


class PoolMargins(BaseModel):
    """What the pools of a branch cost in a month; ``months`` are those of which idle cost is told."""

    rows: list[PoolMarginRow]
    months: list[str]


def _text(amount: Decimal | None) -> str | None:
    return None if amount is None else f"{amount:f}"


@routes.get("", response_model=list[MarginRow])
def margin_rows(db: Db, who: Who, month: str) -> Any:
    """What the sellers of one's branch earn in a month (YYYY-MM), by product."""
    return [
        MarginRow(**asdict(each) | {"charged": f"{each.charged:f}", "cost": _text(each.cost)})
        for each in db.snapshot(margins.margins, who, month)
    ]


@routes.get("/pools", response_model=PoolMargins)
@needs("pools.see")
def pool_margins(db: Db, who: Who, month: str) -> Any:
    """What the pools of one's branch cost in a month (YYYY-MM), and what of that was idle over twelve."""
    found = db.snapshot(margins.pools, who, month)
    return PoolMargins(
        rows=[
            PoolMarginRow(
                owner=each.month.owner,
                owner_name=each.owner_name,
                product=each.month.product,
                product_name=each.product_name,
                currency=each.month.currency,
                cost=f"{each.month.cost:f}",
                own=f"{each.month.own:f}",
                idle=f"{each.month.idle:f}",
                idle_before=[_text(idle) for idle in each.idle],
            )
            for each in found.rows
        ],
        months=[f"{each:%Y-%m}" for each in found.months],
    )


@routes.get("/export", response_class=Response)
def export_margins(db: Db, who: Who, form: Format, month: str) -> Response:
    """The same by product, as a file."""

    def rows() -> Iterator[list[Any]]:
        for each in db.snapshot(margins.margins, who, month):
            of_product = [each.seller, each.seller_name, each.product, each.product_name, each.buyers]
            left = None if each.cost is None else each.charged - each.cost
            yield [*of_product, each.charged, each.cost, left, each.currency]

    columns = ["seller", "seller_name", "product", "product_name", "buyers", "charged", "cost", "margin", "currency"]
    return sheet(f"margins-{month}", form, columns, rows(), Totals(("charged", "cost", "margin"), "currency"))
