"""What a running month may come to for a buyer."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.allocations import service as allocations
from fair_ladle.app.allocations.rows import VersionRecord
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.statements.billing import BillingPeriod, parse_month
from fair_ladle.app.statements.ledger import Ledger
from fair_ladle.app.statements.rate_cards import decimals_of
from fair_ladle.core.allocations import AtCap
from fair_ladle.core.calendar import Day, days_of, month_before
from fair_ladle.core.forecasting import DayAhead, Range, days_ahead, range_of, starts
from fair_ladle.core.pricing import BuyerDay, Rate, charge, summed

NOTHING = (Decimal(0), Decimal(0))
MONTHS_BEFORE = 3
"""Months before of which days are looked at."""


@dataclass(frozen=True)
class Forecast:
    """A buyer's running month in one currency, with tax, and (``net``) before it: what it comes to so far, and what it
    may come to."""

    currency: str
    so_far: Decimal
    range: Range
    net_so_far: Decimal
    net: Range
    days_read: int
    days: int


@dataclass(frozen=True)
class _Product:
    """A product of a buyer as a forecast needs it: its price, its days (those before the month too) and those ahead."""

    code: str
    rate: Rate
    currency: str
    per_unit: int
    history: list[BuyerDay]
    read: int
    """The last so many of them are the month's own."""
    ahead: list[DayAhead]


class _Scenario(Ledger):
    """A buyer's statements with the month's usage as it would be."""

    assumed: tuple[BillingPeriod, list[tuple[str, Decimal, str]]] | None = None
    """A month, and what is charged in it for each product (code, amount, currency)."""

    def usage(self, period: BillingPeriod, buyer: str) -> list[tuple[str, Decimal, str]]:
        """What is assumed of its month, and of others what is."""
        if self.assumed is not None and self.assumed[0] is period:
            return self.assumed[1]
        return super().usage(period, buyer)

    def totals(self, seller: str, buyer: str, first: date) -> dict[str, tuple[Decimal, Decimal]]:
        """By currency, what a month comes to with tax and before it."""
        return {each.currency: (each.total, each.composed.net) for each in self._composed(seller, buyer, first)}


def forecasts(tx: Transaction, actor: Actor, buyer: str, month: str) -> list[Forecast]:
    """A buyer's running month by currency, for whoever runs the buyer or an account above it; nothing where the month
    is not running. Markups stay at what they are so far."""
    first, last = parse_month(month)
    today = accounts_service.today(tx)
    accounts_service.row_in_scope(accounts_service.known(tx), actor, buyer)
    return forecast(tx, buyer, first, last) if first <= today <= last else []


def forecast(tx: Transaction, buyer: str, first: date, last: date) -> list[Forecast]:
    """The same. Trusted: the caller has judged scope."""
    ledger = _Scenario(tx, [buyer])
    period = ledger.period(first)
    seller = period.seller_of(buyer) if buyer in period.accounts.tree else None
    if seller is None or first in ledger.closed.get(seller, {}):
        return []
    days = days_of(first, last, accounts_service.zone(tx))
    read = len(period.month(period.products[0].code).days)
    ahead = days[read:]
    products, usage = _products(tx, ledger, period, buyer, ahead), ledger.usage(period, buyer)
    now = ledger.totals(seller, buyer, first)
    moving = {each.code for each in products}
    still = [each for each in usage if each[0] not in moving]
    found: dict[str, list[tuple[Decimal, Decimal]]] = {currency: [] for currency in now}
    common = min((len(each.history) for each in products), default=0)
    for start in starts(common, len(ahead)):
        amounts = list(still)
        for each in products:
            first_start = len(each.history) - common
            assumed = each.history[len(each.history) - each.read :]
            assumed = assumed + days_ahead(each.history, first_start + start, each.ahead)
            if each.rate.charges_anyway or any(day.counts for day in assumed):
                together = summed(each.rate, assumed, each.per_unit)
                charged = charge(each.rate, together, decimals_of(each.currency), len(days))
                amounts.append((each.code, charged.amount, each.currency))
        ledger.assumed = (period, amounts)
        for currency, total in ledger.totals(seller, buyer, first).items():
            found.setdefault(currency, []).append(total)
    return [
        Forecast(
            currency,
            now.get(currency, NOTHING)[0],
            range_of([total for total, _ in totals]),
            now.get(currency, NOTHING)[1],
            range_of([net for _, net in totals]),
            read,
            len(days),
        )
        for currency, totals in sorted(found.items())
        if totals
    ]


def _products(
    tx: Transaction, ledger: Ledger, period: BillingPeriod, buyer: str, ahead: Sequence[Day]
) -> list[_Product]:
    months = [period.first]
    for _ in range(MONTHS_BEFORE):
        months.append(month_before(months[-1]))
    earlier = [ledger.period(each) for each in reversed(months[1:])]
    allocated: dict[int, list[VersionRecord]] = defaultdict(list)
    if ahead:
        ids = [product.id for product in period.products]
        account_id = int(period.accounts.ids[period.accounts.tree.row(buyer)])
        for version in allocations.versions_between(tx, ids, ahead[0].date, ahead[-1].date, account_id):
            allocated[version.product_id].append(version)
    found = []
    for product in period.products:
        rate = period.rate(buyer, product.code)
        if rate is None or rate.markup is not None:
            continue
        mine = period.month(product.code).buyer_days(buyer, anyway=True)
        if mine is None:  # a pool of its own
            continue
        before = [
            day
            for each in earlier
            if buyer in each.accounts.tree
            for day in each.month(product.code).buyer_days(buyer, anyway=True) or []
        ]
        if not period.month(product.code).is_charged(buyer):
            allocated.pop(product.id, None)
        history = before + mine
        if not history or not (allocated[product.id] or any(day.counts for day in history)):
            continue
        found.append(
            _Product(
                product.code,
                rate,
                period.rate_cards.currency(rate),
                product.per_unit,
                history,
                len(mine),
                [_planned(allocated[product.id], day, history[-1]) for day in ahead],
            )
        )
    return found


def _planned(versions: Sequence[VersionRecord], day: Day, last: BuyerDay) -> DayAhead:
    """What is allocated on a day to come; a cap that follows seats is what it was on the last day that is read."""
    for each in versions:
        if each.first_day <= day.date and (each.last_day is None or day.date <= each.last_day):
            cap = each.cap if AtCap(each.at_cap) is AtCap.OVERAGE else None
            if cap is not None and each.per is not None:
                cap = None if last.overage_cap is None else last.overage_cap // last.seconds
            return DayAhead(day.seconds, each.reserve, cap, True)
    return DayAhead(day.seconds, 0, None, False)
