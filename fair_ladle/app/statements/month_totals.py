"""What a product's month comes to for every buyer and pool, from the facts."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import date
from decimal import Decimal

from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.pools.service import Pool, Product
from fair_ladle.app.statements.billing import BillingPeriod
from fair_ladle.app.statements.months import PoolWeights, ProductMonth
from fair_ladle.core.costing import Bearer


@dataclass(frozen=True)
class PoolMonth:
    """What a pool that was bought in a currency cost in a month, what of that its owner used itself, and what nobody
    held."""

    product: str
    owner: str
    currency: str
    cost: Decimal
    own: Decimal
    idle: Decimal
    weights: PoolWeights | None = field(default=None, compare=False)
    """By what that is shared, where it was read."""


@dataclass(frozen=True)
class ProductTotals:
    """What every buyer is charged for one product in a month, in which currency, what that cost its seller (None = not
    known), who had it without any rate, and what its pools cost."""

    amounts: dict[str, tuple[Decimal, str]]
    costs: dict[str, Decimal | None]
    unpriced: frozenset[str]
    days: int
    """Days read."""
    pools: tuple[PoolMonth, ...] = ()


Amounts = dict[str, tuple[Decimal, str]]
"""By buyer (code) what it is charged, and in which currency."""


def worked_out(tx: Transaction, product: Product, first: date, last: date) -> ProductTotals:
    """One product's totals of a month, from the facts."""
    return read_and_worked_out(tx, product, first, last)[1]


def read_and_worked_out(
    tx: Transaction, product: Product, first: date, last: date
) -> tuple[ProductMonth, ProductTotals]:
    """A product's month, and its totals."""
    period = BillingPeriod(tx, first, last, [product])
    month = period.month(product.code)
    amounts, unpriced = charged(period, product, period.buyers(period.accounts.tree.rows_in_order().tolist()))
    costs = period.costs(product.code, {buyer: currency for buyer, (_, currency) in amounts.items()})
    pools = [each for pool in month.pools for each in pool_months(period, product, pool)]
    return month, ProductTotals(amounts, costs, frozenset(unpriced), len(month.days), tuple(pools))


def charged(period: BillingPeriod, product: Product, buyers: Iterable[str]) -> tuple[Amounts, set[str]]:
    """What these buyers are charged for a product, and who of them had it without any rate."""
    amounts: Amounts = {}
    unpriced = set()
    for buyer in buyers:
        found = period.charged(buyer, product.code)
        if found is not None:
            amounts[buyer] = (found[2].amount, found[1])
        elif period.rate(buyer, product.code) is None and period.month(product.code).has_something(buyer):
            unpriced.add(buyer)
    return amounts, unpriced


def pool_months(period: BillingPeriod, product: Product, pool: Pool) -> Iterator[PoolMonth]:
    """What a pool cost in a month that is read, by currency."""
    weights = period.month(product.code).weights_of(pool)
    for currency in pool.currencies:
        yield pool_month(period, pool, currency, weights, period.shared(pool, currency, weights, product.spreads_idle))


def pool_month(
    period: BillingPeriod, pool: Pool, currency: str, weights: PoolWeights, bearers: Sequence[Bearer]
) -> PoolMonth:
    """What a pool that was bought in a currency cost, by who bears it."""
    owner = period.accounts.tree.codes[period.accounts.row_of_id[pool.owner_id]]
    borne: dict[str | None, Decimal] = {}
    for each in bearers:
        borne[each.account] = borne.get(each.account, Decimal(0)) + each.cost
    cost, nothing = sum(borne.values(), Decimal(0)), Decimal(0)
    own, idle = borne.get(owner, nothing), borne.get(None, nothing)
    return PoolMonth(pool.product.code, owner, currency, cost, own, idle, weights)
