"""A month that is kept: as it is, and corrected by late facts of some accounts. These and all above them are read and
priced again, on what is kept of the others, and what pools cost is shared anew by the weights that are kept."""

from __future__ import annotations

import json
import zlib
from collections.abc import Callable, Collection, Mapping, Sequence, Sized
from dataclasses import dataclass
from datetime import date, timedelta
from decimal import Decimal

import numpy as np

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.allocations import service as allocations
from fair_ladle.app.plumbing import generations
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Pool, Product
from fair_ladle.app.statements import store
from fair_ladle.app.statements.billing import BillingPeriod
from fair_ladle.app.statements.kept_readings import CORRECTIONS, CUSHION, OWN, AccountDays, KeptReadings, block_of
from fair_ladle.app.statements.month_totals import PoolMonth, ProductTotals, charged, pool_month
from fair_ladle.app.statements.months import (
    LineParts,
    PoolWeights,
    ProductMonth,
    Segment,
    charged_days_of,
    uncharged_days,
)
from fair_ladle.app.statements.rows import KeptMonth
from fair_ladle.app.usage import service as usage
from fair_ladle.core.calendar import Day, days_of
from fair_ladle.core.readings import read_days
from fair_ladle.core.settling import pool_of
from fair_ladle.core.tree import Ints

PART, AT_LEAST, MOST = 3, 200, 10_000
"""A correction goes through no more than this part of all accounts (or through so many), and never through more than
the last; else the month is worked out whole."""


def kept_totals(tx: Transaction, product: Product, first: date, made_of: str) -> ProductTotals | None:
    """A product's totals of a month as they are kept, if they are made of this."""
    kept = store.kept_month(tx.connection, product.id, first)
    if kept is None or kept.made_of != made_of:
        return None
    rows = store.kept_charges_of(tx.connection, product.id, first)
    return ProductTotals(
        {row.code: (Decimal(row.amount), row.currency) for row in rows if row.amount is not None and row.currency},
        {row.code: None if row.cost is None else Decimal(row.cost) for row in rows if row.amount is not None},
        frozenset(row.code for row in rows if row.amount is None),
        kept.days,
        tuple(
            PoolMonth(
                product.code, each.owner, each.currency, Decimal(each.cost), Decimal(each.own), Decimal(each.idle)
            )
            for each in store.kept_pools_of(tx.connection, product.id, first)
        ),
    )


@dataclass(frozen=True)
class Correction:
    """What is another now of a month that is kept: of the buyers that this is kept of (by number) all that is said of
    them, of pools those that are shared anew, and what was read anew since it was worked out whole, packed."""

    of: KeptMonth
    there: store.KeptFigures
    totals: ProductTotals
    readings: bytes


def corrected(tx: Transaction, product: Product, first: date, last: date, made_of: str) -> Correction | None:
    """What late facts of some accounts change of what is kept of a product's month; None where nothing is kept that
    differs by such facts alone, or too much does."""
    kept = store.kept_month(tx.connection, product.id, first)
    if kept is None or kept.late is None or _but_late_facts(kept.made_of) != _but_late_facts(made_of):
        return None
    if allocations.has_caps_that_follow(tx, product):
        return None  # seats that caps follow are facts of another product
    ended = min(last, accounts_service.today(tx) - timedelta(days=1))
    late = generations.late_since(tx, product.id, last, json.loads(kept.late))
    if ended < first or late is None:
        return None
    trees = _Trees(tx, first, ended, late)
    if trees.are_many(trees.concerned):
        return None
    period = BillingPeriod(tx, first, last, [product])
    if any(each.markup is not None and each.product == product.code for each in period.rate_cards.rates):
        return None  # what is to be shared anew decides what others are charged
    return _Pricing(tx, product, kept, trees, period).correction()


def _but_late_facts(made_of: str) -> list[str]:
    day, zone, _, *others = made_of.split(" ")
    return [day, zone, *others]


class AccountNumbers:
    """The numbers of the accounts of some trees by their codes, and the other way round."""

    def __init__(self, trees: Sequence[Accounts]):
        self._trees = trees
        first = trees[0]
        self._of_first: dict[str, int] = dict(zip(first.tree.codes, first.ids.tolist(), strict=True))

    def number(self, code: str) -> int:
        """An account's number."""
        if code in self._of_first:  # nearly all are
            return self._of_first[code]
        accounts = next(each for each in self._trees if code in each.tree)
        return int(accounts.ids[accounts.tree.row(code)])

    def code(self, account_id: int) -> str:
        """An account's code."""
        accounts = next(each for each in self._trees if account_id in each.row_of_id)
        return accounts.tree.codes[accounts.row_of_id[account_id]]


class _Trees:
    """The trees that some days have: all accounts, and those that late facts concern, which are these accounts (by
    number) and all above them in any of these trees."""

    def __init__(self, tx: Transaction, first: date, ended: date, late: Collection[int]):
        zone, spells = accounts_service.zone(tx), accounts_service.segments(tx, first, ended)
        self.late = late
        self.wholes = [accounts_service.on_day(tx, begin) for begin, _ in spells]
        self.numbers = AccountNumbers(self.wholes)
        self.days: list[list[Day]] = [days_of(begin, end, zone) for begin, end in spells]
        self.columns = [slice((begin - first).days, (end - first).days + 1) for begin, end in spells]
        self.concerned, before = set(late), -1
        while len(self.concerned) > before:
            before = len(self.concerned)
            self.parts = [whole.part(self._rows(whole)) for whole in self.wholes]
            self.concerned.update(*(part.ids.tolist() for part in self.parts))
            if len(self.parts) == 1:
                break

    def are_many(self, accounts: Sized) -> bool:
        """Whether it is rather worked out whole than to correct it by so many accounts."""
        return len(accounts) > min(max(len(self.wholes[0].tree) // PART, AT_LEAST), MOST)

    def _rows(self, whole: Accounts) -> list[int]:
        return [whole.row_of_id[each] for each in self.concerned if each in whole.row_of_id]


def _read_again(tx: Transaction, product: Product, trees: _Trees, kept: KeptReadings) -> tuple[Segment, ...]:
    """The days of the accounts that late facts concern, on what is kept of the others."""
    segments = []
    pools = pools_service.pools(tx, [product])
    for part, days, columns in zip(trees.parts, trees.days, trees.columns, strict=True):
        own_before, below, reserved_below, cushion = kept.of_accounts(part.ids)[:, :, columns]
        own, late = own_before.copy(), [each for each in trees.late if each in part.row_of_id]
        if late:
            rows = part.rows(np.array(late, dtype=np.int64))
            own[rows] = usage.own_of_each_by_day(tx, part, [product], days, late)[product.id][rows]
        grid = allocations.by_days(tx, part, [product], days, part.ids.tolist())[product.id]
        roots, placed = pools_service.layout(part, pools, [product])
        used, held = own_before + below, own_before + below + reserved_below + cushion
        elsewhere = (
            below + reserved_below - _of_children(part, held, roots.rows),
            below - _of_children(part, used, roots.rows),
        )
        readings = read_days(part.tree, own, grid, roots.rows.tolist(), days, None, elsewhere)
        segments.append(Segment.of(part, readings, roots, placed, uncharged_days(tx, part, days)))
    return tuple(segments)


def _of_children(accounts: Accounts, figures: Ints, owners: Ints) -> Ints:
    """Of each account the sum over those directly below it, owners of pools (rows) aside, which pass nothing on."""
    passed_on, found = figures.copy(), np.zeros_like(figures)
    passed_on[owners] = 0
    np.add.at(found, accounts.tree.parent[1:], passed_on[1:])
    return found


@dataclass(frozen=True)
class _CorrectedMonth(ProductMonth):
    """A month of which only the accounts concerned are read; of the others it has what is kept: which part they have in
    lines, and in pools (by owner's number)."""

    parts_of_all: Sequence[LineParts]
    kept_weights: Mapping[int, PoolWeights]

    @property
    def line_parts(self) -> Sequence[LineParts]:
        """Which part each account has in its buyers' lines, by the trees of the days."""
        return self.parts_of_all

    def weights_of(self, pool: Pool) -> PoolWeights:
        """By what a pool's cost is shared."""
        before, mine = self.kept_weights[pool.owner_id], super().weights_of(pool)
        held = dict(mine.below)
        return PoolWeights(mine.own, tuple((each, held.get(each, was)) for each, was in before.below), before.supply)

    def has_others_below(self, pool: Pool) -> bool:
        """Whether some accounts have a part in a pool now that had none in what is kept."""
        below = {account for account, _ in self.kept_weights[pool.owner_id].below}
        return not below.issuperset(account for account, _ in super().weights_of(pool).below)


class _Pricing:
    """What late facts change of a month, for the buyers among the accounts concerned, and for others that bear costs
    with them."""

    def __init__(self, tx: Transaction, product: Product, kept: KeptMonth, trees: _Trees, period: BillingPeriod):
        self.tx, self.product, self.kept, self.trees, self.period = tx, product, kept, trees, period
        accounts = period.accounts
        self.rows = sorted(accounts.row_of_id[each] for each in trees.concerned if each in accounts.row_of_id)
        self.codes = [accounts.tree.codes[row] for row in self.rows]
        self.sellers = [code for code in self.codes if code in period.rate_cards.sellers]

    def correction(self) -> Correction | None:
        """It; None where the weights of a pool are not known."""
        trees, period, product = self.trees, self.period, self.product
        pools = [each for each in pools_service.pools(self.tx, [product]) if each.owner_id in trees.concerned]
        weights = {each.owner_id: kept_weights(self.tx, product, period.first, each, trees) for each in pools}
        known = {owner: each for owner, each in weights.items() if each is not None}
        if len(known) < len(weights):
            return None
        readings = self._readings()
        if readings.corrections is not None and trees.are_many(readings.corrections.ids):
            return None
        segments = _read_again(self.tx, product, trees, readings)
        found = AccountDays.of(ProductMonth(product, period.first, period.last, segments, ()))
        now = readings.corrected(found)
        every = tuple(pools_service.pools(self.tx, [product]))
        month = _CorrectedMonth(product, period.first, period.last, segments, every, self._line_parts(now), known)
        if any(map(month.has_others_below, pools)):
            return None
        period.go_by(month)
        buyers = period.buyers(self.rows)
        amounts, unpriced = charged(period, product, buyers)
        months, others = self._shared(pools, month)
        there, before = self._kept_charges(buyers, others.difference(buyers))
        amounts |= before
        costs = period.costs(product.code, {each: currency for each, (_, currency) in amounts.items()})
        totals = ProductTotals(amounts, costs, frozenset(unpriced), self.kept.days, tuple(months))
        return Correction(self.kept, there, totals, found.over(readings.corrections).packed())

    def _readings(self) -> KeptReadings:
        """What is kept of the accounts concerned, and of all that have a part in the lines of sellers among them."""
        blocks = {block_of(each) for each in self.trees.concerned}
        for code in self.sellers:
            if not self.period.owns_pool(code, self.product.code):
                for each in self.trees.wholes:
                    blocks.update(map(block_of, each.branches([code])))
        blocks.add(CORRECTIONS)
        packed = store.kept_readings(self.tx.connection, self.product.id, self.period.first, blocks)
        return KeptReadings.unpacked(packed, sum(map(len, self.trees.days)))

    def _line_parts(self, now: KeptReadings) -> list[LineParts]:
        found = []
        for whole, days, columns in zip(self.trees.wholes, self.trees.days, self.trees.columns, strict=True):
            roots, _ = pools_service.layout(whole, pools_service.pools(self.tx, [self.product]), [self.product])

            def weigh(by_use: bool, whole: Accounts = whole, days: list[Day] = days, columns: slice = columns) -> Ints:
                kinds = (OWN,) if by_use else (OWN, CUSHION)
                ids, sums = now.sums(kinds, columns)
                there = np.isin(ids, whole.ids)
                weights = np.zeros(len(whole.tree), dtype=np.int64)
                weights[whole.rows(ids[there])] = sums[there]
                charged_on = charged_days_of(whole, uncharged_days(self.tx, whole, days), len(days))
                if charged_on is not None:
                    some = np.flatnonzero(~charged_on.all(axis=1))
                    each_day = now.of_accounts(whole.ids[some])[list(kinds), :, columns].sum(axis=0)
                    weights[some] = (each_day * charged_on[some]).sum(axis=1)
                return weights

            found.append(LineParts(whole, pool_of(whole.tree, roots, 1)[:, 0], weigh))
        return found

    def _shared(self, pools: Sequence[Pool], month: _CorrectedMonth) -> tuple[list[PoolMonth], set[str]]:
        """What the pools of accounts concerned cost, shared anew; and the buyers to whom something is another cost,
        though they are not concerned."""
        period, tree = self.period, self.period.accounts.tree
        months, others = [], set[str]()
        for pool in pools:
            before, now = month.kept_weights[pool.owner_id], month.weights_of(pool)
            for currency in pool.currencies:
                bore, bears = (period.shared(pool, currency, by, self.product.spreads_idle) for by in (before, now))
                others |= {
                    new.account for old, new in zip(bore, bears, strict=True) if new.account and new.cost != old.cost
                }
                period.bear(pool, currency, bears)
                months.append(pool_month(period, pool, currency, now, bears))
        for code in self.sellers:
            if not period.owns_pool(code, self.product.code):
                begin, end = np.searchsorted(tree.parent, [tree.row(code), tree.row(code) + 1]).tolist()
                others.update(tree.codes[begin:end])
        return months, others

    def _kept_charges(
        self, buyers: Collection[str], others: Collection[str]
    ) -> tuple[store.KeptFigures, dict[str, tuple[Decimal, str]]]:
        """What is kept of buyers concerned, and of others that are charged something; and what these are charged."""
        number, connection, first = self.trees.numbers.number, self.tx.connection, self.period.first
        numbers = {number(each): each for each in others}
        kept = store.kept_figures_of(connection, self.product.id, first, [*map(number, buyers), *numbers])
        there = {key: row for key, row in kept.items() if key[0] not in numbers or row[0] is not None}
        charged = {numbers[each]: (Decimal(row[0]), row[1]) for (each,), row in there.items() if each in numbers}
        return there, charged


def packed_weights(weights: PoolWeights, number: Callable[[str], int]) -> bytes:
    """Weights as they are kept, with accounts by number."""
    below = [(number(account), held) for account, held in weights.below]
    return zlib.compress(json.dumps([weights.own, weights.supply, below]).encode())


def kept_weights(tx: Transaction, product: Product, first: date, pool: Pool, trees: _Trees) -> PoolWeights | None:
    """By what a pool of a product was shared in a month, where that is kept."""
    packed = store.kept_weights(tx.connection, product.id, first, pool.owner_id)
    if packed is None:
        return None
    own, supply, below = json.loads(zlib.decompress(packed))
    return PoolWeights(own, tuple((trees.numbers.code(each), held) for each, held in below), supply)
