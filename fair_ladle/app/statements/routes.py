"""Statements over HTTP. Amounts and quantities are decimals, as text."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

from fastapi import Response
from pydantic import BaseModel

from fair_ladle.app.plumbing.days import Day
from fair_ladle.app.plumbing.http import Db, Format, Who, sheet
from fair_ladle.app.plumbing.routing import Router
from fair_ladle.app.statements import views
from fair_ladle.core.quantities import plain

routes = Router("/api/statements", "statements", sees="statements.see", changes="statements.see")


class Buyer(BaseModel):
    """One buyer's month; cost and margin null for whom they are none of the business."""

    seller: str
    buyer: str
    name: str
    kind: str
    amount: str
    before: str
    cost: str | None
    currency: str
    unpriced: int


class Buyers(BaseModel):
    """All buyers of a month and how many of its days are read."""

    month: str
    days: int
    days_read: int
    buyers: list[Buyer]


class TierBody(BaseModel):
    """A part of the quantity at its price."""

    from_quantity: str
    quantity: str
    unit_price: str
    amount: str


class PartBody(BaseModel):
    """A department's part of a line."""

    account: str
    name: str
    quantity: str
    amount: str


class LineDay(BaseModel):
    """A day of a line: averages over the day, in units."""

    day: str
    hours: int
    used: str
    load: str
    held: str
    reserve: str
    cap: str | None


class RateUsed(BaseModel):
    """The rate a line is priced with."""

    seller: str
    buyer: str | None
    first_day: str
    basis: str
    aggregate: str
    tier_mode: str
    overage_price: str | None
    minimum: str | None


class StatementLine(BaseModel):
    """A line and how it came about, step by step."""

    product: str
    product_name: str
    unit: str
    measure: str
    currency: str
    rate: RateUsed
    quantity: str
    overage_quantity: str
    included: str
    chargeable: str
    tiers: list[TierBody]
    overage_amount: str
    minimum_applied: bool
    fixed_fee: str
    amount: str
    before: str
    by_use: str
    by_price: str
    cost: str | None
    parts: list[PartBody]
    days: list[LineDay]


class Gone(BaseModel):
    """A line the month before had and this one has not."""

    product_name: str
    amount: str


class StatementBody(BaseModel):
    """One buyer's month."""

    seller: str
    seller_name: str | None
    buyer: str
    name: str
    month: str
    days: int
    days_read: int
    hours_read: int
    currency: str
    total: str
    before: str
    by_use: str
    by_price: str
    cost: str | None
    lines: list[StatementLine]
    gone: list[Gone]
    unpriced: list[str]
    notes: list[str]


class EvidenceRow(BaseModel):
    """An assignment (figure: seconds in use that day) or a sample (figure: bytes)."""

    account: str
    account_name: str
    what: str
    begins: str
    ends: str | None
    figure: str


class EvidenceBody(BaseModel):
    """What stands behind a day."""

    product: str
    measure: str
    begin: str
    end: str
    rows: list[EvidenceRow]
    more: bool


def _text(amount: Decimal | None) -> str | None:
    return None if amount is None else f"{amount:f}"


def _buyers(found: views.Overview, month: str) -> Buyers:
    return Buyers(
        month=month,
        days=(found.last - found.first).days + 1,
        days_read=found.days_read,
        buyers=[
            Buyer(
                seller=each.seller,
                buyer=each.buyer,
                name=each.name,
                kind=each.kind,
                amount=f"{each.amount:f}",
                before=f"{each.before:f}",
                cost=_text(each.cost),
                currency=each.currency,
                unpriced=each.unpriced,
            )
            for each in found.buyers
        ],
    )


@routes.get("", response_model=Buyers)
def buyers(db: Db, who: Who, month: str) -> Any:
    """All buyers of one's branch for a month (YYYY-MM)."""
    return _buyers(db.snapshot(views.overview, who, month), month)


@routes.get("/export", response_class=Response)
def export_buyers(db: Db, who: Who, month: str, form: Format = "csv") -> Response:
    """All buyers for a month, as a file."""
    rows: list[list[Any]] = []
    for each in _buyers(db.snapshot(views.overview, who, month), month).buyers:
        cost = None if each.cost is None else Decimal(each.cost)
        amount = Decimal(each.amount)
        rows.append(
            [
                each.seller,
                each.buyer,
                each.name,
                amount,
                Decimal(each.before),
                cost,
                None if cost is None else amount - cost,
                each.currency,
            ]
        )
    columns = ["seller", "buyer", "name", "amount", "month_before", "cost", "margin", "currency"]
    return sheet(f"statements-{month}", form, columns, rows)


def statement_body(found: views.StatementView, month: str) -> StatementBody:
    """A statement as an answer."""
    period, statement = found.period, found.statement
    accounts = period.accounts

    def name(code: str) -> str:
        return accounts.name(accounts.tree.row(code)) if code in accounts.tree else code

    lines = []
    for each in found.lines:
        line, charge, rate = each.line, each.line.charge, each.line.rate
        lines.append(
            StatementLine(
                product=line.product.code,
                product_name=line.product.name,
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
                ),
                quantity=f"{charge.quantity:f}",
                overage_quantity=f"{charge.overage_quantity:f}",
                included=plain(charge.included),
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
                amount=f"{charge.amount:f}",
                before=f"{each.before:f}",
                by_use=f"{each.by_use:f}",
                by_price=f"{each.by_price:f}",
                cost=_text(each.cost),
                parts=[
                    PartBody(
                        account=part.account,
                        name=name(part.account),
                        quantity=f"{part.quantity:f}",
                        amount=f"{part.amount:f}",
                    )
                    for part in line.shares
                ],
                days=[LineDay(**day) for day in each.days],
            )
        )
    month_read = next(iter(period.months.values()))
    cost = (
        None
        if any(each.cost is None for each in found.lines)
        else sum((each.cost or Decimal(0) for each in found.lines), Decimal(0))
    )
    gone = sum((each.charge.amount for each in found.gone), Decimal(0))
    return StatementBody(
        seller=found.seller,
        seller_name=name(statement.seller),
        buyer=statement.buyer,
        name=name(statement.buyer),
        month=month,
        days=(statement.last - statement.first).days + 1,
        days_read=len(month_read.days),
        hours_read=month_read.seconds // 3600,
        currency=statement.lines[0].currency if statement.lines else "",
        total=f"{statement.total:f}",
        before=f"{found.total_before:f}",
        by_use=f"{sum((each.by_use for each in found.lines), Decimal(0)) - gone:f}",
        by_price=f"{sum((each.by_price for each in found.lines), Decimal(0)):f}",
        cost=_text(cost),
        lines=lines,
        gone=[Gone(product_name=each.product.name, amount=f"{each.charge.amount:f}") for each in found.gone],
        unpriced=[each.name for each in statement.unpriced],
        notes=found.notes,
    )


@routes.get("/{buyer}", response_model=StatementBody)
def statement(db: Db, who: Who, buyer: str, month: str, costs: bool = True) -> Any:
    """One buyer's statement for a month, with every step and every day; without ``costs`` not what it cost the
    seller, which takes the whole of its pools."""
    return db.snapshot(lambda tx: statement_body(views.statement_view(tx, who, buyer, month, costs), month))


@routes.get("/{buyer}/export", response_class=Response)
def export_statement(db: Db, who: Who, buyer: str, month: str, form: Format = "csv") -> Response:
    """One buyer's statement, lines and their parts, as a file."""
    body = db.snapshot(lambda tx: statement_body(views.statement_view(tx, who, buyer, month), month))
    rows: list[list[Any]] = []
    for line in body.lines:
        shared: list[Any] = [body.seller, body.buyer, line.product]
        rows.append(
            [
                *shared,
                None,
                line.rate.basis,
                Decimal(line.quantity),
                Decimal(line.overage_quantity),
                Decimal(line.amount),
                line.currency,
            ]
        )
        rows.extend(
            [*shared, part.account, line.rate.basis, Decimal(part.quantity), None, Decimal(part.amount), line.currency]
            for part in line.parts
        )
    columns = ["seller", "buyer", "product", "account", "basis", "quantity", "overage_quantity", "amount", "currency"]
    return sheet(f"statement-{buyer}-{month}", form, columns, rows)


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
                begins=row["from"],
                ends=row["to"],
                figure=row["figure"],
            )
            for row in found.rows
        ],
        more=found.more,
    )
