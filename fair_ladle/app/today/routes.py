"""Today over HTTP. Quantities are whole grains."""

from __future__ import annotations

from datetime import date
from typing import Any

from pydantic import BaseModel

from fair_ladle.app.people_admin.join_routes import DomainWaiting, JoinWaiting
from fair_ladle.app.plumbing.http import Db, Who
from fair_ladle.app.plumbing.routing import Router
from fair_ladle.app.pools.service import Product
from fair_ladle.app.requests.routes import RequestBody, request_body
from fair_ladle.app.today import usecases

routes = Router("/api/today", "today", sees="allocations.see", changes="allocations.see")


class OfProduct(BaseModel):
    """The product an item is about."""

    product: str
    product_name: str
    unit: str
    measure: str
    per_unit: int


class PressedBody(OfProduct):
    """An account past its cap or near it."""

    account: str
    name: str
    client: str
    client_name: str
    """The account directly below one's own that it belongs to, or itself."""
    state: str
    load: int
    cap: int
    headroom: int | None
    """null = nothing in sight limits it"""
    hard: bool
    deadline: str | None
    away: int


class ShortfallBody(OfProduct):
    """A pool that is short now."""

    owner: str
    owner_name: str
    by: int


class EndingBody(OfProduct):
    """Lots that end soon."""

    owner: str
    owner_name: str
    day: str
    quantity: int
    references: list[str]
    uncovered: int
    held: int
    held_then: int
    """As far as it is known what begins and ends until then"""


class AllocationEndingBody(OfProduct):
    """An allocation that ends soon, and what follows it."""

    account: str
    name: str
    last_day: str
    cap: int | None
    reserve: int
    follows: bool
    then_cap: int | None
    then_reserve: int


class FillingBody(OfProduct):
    """Storage that is full before long at its present pace; ``latest`` null = not within ten years at the slowest."""

    account: str
    name: str
    client: str
    client_name: str
    stored: int
    most: int
    day: date
    soonest: date
    latest: date | None


class IdleBody(OfProduct):
    """Stock that nobody holds, or holds and does not use, and the money in it a month."""

    owner: str
    owner_name: str
    free: int
    promised: int
    supply: int
    free_cost: str
    promised_cost: str
    currency: str


class OutlookBody(OfProduct):
    """Free stock now and at the first of the coming months."""

    owner: str
    owner_name: str
    months: list[str]
    free: list[int]


class AboutCap(BaseModel):
    """What was told of an account at risk."""

    id: int
    at: str
    account: str
    product: str | None
    subject: str


class HeldDraft(BaseModel):
    """A scheduled draft that could not be applied."""

    id: int
    name: str
    reason: str


class FailedJob(BaseModel):
    """A job of the schedule whose last run failed; for the operator."""

    name: str
    trouble: str


class IdleCost(BaseModel):
    """What unused stock costs a month in a currency."""

    currency: str
    free: str
    promised: str


class TodayBody(BaseModel):
    """Everything of a day."""

    day: str
    pressed: list[PressedBody]
    """The first who are past a cap, and the first who are near one."""
    past_count: int
    near_count: int
    shortfalls: list[ShortfallBody]
    endings: list[EndingBody]
    allocations_ending: list[AllocationEndingBody]
    filling: list[FillingBody]
    idle: list[IdleBody]
    """The dearest."""
    idle_count: int
    idle_costs: list[IdleCost]
    """Of all of them."""
    outlook: list[OutlookBody]
    """The first; of many, those that get short first."""
    outlook_count: int
    requests: list[RequestBody]
    notices: list[AboutCap]
    notice_count: int
    """Of those that stand by themselves, to 10,000; all where not everybody at risk is listed."""
    held_drafts: list[HeldDraft]
    failed_jobs: list[FailedJob]
    joins: list[JoinWaiting]
    domains: list[DomainWaiting]
    failed_policies: list[FailedJob]


def _of(product: Product) -> dict[str, Any]:
    return {
        "product": product.code,
        "product_name": product.name,
        "unit": product.unit,
        "measure": product.measure,
        "per_unit": product.per_unit,
    }


@routes.get("", response_model=TodayBody)
def today(db: Db, who: Who) -> Any:
    """What needs one today."""
    found = db.snapshot(usecases.today, who)
    return TodayBody(
        day=found.day.isoformat(),
        pressed=[
            PressedBody(
                **_of(each.product),
                account=each.account,
                name=each.name,
                client=each.client,
                client_name=each.client_name,
                state=each.state,
                load=each.load,
                cap=each.cap,
                headroom=each.headroom,
                hard=each.hard,
                deadline=each.deadline.isoformat() if each.deadline else None,
                away=each.away,
            )
            for each in found.at_risk
        ],
        past_count=found.past_count,
        near_count=found.near_count,
        shortfalls=[
            ShortfallBody(**_of(each.product), owner=each.owner, owner_name=each.owner_name, by=each.by)
            for each in found.shortfalls
        ],
        endings=[
            EndingBody(
                **_of(each.product),
                owner=each.owner,
                owner_name=each.owner_name,
                day=each.ending.day.isoformat(),
                quantity=each.ending.quantity,
                references=list(each.ending.references),
                uncovered=each.ending.uncovered,
                held=each.held,
                held_then=each.ending.held,
            )
            for each in found.endings
        ],
        allocations_ending=[
            AllocationEndingBody(
                **_of(each.product),
                account=each.account,
                name=each.name,
                last_day=each.last_day.isoformat(),
                cap=each.cap,
                reserve=each.reserve,
                follows=each.follows,
                then_cap=each.then_cap,
                then_reserve=each.then_reserve,
            )
            for each in found.allocations_ending
        ],
        filling=[
            FillingBody(
                **_of(each.product),
                account=each.account,
                name=each.name,
                client=each.client,
                client_name=each.client_name,
                stored=each.grains,
                most=each.most,
                day=each.day,
                soonest=each.soonest,
                latest=each.latest,
            )
            for each in found.filling
        ],
        idle=[
            IdleBody(
                **_of(each.product),
                owner=each.owner,
                owner_name=each.owner_name,
                free=each.free,
                promised=each.promised,
                supply=each.supply,
                free_cost=f"{each.free_cost:f}",
                promised_cost=f"{each.promised_cost:f}",
                currency=each.currency,
            )
            for each in found.idle
        ],
        idle_count=found.idle_count,
        idle_costs=[
            IdleCost(currency=currency, free=f"{free:f}", promised=f"{promised:f}")
            for currency, (free, promised) in sorted(found.idle_costs.items())
        ],
        outlook_count=found.outlook_count,
        outlook=[
            OutlookBody(
                **_of(each.product),
                owner=each.owner,
                owner_name=each.owner_name,
                months=[m.isoformat() for m in each.months],
                free=each.free,
            )
            for each in found.outlook
        ],
        requests=[request_body(each) for each in found.requests],
        notices=[
            AboutCap(
                id=each.id,
                at=each.at.isoformat(),
                account=found.accounts.tree.codes[found.accounts.row_of_id[each.account_id]],
                product=each.product,
                subject=each.subject,
            )
            for each in found.notices
        ],
        notice_count=found.notice_count,
        held_drafts=[HeldDraft(id=each.id, name=each.name, reason=each.reason or "") for each in found.held_drafts],
        failed_jobs=[FailedJob(name=name, trouble=trouble) for name, trouble in found.failed_jobs],
        failed_policies=[FailedJob(name=name, trouble=trouble) for name, trouble in found.failed_policies],
        joins=[JoinWaiting(**vars(each)) for each in found.joins],
        domains=[DomainWaiting(domain=domain, account_name=name) for domain, name in found.domains],
    )
