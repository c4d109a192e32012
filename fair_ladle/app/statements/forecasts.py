"""What a running month may come to for a buyer."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from decimal import Decimal

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.statements.billing import BillingPeriod, parse_month
from fair_ladle.app.statements.ledger import Ledger
from fair_ladle.app.statements.rate_cards import decimals_of
from fair_ladle.core.calendar import days_of, month_before
from fair_ladle.core.forecasting import Range, days_ahead, range_of, starts
from fair_ladle.core.pricing import BuyerDay, Rate, charge

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
    """A product of a buyer as a forecast needs it: its price, and its days, those before the month too."""

    code: str
    rate: Rate
    currency: str
    per_unit: int
    history: list[BuyerDay]
    read: int
    """The last so many of them are the month's own."""


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
    lengths = [day.seconds for day in days_of(first, last, accounts_service.zone(tx))]
    read = len(period.month(period.products[0].code).days)
    ahead = lengths[read:]
    products, usage = _products(ledger, period, buyer), ledger.usage(period, buyer)
    now = ledger.totals(seller, buyer, first)
    moving = {each.code for each in products}
    still = [each for each in usage if each[0] not in moving]
    found: dict[str, list[tuple[Decimal, Decimal]]] = {currency: [] for currency in now}
    common = min((len(each.history) for each in products), default=0)
    for start in starts(common, len(ahead)):
        amounts = list(still)
        for each in products:
            first_start = len(each.history) - common
            days = each.history[len(each.history) - each.read :]
            days = days + days_ahead(each.history, first_start + start, ahead)
            if each.rate.charges_anyway or any(day.counts for day in days):
                charged = charge(each.rate, days, each.per_unit, decimals_of(each.currency), len(lengths))
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
            len(lengths),
        )
        for currency, totals in sorted(found.items())
        if totals
    ]


def _products(ledger: Ledger, period: BillingPeriod, buyer: str) -> list[_Product]:
    months = [period.first]
    for _ in range(MONTHS_BEFORE):
        months.append(month_before(months[-1]))
    earlier = [ledger.period(each) for each in reversed(months[1:])]
    found = []
    for product in period.products:
        rate = period.rate(buyer, product.code)
        if rate is None or rate.markup is not None:
            continue
        mine = period.month(product.code).buyer_days(buyer, rate.charges_anyway)
        before = [
            day
            for each in earlier
            if buyer in each.accounts.tree
            for day in each.month(product.code).buyer_days(buyer, anyway=True) or []
        ]
        history = before + (mine or [])
        if not any(day.counts for day in history):
            continue
        found.append(
            _Product(
                product.code,
                rate,
                period.rate_cards.currency(rate),
                product.per_unit,
                history,
                len(mine or []),
            )
        )
    return found
