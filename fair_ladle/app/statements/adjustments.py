"""What stands behind an adjustment: what was charged for a closed month, what has been adjusted of it since, and the
days of which facts became known later."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from decimal import Decimal

from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import not_found
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.statements.billing import parse_month
from fair_ladle.app.statements.ledger import Ledger, Statement
from fair_ladle.app.statements.lines import LineDay
from fair_ladle.app.statements.usecases import statements
from fair_ladle.core.pricing import Basis
from fair_ladle.core.statement_lines import Kind


@dataclass(frozen=True)
class Adjusted:
    """What a statement adjusted."""

    month: date
    number: str | None
    amount: Decimal


@dataclass(frozen=True)
class LaterKnown:
    """A day as it was charged, and as it is known today, in units; None where nothing was charged for it."""

    day: date
    was: str | None
    now: str


@dataclass(frozen=True)
class Adjustment:
    """An adjustment of a closed month: what was charged there (by the statement with ``number``), what earlier
    statements adjusted, and what this one does. Of a usage line also its product, and the days that differ today."""

    month: date
    number: str | None
    charged: Decimal
    before: list[Adjusted]
    amount: Decimal
    product: Product | None
    basis: Basis | None
    days: list[LaterKnown]


def adjustment(tx: Transaction, actor: Actor, buyer: str, month: str, reference: str, currency: str) -> Adjustment:
    """An adjustment on a buyer's statement of a month, for whoever may see that statement."""
    ledger, found = statements(tx, actor, buyer, month)
    statement = next((each for each in found if each.currency == currency and _adjusts(each, reference)), None)
    if statement is None:
        raise not_found("adjustment", reference)
    of_month, kind, what = reference.split(":", 2)
    first = parse_month(of_month)[0]
    closed = next((e for e in ledger.of_seller(statement.seller, buyer, first) if e.currency == currency), None)
    before = [
        Adjusted(each.first, each.number, amount)
        for each in ledger.adjusting(statement.seller, buyer, first, statement.first)
        if each.currency == currency and (amount := _amount(each, Kind.ADJUSTMENT, reference))
    ]
    product = pools_service.product(tx, what) if kind == Kind.USAGE else None
    basis, days = (None, []) if product is None else _days(ledger, closed, buyer, first, product)
    return Adjustment(
        first,
        None if closed is None else closed.number,
        Decimal(0) if closed is None else _amount(closed, Kind(kind), what),
        before,
        _amount(statement, Kind.ADJUSTMENT, reference),
        product,
        basis,
        days,
    )


def _adjusts(statement: Statement, reference: str) -> bool:
    return any(each.kind is Kind.ADJUSTMENT and each.reference == reference for each in statement.composed.owed)


def _amount(statement: Statement, kind: Kind, reference: str) -> Decimal:
    return sum(
        (
            sum(by_percent.values(), Decimal(0))
            for of, name, by_percent in statement.amounts()
            if (of, name) == (kind, reference)
        ),
        Decimal(0),
    )


def _days(
    ledger: Ledger, closed: Statement | None, buyer: str, first: date, product: Product
) -> tuple[Basis | None, list[LaterKnown]]:
    """By what a line was charged, and its days that are others today than they were charged."""
    line = next((each for each in closed.lines if each.product.code == product.code), None) if closed else None
    period = ledger.period(first)
    rate = line.rate if line is not None else period.rate(buyer, product.code)
    if rate is None or buyer not in period.accounts.tree:
        return None, []

    def figure(day: LineDay) -> str:
        return {Basis.USED: day.used, Basis.HELD: day.held, Basis.RESERVED: day.reserve}[rate.basis]

    was = {each.day: figure(each) for each in line.days} if line is not None else {}
    now = [(each.day, figure(each)) for each in period.days_of(buyer, product.code)]
    return rate.basis, [LaterKnown(day, was.get(day), known) for day, known in now if was.get(day) != known]
