"""Storage limits of accounts and groups over HTTP."""

from __future__ import annotations

from typing import Any, Literal

from fastapi import Query
from pydantic import BaseModel, Field

from fair_ladle.app.personal_storage import usecases
from fair_ladle.app.plumbing.http import Db, Who
from fair_ladle.app.plumbing.routing import Router
from fair_ladle.core.quantities import to_units

routes = Router("/api/storage-limits", "storage", sees="people.see", changes="layers.change")


class LayerLimit(BaseModel):
    """What a layer lets one person store of a product, in GB; null = it says nothing."""

    product: str
    product_name: str
    limit: str | None
    at_limit: Literal["tell", "stop", "grace"]
    tell_at: int
    grace_days: int | None


class LayerLimitWanted(BaseModel):
    """A limit an account (for everybody of it and below), or one of its groups, shall set, in GB; null takes it
    away. ``at_limit`` is what happens there beside telling from ``tell_at`` percent on; null = as it was."""

    account: str = Field(max_length=64)
    group: str | None = Field(default=None, max_length=64)
    product: str = Field(max_length=64)
    amount: str | None = Field(default=None, max_length=40)
    at_limit: Literal["tell", "stop", "grace"] | None = None
    tell_at: int | None = Field(default=None, ge=1, le=100)
    grace_days: int | None = Field(default=None, ge=0, le=3660)


@routes.get("", response_model=list[LayerLimit])
def limits(
    db: Db, who: Who, account: str = Query(max_length=64), group: str | None = Query(None, max_length=64)
) -> Any:
    """What an account or a group sets."""
    return [
        LayerLimit(
            product=product.code,
            product_name=product.name,
            limit=None if grains is None else f"{to_units(grains, product.measure):f}",
            at_limit=at.what,
            tell_at=at.tell_at,
            grace_days=at.grace_days,
        )
        for product, grains, at in db.run(usecases.limits, who, account, group)
    ]


@routes.put("", status_code=204)
def put(body: LayerLimitWanted, db: Db, who: Who) -> None:
    """Set a limit, or take it away."""
    at = None if body.at_limit is None else usecases.AtLimit(body.at_limit, body.tell_at or 90, body.grace_days)
    db.run(usecases.set_limit, who, body.account, body.group, body.product, body.amount, at)
