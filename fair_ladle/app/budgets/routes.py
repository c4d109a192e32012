"""Budgets over HTTP. Amounts are decimals, as text."""

from __future__ import annotations

from decimal import Decimal
from typing import Annotated, Any

from fastapi import Query, Response
from pydantic import BaseModel, Field

from fair_ladle.app.budgets import usecases
from fair_ladle.app.plumbing.http import Db, Keyed, Who
from fair_ladle.app.plumbing.routing import Router

routes = Router("/api/budgets", "statements", sees="statements.see", changes="accounts.change")


class BudgetBody(BaseModel):
    """An account's budget a month before tax (null = none), and what it costs this month: so far and likely (null =
    nobody charges it)."""

    account: str
    name: str
    amount: str | None
    currency: str
    so_far: str | None
    likely: str | None
    may_set: bool


class BudgetEdit(BaseModel):
    """Another budget; null = none."""

    amount: Annotated[Decimal, Field(max_digits=20, decimal_places=5)] | None


class WouldPass(BaseModel):
    """The budgets that something would pass, in a sentence each."""

    says: list[str]


@routes.get("/{account}", response_model=BudgetBody)
def budget(db: Db, who: Who, account: str) -> Any:
    """An account's budget, and how far it is spent."""
    found = db.snapshot(usecases.budget, who, account)
    return BudgetBody(
        account=found.account,
        name=found.name,
        amount=None if found.amount is None else f"{found.amount:f}",
        currency=found.currency,
        so_far=None if found.spent is None else f"{found.spent.so_far:f}",
        likely=None if found.spent is None else f"{found.spent.likely:f}",
        may_set=found.may_set,
    )


@routes.put("/{account}", status_code=204, response_class=Response)
def set_budget(db: Keyed, who: Who, account: str, body: BudgetEdit) -> Response:
    """Give an account another budget, or none."""
    db.run(usecases.set_budget, who, account, body.amount)
    return Response(status_code=204)


@routes.get("/{account}/with", response_model=WouldPass)
def would_pass(
    db: Db,
    who: Who,
    account: str,
    product: str = Query(max_length=64),
    more: Decimal = Query(gt=0, lt=10**9),
) -> Any:
    """Which budgets so many units more of a product would pass."""
    return WouldPass(says=db.snapshot(usecases.would_pass, who, account, product, more))
