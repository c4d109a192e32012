"""What each buyer owes for a month, how every line came about, and what it cost the seller."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date
from decimal import Decimal
from fractions import Fraction
from functools import cached_property

import numpy as np

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.days import YEARS
from fair_ladle.app.plumbing.problems import invalid
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Pool, Product
from fair_ladle.app.statements.kept_books import kept_books
from fair_ladle.app.statements.lines import Line, LineDay, PlacedLine, Share, line_day
from fair_ladle.app.statements.months import PoolWeights, ProductMonth, months_of, read_month
from fair_ladle.app.statements.rate_cards import RateCards, decimals_of
from fair_ladle.app.statements.terms import Terms, of_sellers
from fair_ladle.core.calendar import Day, month_of
from fair_ladle.core.costing import Bearer, pool_cost, share_cost
from fair_ladle.core.pricing import Charge, Rate, apportion, apportion_minor, charge
from fair_ladle.core.quantities import half_up_exactly, units_to_micro
from fair_ladle.core.tree import Ints

Progress = Callable[[int, int], None]
"""Hears of how many are done, and of how many there are."""


@dataclass
class WorkedOut:
    """What a product (code) comes to in a month for a seller and its buyers: each one's line, with its days; whether it
    is known what it cost (by buyer, product and currency); and who had something without a rate."""

    product: str
    lines: dict[str, Line | None] = field(default_factory=dict)
    has_cost: dict[tuple[str, str, str], bool] = field(default_factory=dict)
    unpriced: set[str] = field(default_factory=set)


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

    ``buyers``: only theirs, from what is of their branches, which does not tell what their lines cost. Where a seller
    has closed the month, it is priced with what it was closed with.
    """

    def __init__(
        self,
        tx: Transaction,
        first: date,
        last: date,
        products: Sequence[Product] | None = None,
        buyers: Sequence[str] | None = None,
        whole: dict[str, BillingPeriod] | None = None,
    ):
        self.first, self.last = first, last
        self._tx, self._buyers = tx, buyers
        self.accounts: Accounts = accounts_service.around(tx, min(first, accounts_service.today(tx)), buyers)
        self.products = list(products or pools_service.products(tx))
        self._kept = kept_books(tx, self.accounts, first)
        self.rate_cards = RateCards(tx, self.accounts).kept({code: kept.rates for code, kept in self._kept.items()})
        self._months: dict[str, ProductMonth] = {}
        self._lines: dict[tuple[str, str], Line | None] = {}
        self._lines_of: dict[str, list[Line]] = {}
        self._bearers: dict[tuple[int, str], dict[str, Decimal]] = {}
        self._whole = {} if whole is None else whole
        self._pools: dict[str, dict[str, Pool]] = {}
        self._costs: dict[tuple[str, str, str], Fraction | None] = {}
        self._has_cost: dict[tuple[str, str, str], bool] = {}
        self._unpriced: dict[str, list[Product]] = {}
        self._placed_lines: dict[tuple[str, str], PlacedLine | None] = {}

    @property
    def days(self) -> int:
        """Days of the month."""
        return (self.last - self.first).days + 1

    def month(self, product: str) -> ProductMonth:
        """What is read of a product (code)."""
        if product not in self._months:
            if self._buyers is None:
                wanted = next(each for each in self.products if each.code == product)
                self._months[product] = read_month(self._tx, wanted, self.first, self.last)
            else:
                self._months = dict(months_of(self._tx, self.products, self.first, self.last, self._buyers))
        return self._months[product]

    def go_by(self, month: ProductMonth) -> None:
        """Go by a product's month that was read already."""
        self._months[month.product.code] = month

    @cached_property
    def _terms(self) -> tuple[dict[str, Terms], Terms]:
        found, others = of_sellers(self._tx, self.accounts)
        return found | {code: kept.terms for code, kept in self._kept.items()}, others

    def terms(self, seller: str) -> Terms:
        """What a seller charges, gives off and taxes beside its rates."""
        found, others = self._terms
        return found.get(seller, others)

    @property
    def sellers_with_terms(self) -> Collection[str]:
        """The sellers that charge, give off or tax something beside their rates, and those that have closed the
        month."""
        return self._terms[0].keys()

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
        rate = self.rate(buyer, product)
        charged = None if rate is None else self._charge(buyer, product, rate)
        if rate is None or charged is None:
            return None
        return rate, self.rate_cards.currency(rate), charged

    def _charge(self, buyer: str, product: str, rate: Rate) -> Charge | None:
        days = self.month(product).summed(buyer, rate)
        if days is None:
            return None
        currency = self.rate_cards.currency(rate)
        cost = None if rate.markup is None else self.whole(product).exact_cost(buyer, product, currency)
        return charge(rate, days, decimals_of(currency), self.days, cost)

    def whole(self, product: str) -> BillingPeriod:
        """The month of one product with all buyers, which tells what each cost."""
        if self._buyers is None:
            return self
        if product not in self._whole:
            self._whole[product] = BillingPeriod(self._tx, self.first, self.last, [self.month(product).product])
        return self._whole[product]

    def _line(self, buyer: str, product: str) -> Line | None:
        found = self.charged(buyer, product)
        if found is None:
            return None
        rate, currency, charged = found
        month, decimals = self.month(product), decimals_of(currency)
        seconds, per_unit = month.seconds, month.product.per_unit
        weights = month.weights(buyer, rate.basis)
        parts = apportion(charged.amount, [weight for _, weight in weights], decimals)
        if parts is None:
            shares = [Share(buyer, units_to_micro(0, 1, 1), charged.amount)]
        else:
            shares = [
                Share(account, units_to_micro(weight, seconds, per_unit), part)
                for (account, weight), part in zip(weights, parts, strict=True)
                if weight
            ]
        return Line(month.product, rate, currency, charged, tuple(shares))

    def lines(self, buyer: str) -> list[Line]:
        """The buyer's lines, by product."""
        if buyer not in self._lines_of:
            self._lines_of[buyer] = [line for each in self.products if (line := self.line(buyer, each.code))]
        return self._lines_of[buyer]

    def work_out(self, seller: str, buyers: Sequence[str], product: str, progress: Progress) -> WorkedOut:
        """Work out what a product (code) comes to for a seller's buyers, with the days of their lines and what these
        cost; nothing else that was read of it is kept. ``progress`` hears of how many buyers it has gone through."""
        month, found = self.month(product), WorkedOut(product)
        found.lines[seller] = self.line(seller, product)
        for nth, buyer in enumerate(buyers, start=1):
            line = found.lines[buyer] = self.line(buyer, product)
            if line is not None:
                found.has_cost[buyer, product, line.currency] = self.has_cost(buyer, product, line.currency)
            elif self._is_unpriced(buyer, month.product):
                found.unpriced.add(buyer)
            progress(nth, len(buyers))
        sold = [(buyer, line) for buyer in buyers if (line := found.lines[buyer]) is not None]
        each_days = self._days_of_each(month, [buyer for buyer, _ in sold])
        for (buyer, line), days in zip(sold, each_days, strict=True):
            found.lines[buyer] = line.with_days(days)
        del self._months[product]
        return found

    def take(self, buyers: Sequence[str], found: Iterable[WorkedOut]) -> None:
        """Go by what all products were worked out to come to for these buyers."""
        of = {each.product: each for each in found}
        for product, each in of.items():
            self._lines |= {(buyer, product): line for buyer, line in each.lines.items()}
            self._has_cost |= each.has_cost
        for buyer in buyers:
            self._unpriced[buyer] = [each for each in self.products if buyer in of[each.code].unpriced]

    def unpriced(self, buyer: str) -> list[Product]:
        """What the buyer had without any rate from its seller."""
        if buyer not in self._unpriced:
            self._unpriced[buyer] = [each for each in self.products if self._is_unpriced(buyer, each)]
        return self._unpriced[buyer]

    def _is_unpriced(self, buyer: str, product: Product) -> bool:
        return self.rate(buyer, product.code) is None and self.month(product.code).has_something(buyer)

    def days_of(self, buyer: str, product: str) -> tuple[LineDay, ...]:
        """What was read of every day of a buyer's line."""
        return next(self._days_of_each(self.month(product), [buyer]))

    @staticmethod
    def _days_of_each(month: ProductMonth, buyers: Sequence[str]) -> Iterator[tuple[LineDay, ...]]:
        """The same of each of these buyers; those of which all is alike share it."""
        per_unit, parts = month.product.per_unit, list[tuple[Sequence[Day], list[int | None], Ints]]()
        for segment in month.segments:
            rows, read = [segment.row(each) for each in buyers], segment.readings
            each_day = (read.used, read.settled.load, read.settled.held, read.allocated.reserve, segment.caps)
            parts.append((read.days, rows, np.stack([each[[row or 0 for row in rows]] for each in each_day], axis=-1)))
        found: dict[tuple[bytes | None, ...], tuple[LineDay, ...]] = {}
        for place in range(len(buyers)):
            key = tuple(None if rows[place] is None else figures[place].tobytes() for _, rows, figures in parts)
            if key not in found:
                found[key] = tuple(
                    LineDay(day.date, day.seconds // 3600, "0", "0", "0", "0", None)
                    if rows[place] is None
                    else line_day(day.date, day.seconds, *mine, per_unit)
                    for days, rows, figures in parts
                    for day, mine in zip(days, figures[place].tolist(), strict=True)
                )
            yield found[key]

    def repriced(self, buyer: str, product: str, rate: Rate) -> Decimal:
        """What this month's days would have cost under another rate."""
        found = self._charge(buyer, product, rate)
        return Decimal(0) if found is None else found.amount

    def charged_with(self, buyer: str, product: str, more: int) -> Decimal | None:
        """What the buyer would be charged for a product with so many units more (below 0: fewer) in use on every day
        that counts; None where it has no line, or one at a markup: by themselves more units do not make that dearer."""
        rate, month = self.rate(buyer, product), self.month(product)
        if rate is None or rate.markup is not None:
            return None
        days = month.summed_with(buyer, rate, more * month.product.per_unit)
        decimals = decimals_of(self.rate_cards.currency(rate))
        return None if days is None else charge(rate, days, decimals, self.days).amount

    def bearers(self, month: ProductMonth, pool: Pool, currency: str, spread_idle: bool) -> list[Bearer]:
        """Who bears what of a pool was bought in a currency."""
        return self.shared(pool, currency, month.weights_of(pool), spread_idle)

    def shared(self, pool: Pool, currency: str, weights: PoolWeights, spread_idle: bool) -> list[Bearer]:
        """The same by given weights."""
        decimals = decimals_of(currency)
        lots = [lot for lot in pool.lots if lot.currency == currency]
        cost = pool_cost(lots, self.first, self.last, decimals)
        owner = self.accounts.tree.codes[self.accounts.row_of_id[pool.owner_id]]
        return share_cost(cost, (owner, weights.own), weights.below, weights.supply, decimals, spread_idle)

    def exact_cost(self, buyer: str, product: str, currency: str) -> Fraction | None:
        """What a buyer's line cost its seller, in a currency and unrounded: its part of the pool's cost where the
        seller owns the pool, else the buyer's branch's part of what the seller itself is charged; None where that is
        not known: there is no such line, or no exchange rate."""
        key = buyer, product, currency
        if key not in self._costs:
            self._costs[key] = self._exact_cost(*key)
        return self._costs[key]

    def has_cost(self, buyer: str, product: str, currency: str) -> bool:
        """Whether that is known."""
        key = buyer, product, currency
        if key not in self._has_cost:
            seller = self.seller_of(buyer)
            pool = None if seller is None else self.pool_of(product, seller)
            above = None if seller is None or pool is not None else self.line(seller, product)
            bought_in = pool.currencies if pool is not None else [above.currency] if above is not None else None
            # Only what is bought in another currency needs a rate.
            is_same = bought_in is not None and set(bought_in) <= {currency}
            self._has_cost[key] = is_same or self.exact_cost(*key) is not None
        return self._has_cost[key]

    def _exact_cost(self, buyer: str, product: str, currency: str) -> Fraction | None:
        seller = self.seller_of(buyer)
        amounts = None if seller is None else next(self._bought(seller, [buyer], product))
        return None if seller is None or amounts is None else self._exchanged(seller, amounts, currency)

    def _bought(self, seller: str, buyers: Sequence[str], product: str) -> Iterator[list[tuple[str, Decimal]] | None]:
        """For how much in which currencies a seller bought what the lines of some of its buyers are of; None where that
        is not known."""
        pool = self.pool_of(product, seller)
        if pool is not None:
            borne = [(each, self._borne(product, pool, each)) for each in pool.currencies]
            yield from ([(currency, of.get(buyer, Decimal(0))) for currency, of in borne] for buyer in buyers)
        elif (above := self._placed(seller, product)) is not None:
            yield from ([(above.currency, each)] for each in above.of_branches(self.accounts, buyers))
        else:
            yield from (None for _ in buyers)

    def _placed(self, buyer: str, product: str) -> PlacedLine | None:
        """What a buyer is charged for a product, by whose part of it that is; None where it is nothing."""
        key = buyer, product
        if key not in self._placed_lines:
            self._placed_lines[key] = self._placed_line(*key)
        return self._placed_lines[key]

    def _placed_line(self, buyer: str, product: str) -> PlacedLine | None:
        place = self.accounts.tree.place
        if (buyer, product) in self._lines:  # as a line that was worked out, or kept, has it
            line = self._lines[buyer, product]
            if line is None:
                return None
            decimals = decimals_of(line.currency)
            minor = [int(each.amount.scaleb(decimals)) for each in line.shares]
            return PlacedLine.of(line.currency, decimals, [place(each.account) for each in line.shares], minor)
        found = self.charged(buyer, product)
        if found is None:
            return None
        rate, currency, charged = found
        decimals = decimals_of(currency)
        places, weights = self.month(product).weights_by_place(buyer, rate.basis, self.accounts)
        parts = apportion_minor(charged.amount, weights, decimals)
        if parts is None:
            places, parts = [place(buyer)], [int(charged.amount.scaleb(decimals))]
        return PlacedLine.of(currency, decimals, places, parts)

    def owns_pool(self, account: str, product: str) -> bool:
        """Whether an account owns a pool of a product."""
        return self.pool_of(product, account) is not None

    def pool_of(self, product: str, owner: str) -> Pool | None:
        """The pool of a product that an account owns (codes)."""
        if product not in self._pools:
            wanted = [each for each in self.products if each.code == product]
            self._pools[product] = {
                self.accounts.tree.codes[row]: each
                for each in pools_service.pools(self._tx, wanted)
                if (row := self.accounts.row_of_id.get(each.owner_id)) is not None
            }
        return self._pools[product].get(owner)

    def _borne(self, product: str, pool: Pool, currency: str) -> dict[str, Decimal]:
        if (pool.id, currency) not in self._bearers:
            self.bear(pool, currency, self.bearers(self.month(product), pool, currency, pool.product.spreads_idle))
        return self._bearers[pool.id, currency]

    def bear(self, pool: Pool, currency: str, bearers: Sequence[Bearer]) -> None:
        """Let it be known who bears what of a pool was bought in a currency."""
        self._bearers[pool.id, currency] = {each.account: each.cost for each in bearers if each.account is not None}

    def _exchanged(self, seller: str, amounts: Sequence[tuple[str, Decimal]], into: str) -> Fraction | None:
        found = Fraction(sum((amount for of, amount in amounts if of == into), Decimal(0)))
        for of, amount in amounts:
            if amount and of != into:
                worth = self.terms(seller).worth(of, into, self.last)
                if worth is None:
                    return None
                found += Fraction(amount) * worth
        return found

    def costs(self, product: str, charged_in: Mapping[str, str]) -> dict[str, Decimal | None]:
        """The same of many buyers, by the currency in which each is charged, rounded to its minor unit."""
        buyers_of: dict[str | None, list[str]] = defaultdict(list)
        for buyer in charged_in:
            buyers_of[self.seller_of(buyer)].append(buyer)
        found: dict[str, Decimal | None] = dict.fromkeys(charged_in)
        for seller, buyers in buyers_of.items():
            if seller is None:
                continue
            for buyer, amounts in zip(buyers, self._bought(seller, buyers, product), strict=True):
                found[buyer] = None if amounts is None else self._worth(seller, amounts, charged_in[buyer])
        return found

    def _worth(self, seller: str, amounts: Sequence[tuple[str, Decimal]], into: str) -> Decimal | None:
        decimals = decimals_of(into)
        if all(of == into for of, _ in amounts):  # in minor units of it already
            return sum((amount for _, amount in amounts), Decimal(0).scaleb(-decimals))
        exact = self._exchanged(seller, amounts, into)
        return None if exact is None else half_up_exactly(exact, decimals)
