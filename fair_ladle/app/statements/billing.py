"""What each buyer owes for a month, how every line came about, and what it cost the seller."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.days import YEARS
from fair_ladle.app.plumbing.problems import invalid
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Pool, Product
from fair_ladle.app.statements.months import ProductMonth, product_month
from fair_ladle.app.statements.rate_cards import RateCards, decimals_of
from fair_ladle.core.calendar import month_before, month_of
from fair_ladle.core.costing import Bearer, pool_cost, share_cost
from fair_ladle.core.pricing import Charge, Rate, apportion, charge
from fair_ladle.core.quantities import units_to_micro


@dataclass(frozen=True)
class Share:
    """An account's part of a line: its part of the weights in units, and its part of the amount."""

    account: str
    quantity: Decimal
    amount: Decimal


@dataclass(frozen=True)
class Line:
    """A buyer's charge for one product."""

    product: Product
    rate: Rate
    currency: str
    charge: Charge
    shares: tuple[Share, ...]


@dataclass(frozen=True)
class Statement:
    """One buyer's charges for one month; ``unpriced`` are products it had without any rate from its seller."""

    seller: str
    buyer: str
    first: date
    last: date
    lines: tuple[Line, ...]
    unpriced: tuple[Product, ...]

    @property
    def total(self) -> Decimal:
        """What is owed."""
        return sum((line.charge.amount for line in self.lines), Decimal(0))


def parse_month(text: str) -> tuple[date, date]:
    """First and last day of a month; refused where the text is none."""
    try:
        first, last = month_of(text)
        if not YEARS[0] <= first.year <= YEARS[1]:
            raise ValueError
        return first, last
    except ValueError:
        raise invalid(f"{text!r} is no month; write it like 2026-10.", "month") from None


class BillingPeriod:
    """A month of all products with the rate cards: statements and costs are read off it.

    ``buyers``: only theirs, from what is of their branches, which does not tell what their lines cost.
    """

    def __init__(
        self,
        tx: Transaction,
        first: date,
        last: date,
        products: Sequence[Product] | None = None,
        buyers: Sequence[str] | None = None,
    ):
        self.first, self.last = first, last
        self._buyers = buyers
        self.accounts: Accounts = accounts_service.around(tx, min(first, accounts_service.today(tx)), buyers)
        self.products = list(products or pools_service.products(tx))
        self.rate_cards = RateCards(tx, self.accounts)
        self.months: dict[str, ProductMonth] = {
            each.code: product_month(tx, each, first, last, buyers) for each in self.products
        }
        self._lines: dict[tuple[str, str], Line | None] = {}
        self._bearers: dict[int, dict[str, Decimal]] = {}

    def before(self, tx: Transaction) -> BillingPeriod:
        """The month before."""
        first = month_before(self.first)
        return BillingPeriod(tx, first, month_of(f"{first:%Y-%m}")[1], self.products, self._buyers)

    def seller_of(self, buyer: str) -> str | None:
        """The buyer's parent; None for the root."""
        return self.rate_cards.seller_of(buyer)

    def buyers(self, rows: Sequence[int]) -> list[str]:
        """The accounts among these rows whose parent has a rate card, in tree order."""
        sellers, tree = self.rate_cards.sellers, self.accounts.tree
        ordered = sorted(rows, key=lambda row: int(tree.depth_first[row]))
        return [tree.codes[row] for row in ordered if row > 0 and tree.codes[int(tree.parent[row])] in sellers]

    def rate(self, buyer: str, product: str) -> Rate | None:
        """The rate that prices a product for a buyer in this month."""
        return self.rate_cards.rate(buyer, product, self.first)

    def line(self, buyer: str, product: str) -> Line | None:
        """The buyer's line for a product; None where it has none."""
        if (buyer, product) not in self._lines:
            self._lines[buyer, product] = self._line(buyer, product)
        return self._lines[buyer, product]

    def charged(self, buyer: str, product: str) -> tuple[Rate, str, Charge] | None:
        """What the buyer is charged for a product, by which rate and in which currency; None where it is nothing."""
        rate, month = self.rate(buyer, product), self.months[product]
        days = month.buyer_days(buyer) if rate else None
        if rate is None or not days:
            return None
        currency = self.rate_cards.currency(rate)
        return rate, currency, charge(rate, days, month.product.per_unit, decimals_of(currency))

    def _line(self, buyer: str, product: str) -> Line | None:
        found = self.charged(buyer, product)
        if found is None:
            return None
        rate, currency, charged = found
        month, decimals = self.months[product], decimals_of(currency)
        weights = month.weights(buyer, rate.basis)
        parts = apportion(charged.amount, [weight for _, weight in weights], decimals)
        if parts is None:
            shares = [Share(buyer, units_to_micro(0, 1, 1), charged.amount)]
        else:
            shares = [
                Share(account, units_to_micro(weight, month.seconds, month.product.per_unit), part)
                for (account, weight), part in zip(weights, parts, strict=True)
                if weight
            ]
        return Line(month.product, rate, currency, charged, tuple(shares))

    def statement(self, buyer: str) -> Statement:
        """Everything the buyer owes its seller for the month."""
        lines = [line for each in self.products if (line := self.line(buyer, each.code))]
        unpriced = [
            each
            for each in self.products
            if self.rate(buyer, each.code) is None and self.months[each.code].buyer_days(buyer)
        ]
        return Statement(self.seller_of(buyer) or "", buyer, self.first, self.last, tuple(lines), tuple(unpriced))

    def repriced(self, buyer: str, product: str, rate: Rate) -> Decimal:
        """What this month's days would have cost under another rate."""
        month = self.months[product]
        days = month.buyer_days(buyer)
        if not days:
            return Decimal(0)
        return charge(rate, days, month.product.per_unit, decimals_of(self.rate_cards.currency(rate))).amount

    def bearers(self, month: ProductMonth, pool: Pool, spread_idle: bool = False) -> list[Bearer]:
        """Who bears a pool's cost."""
        decimals = decimals_of(pool.currency)
        cost = pool_cost(pool.lots, self.first, self.last, decimals)
        owner, below, supply = month.bearers(pool)
        if not owner[0]:
            owner = (self.accounts.tree.codes[self.accounts.row_of_id[pool.owner_id]], 0)
        return share_cost(cost, owner, below, supply, decimals, spread_idle)

    def cost(self, buyer: str, product: str) -> Decimal | None:
        """What a buyer's line cost its seller: its part of the pool's cost where the seller owns the pool,
        else the buyer's branch's part of what the seller itself is charged; None where that is not known."""
        seller = self.seller_of(buyer)
        if seller is None:
            return None
        month, tree = self.months[product], self.accounts.tree
        for pool in month.pools:
            if tree.codes[self.accounts.row_of_id[pool.owner_id]] == seller:
                if pool.id not in self._bearers:
                    self._bearers[pool.id] = {
                        each.account: each.cost for each in self.bearers(month, pool) if each.account is not None
                    }
                return self._bearers[pool.id].get(buyer)
        above = self.line(seller, product)
        if above is None:
            return None
        branch = {tree.codes[row] for row in tree.branch(tree.row(buyer)).tolist()}
        return sum((share.amount for share in above.shares if share.account in branch), Decimal(0))
