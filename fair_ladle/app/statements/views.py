"""What the statement screens ask: all buyers of a month, one statement day by day, and the evidence of a day."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime, timedelta
from decimal import Decimal
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import invalid, not_found
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.statements.billing import BillingPeriod, Line, Statement, parse_month
from fair_ladle.app.statements.totals import costs_of, product_totals
from fair_ladle.app.statements.usecases import may_see_cost
from fair_ladle.app.usage import service as usage
from fair_ladle.core.calendar import MICRO, day_start, instant, month_before, month_of
from fair_ladle.core.quantities import units_to_micro
from fair_ladle.core.settling import NO_LIMIT


@dataclass(frozen=True)
class BuyerRow:
    """One buyer's month at a glance; ``cost`` None where the actor may not see it or it is not known."""

    seller: str
    buyer: str
    name: str
    kind: str
    amount: Decimal
    before: Decimal
    cost: Decimal | None
    currency: str
    unpriced: int


@dataclass(frozen=True)
class Overview:
    """All buyers of a month, and how far the month is read."""

    first: date
    last: date
    days_read: int
    buyers: list[BuyerRow]


def overview(tx: Transaction, actor: Actor, month: str) -> Overview:
    """Every buyer of the actor's branch with its amount; departments that buy nothing by themselves are left out."""
    first, last = parse_month(month)
    accounts = accounts_service.on_day(tx, min(first, accounts_service.today(tx)))
    tree, top = accounts.tree, accounts_service.top_row(accounts, actor)
    products = pools_service.products(tx)
    first_before = month_before(first)
    now = [product_totals(tx, each, first, last) for each in products]
    before = [product_totals(tx, each, first_before, month_of(f"{first_before:%Y-%m}")[1]) for each in products]
    rows = []
    for row in tree.branch(top).tolist():
        buyer = tree.codes[row]
        mine = [each for each in now if buyer in each.amounts]
        unpriced = sum(buyer in each.unpriced for each in now)
        if row == 0 or not (mine or unpriced):
            continue
        seller = tree.codes[int(tree.parent[row])]
        costs = [each.costs[buyer] for each in mine] if top in tree.path_up(row)[1:] else [None]
        known = [cost for cost in costs if cost is not None]
        rows.append(
            BuyerRow(
                seller_as_seen(accounts, actor, seller),
                buyer,
                accounts.name(row),
                str(accounts.facts[row].kind),
                sum((each.amounts[buyer][0] for each in mine), Decimal(0)),
                sum((each.amounts[buyer][0] for each in before if buyer in each.amounts), Decimal(0)),
                sum(known, Decimal(0)) if len(known) == len(costs) else None,
                mine[0].amounts[buyer][1] if mine else "",
                unpriced,
            )
        )
    return Overview(first, last, now[0].days if now else 0, rows)


def seller_as_seen(accounts: Accounts, actor: Actor, seller: str) -> str:
    """A seller by its code, or, where it is the account above the actor's branch, by its name: nothing more of it is
    said."""
    if accounts_service.is_in_scope(accounts, actor, seller) or seller not in accounts.tree:
        return seller
    return accounts.name(accounts.tree.row(seller))


@dataclass(frozen=True)
class LineView:
    """A line with its month before, split into what more or less use and what prices did, and its days."""

    line: Line
    before: Decimal
    by_use: Decimal
    by_price: Decimal
    cost: Decimal | None
    days: list[dict[str, Any]]


@dataclass(frozen=True)
class StatementView:
    """One statement for a screen; ``seller`` is its code, for whoever sees the seller's branch, else its name."""

    seller: str
    statement: Statement
    period: BillingPeriod
    total_before: Decimal
    lines: list[LineView]
    gone: list[Line]
    """Lines of the month before that this month does not have."""
    notes: list[str]
    """What a reader has to know besides: days not charged, that it is the last statement."""


def statement_view(tx: Transaction, actor: Actor, buyer: str, month: str, costs: bool = True) -> StatementView:
    """One buyer's statement, line by line and day by day, beside the month before."""
    first, last = parse_month(month)
    period = BillingPeriod(tx, first, last, buyers=[buyer])
    row = accounts_service.row_in_scope(period.accounts, actor, buyer)
    if row == 0:
        raise invalid("The operator has no seller and so no statement.", "buyer")
    statement = period.statement(buyer)
    earlier = period.before(tx)
    lines_before = (
        {each.product.code: each for each in earlier.statement(buyer).lines} if buyer in earlier.accounts.tree else {}
    )
    shows_cost = costs and may_see_cost(period, actor, buyer)
    charged = [each.product for each in statement.lines]
    costs_by_product = costs_of(tx, charged, first, last, buyer) if shows_cost else {}
    lines = []
    for line in statement.lines:
        code = line.product.code
        before = lines_before.pop(code, None)
        was = before.charge.amount if before else Decimal(0)
        same_price = (
            period.repriced(buyer, code, before.rate)
            if before and before.currency == line.currency
            else line.charge.amount
        )
        lines.append(
            LineView(
                line,
                was,
                same_price - was,
                line.charge.amount - same_price,
                costs_by_product.get(code),
                _days(period, buyer, code),
            )
        )
    gone = list(lines_before.values())
    total_before = sum((each.before for each in lines), Decimal(0)) + sum(
        (each.charge.amount for each in gone), Decimal(0)
    )
    return StatementView(
        seller_as_seen(period.accounts, actor, statement.seller),
        statement,
        period,
        total_before,
        lines,
        gone,
        _notes(tx, period, row),
    )


def _notes(tx: Transaction, period: BillingPeriod, row: int) -> list[str]:
    """Days on which the buyer was suspended and is not charged, and whether it has been closed."""
    buyer, notes = period.accounts.tree.codes[row], []
    month = next(iter(period.months.values()), None)
    free = (
        0
        if month is None
        else sum(
            int((~segment.charged_days(segment.accounts.tree.row(buyer))).sum())
            for segment in month.segments
            if buyer in segment.accounts.tree
        )
    )
    if free:
        notes.append(f"Suspended on {free} {'day' if free == 1 else 'days'} that are not charged.")
    closed = accounts_service.closed_in(tx, period.accounts, row, period.first, period.last)
    if closed:
        notes.append(f"{period.accounts.name(row)} was closed after {closed:%-d %B %Y}: this is its last statement.")
    return notes


def _days(period: BillingPeriod, buyer: str, product: str) -> list[dict[str, Any]]:
    month = period.months[product]
    per_unit = month.product.per_unit
    days: list[dict[str, Any]] = []
    for segment in month.segments:
        row = segment.row(buyer)
        read = segment.readings
        for column, day in enumerate(read.days):

            def units(grain_seconds: Any, day: Any = day) -> str:
                return f"{units_to_micro(int(grain_seconds), day.seconds, per_unit):f}"

            if row is None:
                days.append(
                    {
                        "day": day.date.isoformat(),
                        "hours": day.seconds // 3600,
                        "used": "0",
                        "load": "0",
                        "held": "0",
                        "reserve": "0",
                        "cap": None,
                    }
                )
                continue
            cap = int(read.allocated.cap[row, column])
            days.append(
                {
                    "day": day.date.isoformat(),
                    "hours": day.seconds // 3600,
                    "used": units(read.used[row, column]),
                    "load": units(read.settled.load[row, column]),
                    "held": units(read.settled.held[row, column]),
                    "reserve": f"{units_to_micro(int(read.allocated.reserve[row, column]), 1, per_unit):f}",
                    "cap": None if cap >= NO_LIMIT else f"{units_to_micro(cap, 1, per_unit):f}",
                }
            )
    return days


MOST_EVIDENCE = 500


@dataclass(frozen=True)
class Evidence:
    """What stands behind a day of a line: assignments, or samples, of the buyer's branch."""

    product: pools_service.Product
    begin: datetime
    end: datetime
    rows: list[dict[str, Any]]
    more: bool


def evidence(tx: Transaction, actor: Actor, buyer: str, product: str, day: date) -> Evidence:
    """The assignments in use on a day with their hours of it, or the samples that count on it."""
    accounts = accounts_service.around(tx, day, [buyer])
    row = accounts_service.row_in_scope(accounts, actor, buyer)
    wanted = pools_service.product(tx, product)
    zone = accounts_service.zone(tx)
    begin = instant(day_start(day, zone) * MICRO)
    end = instant(day_start(day + timedelta(days=1), zone) * MICRO)
    if end > tx.now:
        raise not_found("reading of a day that has not ended,", day.isoformat())
    pools = pools_service.pools(tx, [wanted])
    owners = {pool.owner_id for pool in pools}
    tree = accounts.tree
    rows_here, outside = [], set()
    for each in tree.branch(row).tolist():
        nested = each != row and int(accounts.ids[each]) in owners
        if nested or int(tree.parent[each]) in outside:
            outside.add(each)
        else:
            rows_here.append(each)
    found = usage.evidence(tx, wanted, [int(accounts.ids[each]) for each in rows_here], begin, end, MOST_EVIDENCE + 1)
    more = len(found) > MOST_EVIDENCE
    rows = []
    for each in found[:MOST_EVIDENCE]:
        place = accounts.row_of_id[each.account_id]
        shared = {"account": tree.codes[place], "account_name": accounts.name(place)}
        if wanted.is_storage:
            rows.append(
                shared | {"what": each.category, "from": each.at.isoformat(), "to": None, "figure": str(each.bytes)}
            )
        else:
            used = min(each.ends or end, end) - max(each.begins, begin)
            rows.append(
                shared
                | {
                    "what": each.subject,
                    "from": each.begins.isoformat(),
                    "to": each.ends.isoformat() if each.ends else None,
                    "figure": str(int(used.total_seconds())),
                }
            )
    return Evidence(wanted, begin, end, rows, more)
