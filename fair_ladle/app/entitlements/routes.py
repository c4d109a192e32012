"""What layers give, over HTTP."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from fastapi import Query, Response
from pydantic import BaseModel, Field

from fair_ladle.app.entitlements import usecases
from fair_ladle.app.entitlements.reconciling import ReconcileResult
from fair_ladle.app.plumbing.exports import Format, sheet
from fair_ladle.app.plumbing.http import Db, Who, written
from fair_ladle.app.plumbing.routing import Router, for_people_of_a_group, reads_only

routes = Router("/api/entitlements", "entitlements", sees="people.see", changes="layers.change")


class LayerGives(BaseModel):
    """What a layer shall give; group null = everybody of the account and below."""

    account: str = Field(max_length=64)
    group: str | None = Field(default=None, max_length=64)
    product: str = Field(max_length=64)
    components: list[str] = Field([], max_length=64)
    priority: int = 100

    def wanted(self) -> usecases.EntitlementTerms:
        """As the use-case has it."""
        return usecases.EntitlementTerms(self.account, self.group, self.product, tuple(self.components), self.priority)


class EntitlementBody(BaseModel):
    """What a layer gives."""

    account: str
    account_name: str
    group: str | None
    product: str
    product_name: str
    components: list[str]
    priority: int


class BarBody(BaseModel):
    """A component of a product that an account bars for everybody below it, or (group) for one of its groups."""

    account: str = Field(max_length=64)
    group: str | None = Field(default=None, max_length=64)
    product: str = Field(max_length=64)
    component: str = Field(max_length=64)


class BarWanted(BarBody):
    """Barred, or allowed again."""

    barred: bool


class ComponentBody(BaseModel):
    """A part of a product; a mandatory one is always on."""

    code: str
    mandatory: bool


class SeatProduct(BaseModel):
    """A product that people have seats of."""

    code: str
    name: str
    components: list[ComponentBody]
    successor: str | None


class ReconcileBody(BaseModel):
    """Seats that come and go, and who waits and why: some of each, and how many."""

    given: int
    taken: int
    waiting: int
    given_to: list[str]
    taken_from: list[str]
    reasons: dict[str, int]
    """Why people wait, and how many for that reason."""


class WaitingBody(BaseModel):
    """Somebody who waits for a seat, in the order in which they get one."""

    username: str
    name: str
    account_name: str
    product: str
    product_name: str
    since: datetime
    priority: int
    why: str
    """What stands against them besides the seats; empty = only a free seat is missing."""
    place: int | None
    """Which of those who wait for that product gets the next seat; None = is passed over."""


class WaitingPage(BaseModel):
    """A part of who waits, and how many do."""

    total: int
    rows: list[WaitingBody]


def reconcile_body(result: ReconcileResult) -> ReconcileBody:
    """What laying the layers out did, for an answer."""
    reasons: dict[str, int] = {}
    for _, _, why in result.waiting:
        reasons[why] = reasons.get(why, 0) + 1
    return ReconcileBody(
        given=len(result.granted),
        taken=len(result.taken),
        waiting=len(result.waiting),
        given_to=sorted(name for _, name, _ in result.granted)[:50],
        taken_from=sorted(name for name, _ in result.taken)[:50],
        reasons=dict(sorted(reasons.items(), key=lambda each: -each[1])[:20]),
    )


@routes.get("", response_model=list[EntitlementBody])
def entitlements(db: Db, who: Who) -> Any:
    """What the layers of one's branch give."""
    return [
        EntitlementBody(
            account=code,
            account_name=name,
            group=each.group.code if each.group else None,
            product=each.product.code,
            product_name=each.product.name,
            components=list(each.names),
            priority=each.priority,
        )
        for code, name, each in db.run(usecases.entitlements, who)
    ]


@routes.get("/products", response_model=list[SeatProduct])
@for_people_of_a_group
def products(db: Db, who: Who) -> Any:
    """What can be given: products that people have seats of, with their components."""
    return [
        SeatProduct(
            code=each.code,
            name=each.name,
            components=[ComponentBody(code=code, mandatory=code in each.mandatory) for code in each.components],
            successor=each.successor,
        )
        for each in db.run(usecases.seat_products, who)
    ]


@routes.get("/queue", response_model=WaitingPage)
def queue(
    db: Db, who: Who, product: str | None = None, offset: int = Query(0, ge=0), limit: int = Query(100, ge=0, le=1000)
) -> Any:
    """Who waits for a seat, first come first."""
    found = db.snapshot(usecases.queue, who, product, offset, limit)
    rows = [
        WaitingBody(
            username=each.username,
            name=each.name,
            account_name=each.account_name,
            product=each.product.code,
            product_name=each.product.name,
            since=each.since,
            priority=each.priority,
            why=each.why,
            place=each.place,
        )
        for each in found.rows
    ]
    return WaitingPage(total=found.total, rows=rows)


@routes.get("/queue/export", response_class=Response)
def export(db: Db, who: Who, form: Format, product: str | None = None) -> Response:
    """All of them, as a file."""
    columns = ["product", "place", "username", "name", "account", "priority", "waits_for", "since"]
    found = db.snapshot(usecases.queue, who, product)
    rows = (
        [
            each.product.code,
            each.place,
            each.username,
            each.name,
            each.account_name,
            each.priority,
            f"not eligible: {each.why}" if each.why else "a free seat",
            written(each.since),
        ]
        for each in found.rows
    )
    return sheet("waiting-list", form, columns, rows)


@routes.post("/preview", response_model=ReconcileBody)
@reads_only
def preview(body: LayerGives, db: Db, who: Who, away: bool = False) -> Any:
    """Whom giving it (or taking it away) would touch; nothing is kept."""
    return reconcile_body(db.try_out(usecases.forget if away else usecases.put, who, body.wanted()))


@routes.put("", response_model=ReconcileBody)
def put(body: LayerGives, db: Db, who: Who) -> Any:
    """Let a layer give a product, or give it otherwise."""
    return reconcile_body(db.run(usecases.put, who, body.wanted()))


@routes.post("/remove", response_model=ReconcileBody)
def forget(body: LayerGives, db: Db, who: Who) -> Any:
    """Let a layer give a product no more."""
    return reconcile_body(db.run(usecases.forget, who, body.wanted()))


@routes.get("/bars", response_model=list[BarBody])
def bars(db: Db, who: Who) -> Any:
    """The components that accounts and groups of the branch bar."""
    return [
        BarBody(
            account=account,
            group=each.group.code if each.group else None,
            product=each.product.code,
            component=each.component,
        )
        for account, each in db.run(usecases.bars, who)
    ]


@routes.put("/bars", status_code=204)
def bar(body: BarWanted, db: Db, who: Who) -> None:
    """Bar a component, or allow it again."""
    db.run(usecases.bar, who, body.account, body.group, body.product, body.component, body.barred)
