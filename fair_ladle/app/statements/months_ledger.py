"""What everybody's statements of a month come to as amounts alone."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from decimal import Decimal

from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.statements import closed_store
from fair_ladle.app.statements.billing import BillingPeriod
from fair_ladle.app.statements.ledger import Ledger, Sold, numbered
from fair_ladle.app.statements.lines import Line
from fair_ladle.app.statements.month_totals import ProductTotals
from fair_ladle.app.statements.rate_cards import decimals_of
from fair_ladle.app.statements.totals import product_totals
from fair_ladle.core.calendar import month_of
from fair_ladle.core.quantities import half_up


class MonthsLedger(Ledger):
    """Statements of everybody as amounts alone: usage comes from what months are kept to come to."""

    def totals(self, first: date) -> list[ProductTotals]:
        """What every product comes to in a month."""
        if first not in self._totals:
            last = month_of(f"{first:%Y-%m}")[1]
            self._totals[first] = [product_totals(self._tx, each, first, last) for each in self._products]
        return self._totals[first]

    def __init__(self, tx: Transaction, buyers: Sequence[str] | None = None):
        super().__init__(tx, buyers)
        self._products = pools_service.products(tx)
        self._totals: dict[date, list[ProductTotals]] = {}
        self._numbered: dict[date, dict[tuple[str, str], list[tuple[str, Decimal, str | None]]]] = {}

    def usage(self, period: BillingPeriod, buyer: str) -> list[tuple[str, Decimal, str]]:
        """Product (code), amount and currency of every usage line of a buyer."""
        return [
            (product.code, *each.amounts[buyer])
            for product, each in zip(self._products, self.totals(period.first), strict=True)
            if buyer in each.amounts
        ]

    def lines(self, period: BillingPeriod, buyer: str, currency: str) -> tuple[Line, ...]:
        """None: amounts are all that is wanted."""
        return ()

    def has_lines_of(self, first: date) -> bool:
        """Whether it has the lines of the month that begins on a day, and not their amounts alone."""
        return False

    def sold(self, period: BillingPeriod, buyer: str, currency: str) -> list[Sold]:
        """A buyer's usage lines in a currency, without their amounts."""
        found = []
        for product, each in zip(self._products, self.totals(period.first), strict=True):
            rate = period.rate(buyer, product.code)
            if rate is not None and each.amounts.get(buyer, (None, None))[1] == currency:
                found.append(Sold(product, rate, each.costs[buyer] is not None))
        return found

    def is_charged(self, period: BillingPeriod, buyer: str, product: str) -> bool:
        """Whether a buyer has a line for a product (code)."""
        return any(
            buyer in each.amounts
            for mine, each in zip(self._products, self.totals(period.first), strict=True)
            if mine.code == product
        )

    def unpriced(self, period: BillingPeriod, buyer: str) -> list[Product]:
        """What a buyer of a seller with rates had without one."""
        totals = zip(self._products, self.totals(period.first), strict=True)
        return [product for product, each in totals if buyer in each.unpriced]

    def nets(self, seller: str, buyer: str, first: date) -> list[tuple[str, Decimal, str | None]]:
        """By currency, what a buyer owes before tax, and its number where the month is closed."""
        if first in self.closed.get(seller, {}):
            if first not in self._numbered:
                mine: dict[tuple[str, str], list[tuple[str, Decimal, str | None]]] = {}
                for row in closed_store.totals_of(self._tx.connection, first):
                    net = half_up(row.net, decimals_of(row.currency))
                    found = (row.currency, net, numbered(row.year, row.number))
                    mine.setdefault((row.seller, row.buyer), []).append(found)
                self._numbered[first] = mine
            return list(self._numbered[first].get((seller, buyer), []))
        period = self.period(first)
        terms = period.terms(seller)
        adjusts = first == self.first_open(seller) and any(
            self.is_changed(seller, each) for each in self.closed[seller]
        )
        if adjusts or any(buyer in each for each in (terms.charges, terms.discounts, terms.credits)):
            return [(each.currency, each.composed.net, None) for each in self.of_seller(seller, buyer, first)]
        nets: dict[str, Decimal] = {}
        for _, amount, currency in self.usage(period, buyer):
            nets[currency] = nets.get(currency, Decimal(0)) + amount
        return [(currency, net, None) for currency, net in sorted(nets.items())]


class ClosingLedger(MonthsLedger):
    """Statements of everybody (or of some branches, by their codes) with the lines of one month; other months as
    amounts alone."""

    def __init__(self, tx: Transaction, first: date, buyers: Sequence[str] | None = None):
        super().__init__(tx, buyers)
        self._first = first

    def has_lines_of(self, first: date) -> bool:
        """Whether it has the lines of the month that begins on a day, and not their amounts alone."""
        return first == self._first

    def usage(self, period: BillingPeriod, buyer: str) -> list[tuple[str, Decimal, str]]:
        """Product (code), amount and currency of every usage line of a buyer."""
        of = Ledger if self.has_lines_of(period.first) else MonthsLedger
        return of.usage(self, period, buyer)

    def lines(self, period: BillingPeriod, buyer: str, currency: str) -> tuple[Line, ...]:
        """A buyer's usage lines in a currency."""
        of = Ledger if self.has_lines_of(period.first) else MonthsLedger
        return of.lines(self, period, buyer, currency)

    def sold(self, period: BillingPeriod, buyer: str, currency: str) -> list[Sold]:
        """The same without their amounts."""
        return Ledger.sold(self, period, buyer, currency)

    def is_charged(self, period: BillingPeriod, buyer: str, product: str) -> bool:
        """Whether a buyer has a line for a product (code)."""
        return Ledger.is_charged(self, period, buyer, product)

    def unpriced(self, period: BillingPeriod, buyer: str) -> list[Product]:
        """What a buyer had without a rate."""
        return Ledger.unpriced(self, period, buyer)
