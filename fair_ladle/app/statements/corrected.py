"""A month that is kept: as it is, and corrected by late facts of a few accounts. Their branches are read and priced
again, and what a pool cost is shared anew by the weights that are kept."""

from __future__ import annotations

import json
import zlib
from collections.abc import Iterable, Mapping
from datetime import date, timedelta
from decimal import Decimal

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.allocations import service as allocations
from fair_ladle.app.plumbing import generations
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.pools.service import Pool, Product
from fair_ladle.app.statements import store
from fair_ladle.app.statements.billing import BillingPeriod
from fair_ladle.app.statements.month_totals import PoolMonth, ProductTotals, charged, pool_month, pool_months
from fair_ladle.app.statements.months import PoolWeights

PART, AT_LEAST = 3, 200
"""A correction goes through no more than this part of all accounts (or through so many), else the month is worked out
whole."""


def kept_totals(tx: Transaction, product: Product, first: date, made_of: str) -> ProductTotals | None:
    """A product's totals of a month as they are kept, if they are made of this."""
    if store.kept_months(tx.connection, first).get(product.id) != made_of:
        return None
    days, rows = store.kept_charges_of(tx.connection, product.id, first)
    return ProductTotals(
        {row.code: (Decimal(row.amount), row.currency) for row in rows if row.amount is not None and row.currency},
        {row.code: None if row.cost is None else Decimal(row.cost) for row in rows if row.amount is not None},
        frozenset(row.code for row in rows if row.amount is None),
        days,
        tuple(
            PoolMonth(
                product.code, each.owner, each.currency, Decimal(each.cost), Decimal(each.own), Decimal(each.idle)
            )
            for each in store.kept_pools_of(tx.connection, product.id, first)
        ),
    )


def corrected(tx: Transaction, product: Product, first: date, last: date, made_of: str) -> ProductTotals | None:
    """One product's totals of a month, from what is kept of it and the facts of the branches that late facts are in;
    None where nothing is kept that differs by few of these alone."""
    kept = store.kept_month(tx.connection, product.id, first)
    if kept is None or kept.late is None or _but_late_facts(kept.made_of) != _but_late_facts(made_of):
        return None
    if any(of == product.id for of, _ in allocations.following(tx)):
        return None  # seats that caps follow are facts of another product
    ended = min(last, accounts_service.today(tx) - timedelta(days=1))
    if ended < first or len(accounts_service.segments(tx, first, ended)) > 1:
        return None
    late = generations.late_since(tx, product.id, last, json.loads(kept.late))
    accounts = accounts_service.on_day(tx, first)
    tops = None if late is None else _tops(accounts, late)
    old = kept_totals(tx, product, first, kept.made_of)
    if tops is None or old is None:
        return None
    whole = BillingPeriod(tx, first, last, [product])
    if any(each.markup is not None and each.product == product.code for each in whole.rate_cards.rates):
        return None  # what is to be shared anew decides what others are charged
    return _Correction(tx, product, accounts, tops, whole).of(old)


def _but_late_facts(made_of: str) -> list[str]:
    day, zone, _, *others = made_of.split(" ")
    return [day, zone, *others]


def _tops(accounts: Accounts, late: Iterable[int]) -> list[int] | None:
    """The accounts directly below the root (rows) in whose branches some accounts (by number) are; None where these are
    too many, or where the root is one of them."""
    tree, tops = accounts.tree, set[int]()
    for account_id in late:
        row = accounts.row_of_id.get(account_id)
        if row == 0:
            return None
        if row is not None:
            tops.add(int(tree.path_up(row)[-2]))
    many = sum(int(tree.branch_size[each]) for each in tops) > max(len(tree) // PART, AT_LEAST)
    return None if many else sorted(tops)


class _Correction:
    """Some branches of a month, read again; ``whole`` has all accounts, and nothing of it is read."""

    def __init__(self, tx: Transaction, product: Product, accounts: Accounts, tops: list[int], whole: BillingPeriod):
        codes = accounts.tree.codes
        self.tx, self.product, self.whole = tx, product, whole
        self.period = BillingPeriod(tx, whole.first, whole.last, [product], [codes[each] for each in tops])
        self.root = codes[0]
        self.tops = {codes[each] for each in tops}
        self.inside = {codes[row] for each in tops for row in accounts.tree.branch(each).tolist()}

    def of(self, old: ProductTotals) -> ProductTotals | None:
        """What is kept, with these branches as they are now."""
        period, code = self.period, self.product.code
        amounts, unpriced = charged(period, self.product, period.buyers(period.accounts.tree.rows_in_order().tolist()))
        every = {buyer: each for buyer, each in old.amounts.items() if buyer not in self.inside} | amounts
        costs = {buyer: each for buyer, each in old.costs.items() if buyer not in self.inside}
        pools = {(each.owner, each.currency): each for each in old.pools}
        for pool in period.month(code).pools:
            owner = period.accounts.row_of_id.get(pool.owner_id)
            if owner is not None and period.accounts.tree.codes[owner] in self.inside:
                pools |= {(each.owner, each.currency): each for each in pool_months(period, self.product, pool)}
        root_pool = period.pool_of(code, self.root)
        shared = {} if root_pool is None else self._shared(root_pool, every)
        if shared is None:
            return None
        for buyer, (_, currency) in amounts.items():
            if root_pool is None or period.seller_of(buyer) != self.root:
                costs[buyer] = period.cost(buyer, code, currency)
        for found, mine in shared.values():
            pools[found.owner, found.currency] = found
            costs |= mine
        days = len(period.month(code).days)
        others = {each for each in old.unpriced if each not in self.inside}
        return ProductTotals(every, costs, frozenset(others | unpriced), days, tuple(pools.values()))

    def _shared(
        self, pool: Pool, amounts: Mapping[str, tuple[Decimal, str]]
    ) -> dict[str, tuple[PoolMonth, dict[str, Decimal | None]]] | None:
        """The root's pool shared anew, by the currency it was bought in: what it cost, and what that is to the buyers
        directly below to whom it is another cost; None where its weights are not kept."""
        whole, code = self.whole, self.product.code
        before = kept_weights(self.tx, self.product, whole.first, pool)
        part = dict(self.period.month(code).weights_of(pool).below)
        if before is None or not part.keys() <= {account for account, _ in before.below}:
            return None
        below = tuple((account, part.get(account, held)) for account, held in before.below)
        weights = PoolWeights(before.own, below, before.supply)
        changed, months = set(self.tops), []
        for currency in pool.currencies:
            was, now = (whole.shared(pool, currency, by, self.product.spreads_idle) for by in (before, weights))
            changed |= {new.account for old, new in zip(was, now, strict=True) if new.account and new.cost != old.cost}
            whole.bear(pool, currency, now)
            months.append(pool_month(whole, pool, currency, weights, now))
        costs = {each: whole.cost(each, code, amounts[each][1]) for each in changed if each in amounts}
        return {each.currency: (each, costs) for each in months}


def packed_weights(weights: PoolWeights, ids: Mapping[str, int]) -> bytes:
    """Weights as they are kept."""
    below = [(ids[account], held) for account, held in weights.below]
    return zlib.compress(json.dumps([weights.own, weights.supply, below]).encode())


def kept_weights(tx: Transaction, product: Product, first: date, pool: Pool) -> PoolWeights | None:
    """By what a pool of a product was shared in a month, where that is kept."""
    packed = store.kept_weights(tx.connection, product.id, first, pool.owner_id)
    if packed is None:
        return None
    accounts = accounts_service.known(tx)
    own, supply, below = json.loads(zlib.decompress(packed))
    return PoolWeights(
        own, tuple((accounts.tree.codes[accounts.row_of_id[each]], held) for each, held in below), supply
    )
