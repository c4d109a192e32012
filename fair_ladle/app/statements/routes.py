"""Statements over HTTP. Amounts and quantities are decimals, as text."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from decimal import Decimal
from typing import Annotated, Any

from fastapi import Query, Response
from pydantic import Field

from fair_ladle.app.plumbing.days import Day
from fair_ladle.app.plumbing.exports import Format, sheet
from fair_ladle.app.plumbing.http import Db, Who, attachment
from fair_ladle.app.plumbing.routing import Router
from fair_ladle.app.statements import adjustments, buyers, forecasts, views
from fair_ladle.app.statements.documents import as_pdf, documents
from fair_ladle.app.statements.schemas import (
    AdjustedBody,
    AdjustmentBody,
    Buyer,
    Buyers,
    BuyersSum,
    BuyersSummary,
    ClosedMonth,
    EvidenceBody,
    EvidenceRow,
    ForecastBody,
    Gone,
    LaterKnownBody,
    LineDay,
    LinePart,
    MoreBody,
    OtherRow,
    RateUsed,
    SheetBody,
    StatementBody,
    StatementLine,
    TierBody,
)
from fair_ladle.app.statements.sheets import COLUMNS, table
from fair_ladle.connectors.sheets_out import Totals
from fair_ladle.core.quantities import plain

routes = Router("/api/statements", "statements", sees="statements.see", changes="statements.see")
sums_routes = Router("/api/statement-sums", "statements", sees="statements.see", changes="statements.see")


def _text(amount: Decimal | None) -> str | None:
    return None if amount is None else f"{amount:f}"


def _amount(amount: Decimal) -> str:
    return f"{amount:f}"


def _buyer(row: buyers.BuyerRow) -> Buyer:
    return Buyer(
        seller=row.seller,
        seller_name=row.seller_name,
        buyer=row.buyer,
        name=row.name,
        kind=row.kind,
        amount=_amount(row.amount),
        before=_amount(row.before),
        cost=_text(row.cost),
        currency=row.currency,
        unpriced=row.unpriced,
        number=row.number,
        of=_amount(row.of),
    )


Find = Annotated[str, Query(max_length=200)]


@routes.get("", response_model=Buyers)
def list_buyers(
    db: Db,
    who: Who,
    month: str,
    find: Find = "",
    sort: buyers.Sort | None = None,
    down: bool = False,
    offset: int = Query(0, ge=0),
    limit: int = Query(100, ge=0, le=500),
) -> Any:
    """Buyers of one's branch for a month (YYYY-MM), by tree or in another order."""
    rows = buyers.in_order(buyers.found(db.snapshot(buyers.overview, who, month), find), sort, down)
    return Buyers(total=len(rows), rows=[_buyer(row) for row in rows[offset : offset + limit]])


@sums_routes.get("", response_model=BuyersSummary)
def summary(db: Db, who: Who, month: str, find: Find = "") -> Any:
    """How far a month is, and what its buyers (or those found) come to together."""
    every = db.snapshot(buyers.overview, who, month)
    closed, rows = every.closed, every.buyers
    return BuyersSummary(
        month=month,
        days=(every.last - every.first).days + 1,
        days_read=every.days_read,
        closed=None
        if closed is None
        else ClosedMonth(at=closed.closed_at.isoformat(), by=closed.closed_by, reason=closed.reason),
        buyers=len(rows),
        sells=any(row.seller == every.own for row in rows),
        sellers=len({row.seller for row in rows}),
        numbered=any(row.number is not None for row in rows),
        costed=any(row.cost is not None for row in rows),
        currencies=sorted({row.currency for row in rows if row.currency}),
        sums=[
            BuyersSum(
                currency=each.currency,
                buyers=each.buyers,
                amount=_amount(each.amount),
                before=_amount(each.before),
                cost=_amount(each.cost),
                costed=_amount(each.costed),
            )
            for each in buyers.sums(every, buyers.found(every, find))
        ],
    )


@routes.get("/export", response_class=Response)
def export_buyers(
    db: Db,
    who: Who,
    form: Format,
    month: str,
    find: Find = "",
    sort: buyers.Sort | None = None,
    down: bool = False,
) -> Response:
    """Buyers for a month, as a file."""

    def rows() -> Iterator[list[Any]]:
        found = buyers.found(db.snapshot(buyers.overview, who, month), find)
        for row in buyers.in_order(found, sort, down):
            yield [
                row.seller,
                row.seller_name,
                row.buyer,
                row.name,
                row.amount,
                row.before,
                row.cost,
                row.margin,
                row.currency,
                row.number,
            ]

    columns = [
        "seller",
        "seller_name",
        "buyer",
        "name",
        "amount",
        "month_before",
        "cost",
        "margin",
        "currency",
        "number",
    ]
    totals = Totals(("amount", "month_before", "cost", "margin"), "currency")
    return sheet(f"statements-{month}", form, columns, rows(), totals)


def statement_body(found: views.StatementView, month: str) -> StatementBody:
    """A buyer's statements as an answer."""
    period, accounts = found.period, found.period.accounts

    def name(code: str) -> str:
        return accounts.name(accounts.tree.row(code)) if code in accounts.tree else code

    read = period.month(period.products[0].code)
    return StatementBody(
        seller=found.seller,
        seller_name=name(period.seller_of(found.buyer) or ""),
        buyer=found.buyer,
        name=name(found.buyer),
        month=month,
        days=period.days,
        days_read=len(read.days),
        hours_read=read.seconds // 3600,
        sheets=[_sheet(each, found, name) for each in found.sheets],
        unpriced=[each.name for each in found.unpriced],
        costs_wait=found.costs_wait,
        notes=found.notes,
    )


def _sheet(sheet: views.SheetView, found: views.StatementView, name: Callable[[str], str]) -> SheetBody:
    statement, before = sheet.statement, sheet.before
    costs = [each.cost for each in sheet.lines]
    known = [each for each in costs if each is not None]
    groups = views.groups(statement)
    groups_before = views.groups(before) if before else {}

    def differs(group: str) -> str:
        return f"{groups.get(group, Decimal(0)) - groups_before.get(group, Decimal(0)):f}"

    def summed(amounts: Iterable[Decimal]) -> str:
        return f"{sum(amounts, Decimal(0)):f}"

    return SheetBody(
        currency=statement.currency,
        number=statement.number,
        net=f"{statement.composed.net:f}",
        total=f"{statement.total:f}",
        before=f"{before.total if before else Decimal(0):f}",
        by_use=summed(each.by_use for each in sheet.lines if each.before is not None),
        by_price=summed(each.by_price for each in sheet.lines if each.before is not None),
        by_new=summed(each.line.charge.amount for each in sheet.lines if each.before is None),
        by_ended=summed(-each.charge.amount for each in sheet.gone),
        by_charges=differs("charges"),
        by_discounts=differs("discounts and credits"),
        by_adjustments=differs("adjustments"),
        by_tax=differs("taxes"),
        cost=summed(known) if found.sees_cost and len(known) == len(costs) else None,
        lines=[_line(each, found, name) for each in sheet.lines],
        others=[
            OtherRow(
                kind=each.kind,
                reference=each.reference,
                says=each.says,
                quantity=None if each.quantity is None else plain(each.quantity),
                unit_price=None if each.unit_price is None else plain(each.unit_price),
                base=_text(each.base),
                amount=f"{each.amount:f}",
            )
            for each in views.others(statement, {product.code: product.name for product in found.period.products})
        ],
        gone=[Gone(product_name=each.product.name, amount=f"{each.charge.amount:f}") for each in sheet.gone],
    )


def _line(each: views.LineView, found: views.StatementView, name: Callable[[str], str]) -> StatementLine:
    line, charge, rate = each.line, each.line.charge, each.line.rate
    return StatementLine(
        product=line.product.code,
        product_name=line.product.name,
        vendor=line.product.vendor,
        unit=line.product.unit,
        measure=line.product.measure,
        currency=line.currency,
        rate=RateUsed(
            seller=found.seller,
            buyer=rate.buyer,
            first_day=rate.first_day.isoformat(),
            basis=rate.basis,
            aggregate=rate.aggregate,
            tier_mode=rate.tier_mode,
            overage_price=None if rate.overage_price is None else plain(rate.overage_price),
            minimum=None if rate.minimum is None else plain(rate.minimum),
            is_markup=rate.markup is not None,
            markup=plain(rate.markup) if rate.markup is not None and found.sees_cost else None,
        ),
        quantity=f"{charge.quantity:f}",
        overage_quantity=f"{charge.overage_quantity:f}",
        included=plain(charge.included),
        committed=None if charge.committed is None else plain(charge.committed),
        chargeable=f"{charge.chargeable:f}",
        tiers=[
            TierBody(
                from_quantity=plain(tier.from_quantity),
                quantity=f"{tier.quantity:f}",
                unit_price=plain(tier.unit_price),
                amount=plain(tier.amount),
            )
            for tier in charge.slices
        ],
        overage_amount=plain(charge.overage_amount),
        minimum_applied=charge.minimum_applied,
        fixed_fee=plain(charge.fixed_fee),
        fee_days=charge.fee_days,
        period_days=charge.period_days,
        bought_for=plain(charge.cost) if charge.cost is not None and found.sees_cost else None,
        amount=f"{charge.amount:f}",
        before=_text(each.before),
        by_use=f"{each.by_use:f}",
        by_price=f"{each.by_price:f}",
        cost=_text(each.cost),
        parts=[
            LinePart(
                account=part.account,
                name=name(part.account),
                quantity=f"{part.quantity:f}",
                amount=f"{part.amount:f}",
            )
            for part in line.shares
        ],
        days=[
            LineDay(
                day=day.day.isoformat(),
                hours=day.hours,
                used=day.used,
                load=day.load,
                held=day.held,
                reserve=day.reserve,
                cap=day.cap,
            )
            for day in each.days
        ],
    )


@routes.get("/{buyer}", response_model=StatementBody)
def statement(
    db: Db,
    who: Who,
    buyer: str,
    month: str,
    costs: bool = True,
    against: str | None = Query(None, max_length=7),
    wait: bool = True,
) -> Any:
    """One buyer's statement for a month, with every step and every day, beside another month (``against``; the one
    before, if not said); without ``costs`` not what it cost the seller. That takes the whole of its pools: without
    ``wait`` it is left out, and ``costs_wait`` said, where it is not kept."""
    return db.snapshot(
        lambda tx: statement_body(views.statement_view(tx, who, buyer, month, costs, against, wait), month)
    )


@routes.get("/{buyer}/export", response_class=Response)
def export_statement(db: Db, who: Who, form: Format, buyer: str, month: str) -> Response:
    """One buyer's statement, lines and their parts, as a file."""
    rows = db.snapshot(table, who, buyer, month)
    return sheet(f"statement-{buyer}-{month}", form, COLUMNS, rows, Totals(("amount",), "currency", "account"))


@routes.get("/{buyer}/forecast", response_model=list[ForecastBody])
def statement_forecast(db: Db, who: Who, buyer: str, month: str) -> Any:
    """What a buyer's running month may come to, by currency; nothing of a month that is not running."""
    return [
        ForecastBody(
            currency=each.currency,
            so_far=f"{each.so_far:f}",
            low=f"{each.range.low:f}",
            likely=f"{each.range.likely:f}",
            high=f"{each.range.high:f}",
            days_read=each.days_read,
            days=each.days,
        )
        for each in db.snapshot(forecasts.forecasts, who, buyer, month)
    ]


@routes.get("/{buyer}/adjustment", response_model=AdjustmentBody)
def adjustment(
    db: Db,
    who: Who,
    buyer: str,
    month: str,
    reference: Annotated[str, Query(max_length=200)],
    currency: Annotated[str, Query(max_length=3)],
) -> Any:
    """What stands behind an adjustment on a buyer's statement of a month (YYYY-MM); ``reference`` as the row has it."""
    found = db.snapshot(adjustments.adjustment, who, buyer, month, reference, currency)
    product = found.product
    return AdjustmentBody(
        month=f"{found.month:%Y-%m}",
        number=found.number,
        charged=f"{found.charged:f}",
        before=[
            AdjustedBody(month=f"{each.month:%Y-%m}", number=each.number, amount=f"{each.amount:f}")
            for each in found.before
        ],
        amount=f"{found.amount:f}",
        product=None if product is None else product.code,
        product_name=None if product is None else product.name,
        unit=None if product is None else product.unit,
        measure=None if product is None else product.measure,
        basis=found.basis,
        days=[LaterKnownBody(day=each.day.isoformat(), was=each.was, now=each.now) for each in found.days],
    )


@routes.get("/{buyer}/json", response_class=Response)
def statement_as_json(db: Db, who: Who, buyer: str, month: str) -> Response:
    """One buyer's statement with every step and day, as a file."""
    body = db.snapshot(lambda tx: statement_body(views.statement_view(tx, who, buyer, month), month))
    named = attachment(f"statement-{buyer}-{month}.json")
    return Response(body.model_dump_json(indent=1), media_type="application/json", headers=named)


@routes.get("/{buyer}/pdf", response_class=Response)
def statement_as_pdf(db: Db, who: Who, buyer: str, month: str) -> Response:
    """One buyer's statements for a month as a document to print or send."""
    content = as_pdf(db.snapshot(documents, who, buyer, month))
    return Response(content, media_type="application/pdf", headers=attachment(f"statement-{buyer}-{month}.pdf"))


@routes.get("/{buyer}/{product}/more", response_model=list[MoreBody])
def with_more(
    db: Db,
    who: Who,
    buyer: str,
    product: str,
    month: str,
    units: Annotated[list[Annotated[int, Field(ge=-1_000_000, le=1_000_000)]], Query(min_length=1, max_length=5)],
) -> Any:
    """What so many units more (below 0: fewer) of a product would do to a buyer's statement of a month; nothing where
    its line is at a markup."""
    return [
        MoreBody(units=each.units, currency=each.currency, line=f"{each.line:f}", total=f"{each.total:f}")
        for each in db.snapshot(views.with_more, who, buyer, month, product, units)
    ]


@routes.get("/{buyer}/{product}/evidence", response_model=EvidenceBody)
def evidence(db: Db, who: Who, buyer: str, product: str, day: Day) -> Any:
    """The assignments or samples behind a day of a line."""
    found = db.snapshot(views.evidence, who, buyer, product, day)
    return EvidenceBody(
        product=found.product.code,
        measure=found.product.measure,
        begin=found.begin.isoformat(),
        end=found.end.isoformat(),
        rows=[
            EvidenceRow(
                account=row["account"],
                account_name=row["account_name"],
                what=row["what"],
                name=row["name"],
                whose=row["whose"],
                begins=row["from"],
                ends=row["to"],
                figure=row["figure"],
            )
            for row in found.rows
        ],
        more=found.more,
    )
