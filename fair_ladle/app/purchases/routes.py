"""Pools over time, plans and the calendar over HTTP. Quantities are whole grains."""

from __future__ import annotations

from datetime import date
from decimal import Decimal
from typing import Annotated, Any, Literal

from fastapi import Body, Query, Response
from pydantic import BaseModel

from fair_ladle.app.drafts.change_types import Change
from fair_ladle.app.plumbing.days import Day
from fair_ladle.app.plumbing.foreign import table_of
from fair_ladle.app.plumbing.http import Db, Who
from fair_ladle.app.plumbing.routing import Router, answers_a_secret, reads_only
from fair_ladle.app.pools.service import Pool
from fair_ladle.app.purchases import calendars, invoices, planning, reducing, usecases
from fair_ladle.app.purchases.usecases import Point
from fair_ladle.core.quantities import plain

CALENDAR = "/api/calendar"
routes = Router("/api/pools", "pools", sees="pools.see", changes="pools.see")
INVOICES = "/api/vendor-invoices"
invoice_routes = Router(INVOICES, "pools", sees="pools.see", changes="pools.see")
open_routes = Router(CALENDAR, "pools", is_open=True)


class PointBody(BaseModel):
    """A day's figures."""

    day: date
    supply: int
    promisable: int
    promised: int
    used: int
    short: int


class LotBody(BaseModel):
    """A purchase."""

    reference: str
    quantity: int
    first_day: date
    last_day: date | None
    unit_cost: str
    true_up: int
    overcommit: int | None


class PoolBody(BaseModel):
    """A pool with its present."""

    owner: str
    owner_name: str
    product: str
    name: str
    unit: str
    measure: str
    per_unit: int
    currency: str
    now: PointBody
    lots: list[LotBody]


class PoolList(BaseModel):
    """A part of the pools, by owner and product, and how many there are of those asked for."""

    total: int
    rows: list[PoolBody]


class TimelineBody(BaseModel):
    """A pool from a year back to a year ahead."""

    owner: str
    product: str
    today: date
    points: list[PointBody]


class OptionBody(BaseModel):
    """A way out: money a month, people touched, what stays short, and its changes for a draft."""

    key: str
    name: str
    says: str
    cost: str
    currency: str
    people: int
    still_short: int
    changes: list[Change]


class PlanBody(BaseModel):
    """The ways out of a shortfall on a day."""

    owner: str
    product: str
    day: date
    short: int
    options: list[OptionBody]
    planned: int
    """How much of it comes of allocations that begin until then (grains)."""
    ending_cost: str
    """What the lots that end the day before cost a month."""


class GivesBody(BaseModel):
    """An account below: what counts there and is used of it, and what it would have to give by either way (null = no
    way)."""

    account: str
    name: str
    counted: int
    used: int
    to_one_level: int | None
    where_least_used: int | None


class RenewalBody(BaseModel):
    """What a purchase would leave uncovered on its first day, and whom that would touch."""

    short: int
    gives: list[GivesBody]


class CalendarState(BaseModel):
    """Whether one has a calendar address."""

    made: bool


class CalendarAddress(BaseModel):
    """A calendar's secret path; it is shown once."""

    path: str


def _point(point: Point) -> PointBody:
    return PointBody(
        day=point.day,
        supply=point.supply,
        promisable=point.promisable,
        promised=point.promised,
        used=point.used,
        short=point.short,
    )


def _lots(pool: Pool) -> list[LotBody]:
    return [
        LotBody(
            reference=lot.reference,
            quantity=lot.quantity,
            first_day=lot.first_day,
            last_day=lot.last_day,
            unit_cost=f"{lot.unit_cost.normalize():f}",
            true_up=lot.true_up,
            overcommit=lot.overcommit,
        )
        for lot in pool.lots
    ]


@routes.get("", response_model=PoolList)
def pools(
    db: Db,
    who: Who,
    find: str = Query("", max_length=100),
    product: str | None = Query(None, max_length=64),
    owner: str | None = Query(None, max_length=64),
    offset: int = Query(0, ge=0, le=1_000_000),
    limit: int = Query(100, ge=1, le=200),
) -> Any:
    """A part of the pools that accounts of one's branch own: those with these words, of a product, of an owner."""
    sought = usecases.PoolsSought(find, product, owner)
    total, found = db.snapshot(usecases.pools, who, sought, offset, limit)
    rows = [
        PoolBody(
            owner=code,
            owner_name=name,
            product=pool.product.code,
            name=pool.product.name,
            unit=pool.product.unit,
            measure=pool.product.measure,
            per_unit=pool.product.per_unit,
            currency=pool.currency,
            now=_point(now),
            lots=_lots(pool),
        )
        for pool, code, name, now in found
    ]
    return PoolList(total=total, rows=rows)


@routes.get("/calendar", response_model=CalendarState)
def calendar_state(db: Db, who: Who) -> Any:
    """Whether there is a calendar address of one's own."""
    return CalendarState(made=db.run(calendars.has_calendar, who))


@routes.post("/calendar", response_model=CalendarAddress, status_code=201)
@answers_a_secret
def make_calendar(db: Db, who: Who) -> Any:
    """A new secret address; the one before stops working."""
    return CalendarAddress(path=f"{CALENDAR}/{db.run(calendars.make_calendar, who)}.ics")


@routes.delete("/calendar", status_code=204)
def drop_calendar(db: Db, who: Who) -> None:
    """The address stops working."""
    db.run(calendars.drop_calendar, who)


@routes.get("/{owner}/{product}/timeline", response_model=TimelineBody)
def timeline(owner: str, product: str, db: Db, who: Who, draft: int | None = None) -> Any:
    """One pool over time, with what a draft of one's own buys and ends of it from today on if one is named."""
    found = db.snapshot(usecases.timeline, who, owner, product, draft)
    return TimelineBody(owner=owner, product=product, today=found.today, points=[_point(each) for each in found.points])


@routes.get("/{owner}/{product}/plan", response_model=PlanBody)
def plan(owner: str, product: str, day: Day, db: Db, who: Who) -> Any:
    """The ways out of a shortfall on a day."""
    found = db.run(planning.plan, who, owner, product, day)
    return PlanBody(
        owner=owner,
        product=product,
        day=found.day,
        short=found.short,
        planned=found.planned,
        ending_cost=f"{found.ending_cost:f}",
        options=[
            OptionBody(
                key=o.key,
                name=o.name,
                says=o.says,
                cost=f"{o.cost:f}",
                currency=o.currency,
                people=o.people,
                still_short=o.still_short,
                changes=list(o.changes),
            )
            for o in found.options
        ],
    )


@routes.get("/{owner}/{product}/renewal", response_model=RenewalBody)
def renewal(owner: str, product: str, quantity: int, first_day: Day, db: Db, who: Who, true_up: int = 0) -> Any:
    """What a purchase would leave uncovered on its first day, and what each account below would have to give."""
    found = db.run(reducing.renewal, who, owner, product, quantity, true_up, first_day)
    return RenewalBody(
        short=found.short,
        gives=[
            GivesBody(
                account=g.account,
                name=g.name,
                counted=g.counted,
                used=g.used,
                to_one_level=g.to_one_level,
                where_least_used=g.where_least_used,
            )
            for g in found.gives
        ],
    )


@open_routes.get("/{token}.ics", response_class=Response)
def calendar(token: str, db: Db) -> Response:
    """Renewals and endings, for whoever knows the address."""
    return Response(db.run(calendars.calendar, token), media_type="text/calendar; charset=utf-8")


class InvoiceLineBody(BaseModel):
    """A line of an invoice (row null: a lot that none of them is for) against a lot."""

    row: int | None
    text: str
    lot: str | None
    product: str | None
    quantity: str | None
    expected_quantity: str | None
    amount: str | None
    expected: str | None
    currency: str
    state: Literal["fits", "differs", "twice", "missing", "unknown", "fault"]
    says: str


class InvoiceBody(BaseModel):
    """An invoice against what was bought; no lines where it is not known which column is what."""

    header: list[str]
    columns: dict[str, int]
    lines: list[InvoiceLineBody]


@invoice_routes.post("", response_model=InvoiceBody)
@reads_only
def hold_invoice(
    db: Db,
    who: Who,
    content: Annotated[bytes, Body(media_type="application/octet-stream")],
    owner: str = Query(max_length=64),
    month: str = Query(max_length=7),
    name: str = Query(min_length=1, max_length=200),
    vendor: str = Query("", max_length=200),
    reference: int | None = Query(None, ge=0, le=500),
    product: int | None = Query(None, ge=0, le=500),
    quantity: int | None = Query(None, ge=0, le=500),
    amount: int | None = Query(None, ge=0, le=500),
    currency: int | None = Query(None, ge=0, le=500),
) -> Any:
    """Hold a vendor's invoice (CSV or XLSX) against the lots of a month (YYYY-MM); keeps nothing."""
    given = {
        "reference": reference,
        "product": product,
        "quantity": quantity,
        "amount": amount,
        "currency": currency,
    }
    columns = {what: place for what, place in given.items() if place is not None}
    found = db.snapshot(invoices.hold, who, owner, month, vendor, table_of(name, content), columns)

    def text(quantity: Decimal | None) -> str | None:
        return None if quantity is None else plain(quantity)

    return InvoiceBody(
        header=found.header,
        columns=found.columns,
        lines=[
            InvoiceLineBody(
                row=each.row,
                text=each.text,
                lot=each.lot,
                product=each.product,
                quantity=text(each.quantity),
                expected_quantity=text(each.expected_quantity),
                amount=None if each.amount is None else f"{each.amount:f}",
                expected=None if each.expected is None else f"{each.expected:f}",
                currency=each.currency,
                state=each.state,  # type: ignore[arg-type]
                says=each.says,
            )
            for each in found.lines
        ],
    )
