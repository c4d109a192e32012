"""What a draft would do: positions before and after side by side, every breach labelled, and the money of a full
month."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from decimal import Decimal
from fractions import Fraction
from functools import cached_property
from typing import Any

import numpy as np

from fair_ladle.app.accounts.service import is_in_scope, top_row
from fair_ladle.app.allocations.positions import Positions, settle_snapshot
from fair_ladle.app.allocations.present import HeldBeside
from fair_ladle.app.drafts.evaluate import DraftEvaluation
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.problems import Problem, Refused
from fair_ladle.app.pools.service import Pool, Product
from fair_ladle.app.statements.rate_cards import RateCards, decimals_of
from fair_ladle.core.calendar import day_name
from fair_ladle.core.costing import currencies_of, share_cost, supply_on
from fair_ladle.core.pricing import BuyerDay, charge, summed
from fair_ladle.core.quantities import half_up
from fair_ladle.core.settling import NO_LIMIT
from fair_ladle.core.tree import Ints


@dataclass(frozen=True)
class Breach:
    """An account past its cap, or (account None) a pool in shortfall: by how much before and after, in grains.

    ``day`` is set where it comes about only on a day ahead.
    """

    account: str | None
    owner: str
    product: str
    before: int
    after: int
    hard: bool
    day: date | None = None
    by_seats: bool = False
    """The cap follows seats, and fell with them: that stops nobody from releasing one."""

    @property
    def label(self) -> str:
        """new, worse, same, better or cleared."""
        if self.before == 0:
            return "new"
        if self.after == 0:
            return "cleared"
        return "worse" if self.after > self.before else "better" if self.after < self.before else "same"

    @property
    def stops(self) -> bool:
        """With a new or worse hard breach of the present nothing is applied."""
        return self.hard and not self.by_seats and self.day is None and self.label in ("new", "worse")


@dataclass(frozen=True)
class MoneyChange:
    """A full month of one account, before and after: what it is charged (None = by nobody) and what it costs its
    seller."""

    account: str
    currency: str
    charged_before: Decimal
    charged_after: Decimal
    cost_before: Decimal
    cost_after: Decimal


HeldAhead = Callable[[str, Product, Sequence[date]], Mapping[date, tuple[int, int]]]
"""For the code of a pool's owner, its product and days ahead: how much more is held, and used, than now (grains)."""


class Impact:
    """Positions before and after a plan, both on the planned tree's rows."""

    def __init__(self, evaluation: DraftEvaluation, beside: HeldBeside | None = None, ahead: HeldAhead | None = None):
        """``beside``: where the tree is a part, what others hold that share the pools' costs. ``ahead``: how much more
        is held of a pool, and used, on days ahead; without it what is held now."""
        self.evaluation = evaluation
        self._held_ahead = ahead
        self.beside = beside or {}
        self.present: Positions = settle_snapshot(evaluation.before)
        self.after: Positions = settle_snapshot(evaluation.snapshot)
        # As whoever evaluates it sees them: every figure of room ends at the top of their branch.
        self.seen_before = self.present.seen_by(top_row(evaluation.before.accounts, evaluation.actor))
        self.seen_after = self.after.seen_by(top_row(evaluation.accounts, evaluation.actor))

    def before(self, array: Any, default: Any = 0) -> Any:
        """An array of the present on the planned rows."""
        return self.evaluation.pick(array, default)

    @cached_property
    def breaches(self) -> list[Breach]:
        """Every breach of before and after: accounts in tree order, then pools, then what comes ahead."""
        return self._present_breaches + self._ahead()

    @cached_property
    def _present_breaches(self) -> list[Breach]:
        snapshot = self.after.snapshot

        def over(load: Ints, cap: Ints) -> Ints:
            capped = cap < NO_LIMIT
            return np.where(capped, np.maximum(0, load - np.where(capped, cap, 0)), 0)

        present = self.present.snapshot
        was = over(self.before(self.present.settled.load), self.before(present.grid.cap, NO_LIMIT))
        now = over(self.after.settled.load, snapshot.grid.cap)
        hard = (self.after.settled.load > self.after.hard) | self.before(
            self.present.settled.load > self.present.hard, False
        )
        codes = snapshot.accounts.tree.codes
        loads = self.before(self.present.settled.load)
        followed = {
            (int(self.evaluation.from_row[row]), column): (row, column) for row, column in snapshot.grid.following
        }
        by_seats = {
            followed[cell]
            for cell, each in present.grid.following.items()
            if cell in followed
            and snapshot.grid.following[followed[cell]] == each
            and self.after.settled.load[followed[cell]] <= loads[followed[cell]]
        }
        found = [
            Breach(
                codes[row],
                codes[int(snapshot.owner[row, column])],
                snapshot.products[column].code,
                int(was[row, column]),
                int(now[row, column]),
                bool(hard[row, column]),
                by_seats=(row, column) in by_seats,
            )
            for row, column in np.argwhere((was > 0) | (now > 0)).tolist()
        ]
        found.sort(
            key=lambda each: int(snapshot.accounts.tree.depth_first[snapshot.accounts.tree.row(each.account or "")])
        )
        short: dict[tuple[str, str], list[int]] = {}  # before, after
        for at, positions in ((0, self.present), (1, self.after)):
            for place, by in enumerate(positions.shortfalls().tolist()):
                short.setdefault(self._pool(positions, place), [0, 0])[at] = by
        found.extend(
            Breach(None, owner, product, before, after, True)
            for (owner, product), (before, after) in short.items()
            if before or after
        )
        return found

    @staticmethod
    def _pool(positions: Positions, place: int) -> tuple[str, str]:
        snapshot = positions.snapshot
        return snapshot.accounts.tree.codes[int(snapshot.roots.rows[place])], snapshot.pools[place].product.code

    def _ahead(self) -> list[Breach]:
        """Shortfalls of pools in sight on days ahead on which lots begin or have ended. What the plan changes of what
        is held stays changed by as much on those days."""
        lots: dict[tuple[str, str], list[Any]] = {}
        for at, positions in ((0, self.present), (1, self.after)):
            for place, pool in enumerate(positions.snapshot.pools):
                lots.setdefault(self._pool(positions, place), [None, None])[at] = (
                    pool,
                    int(positions.pool_load()[place]),
                    int(positions.pool_used()[place]),
                )
        found = []
        today = self.after.snapshot.day
        for (owner, product), sides in lots.items():
            if None not in sides and sides[0][0].lots == sides[1][0].lots and sides[0][1:] == sides[1][1:]:
                continue
            if not is_in_scope(self.evaluation.accounts, self.evaluation.actor, owner):
                continue
            pools = [side[0] for side in sides if side]
            days = sorted(
                {
                    day
                    for pool in pools
                    for lot in pool.lots
                    for day in (lot.first_day, lot.last_day and lot.last_day + timedelta(days=1))
                    if day and day > today
                }
            )
            more = {} if self._held_ahead is None or not days else self._held_ahead(owner, pools[0].product, days)
            for day in days:
                load, used = more.get(day, (0, 0))
                before, after = (
                    0 if side is None else _short(side[0], side[1] + load, side[2] + used, day) for side in sides
                )
                if before != after:
                    found.append(Breach(None, owner, product, before, after, True, day))
        return found

    @cached_property
    def on_the_way(self) -> set[tuple[str, str]]:
        """The accounts whose caps what is allocated counts against, with the product: themselves and all above."""
        tree, products = self.after.snapshot.accounts.tree, self.after.snapshot.products
        return {
            (tree.codes[above], products[column].code)
            for row, column, _ in self.evaluation.placed
            for above in tree.path_up(row)
        }

    @cached_property
    def stopping(self) -> list[Breach]:
        """New and worse hard breaches: with one of them nothing is applied."""
        return [each for each in self._present_breaches if each.stops]

    def _differs(self, *figures: tuple[Any, Any, Any]) -> Any:
        """Where any of these (before, after, default) differ, as a matrix of planned rows and columns."""
        differs = np.zeros(self.after.settled.load.shape, dtype=bool)
        for before, after, default in figures:
            differs |= self.before(before, default) != after
        return differs

    @cached_property
    def moved(self) -> Any:
        """Cells whose amounts or terms differ: those that cost something else."""
        was, now = self.present, self.after
        differs = self._differs(
            (was.settled.load, now.settled.load, 0),
            (was.settled.held, now.settled.held, 0),
            (was.snapshot.grid.cap, now.snapshot.grid.cap, NO_LIMIT),
            (was.snapshot.grid.reserve, now.snapshot.grid.reserve, 0),
            (was.snapshot.grid.overage, now.snapshot.grid.overage, False),
            (was.used(), now.used(), 0),
        )
        if was.snapshot.accounts is not now.snapshot.accounts:
            charged_otherwise = self.before(was.snapshot.accounts.uncharged, False) != now.snapshot.accounts.uncharged
            differs |= charged_otherwise[:, None] & (now.settled.held > 0)
        return differs

    @cached_property
    def differing(self) -> Any:
        """Cells of which anything on screen differs."""
        was, now = self.present, self.after
        return self.moved | self._differs(
            (self.seen_before.headroom.room, self.seen_after.headroom.room, 0),
            (was.snapshot.grid.burst, now.snapshot.grid.burst, NO_LIMIT),
        )

    def pools(self) -> list[tuple[int, Product, int, int]]:
        """For every pool after of which that differs: its owner's row, its product, and what of it is free before and
        after."""
        free_before = {}
        for place, standing in enumerate(self.present.pool_standing().tolist()):
            free_before[self._pool(self.present, place)] = standing
        found = []
        for place, standing in enumerate(self.after.pool_standing().tolist()):
            snapshot = self.after.snapshot
            owner = int(snapshot.roots.rows[place])
            before = free_before.get(self._pool(self.after, place), 0)
            if before != standing:
                found.append((owner, snapshot.pools[place].product, before, standing))
        return found

    def money(self, rate_cards: RateCards) -> list[MoneyChange]:
        """For every account and currency in which its charge or its cost of a full month differs, the two beside each
        other; amounts of different currencies are never added. Costs are those of pools owned in the actor's branch."""
        charged = self._charged(rate_cards)
        costs = (self._costs(self.present), self._costs(self.after))
        tree = self.after.snapshot.accounts.tree if not self.beside else rate_cards.accounts.tree
        cells = {*charged, *(at for at in costs[0].keys() | costs[1].keys() if costs[0].get(at) != costs[1].get(at))}
        found = []
        for code, currency in sorted(cells, key=lambda at: (int(tree.depth_first[tree.row(at[0])]), at[1])):
            before, after = (half_up(each.get((code, currency), Decimal(0)), decimals_of(currency)) for each in costs)
            charged_before, charged_after = charged.get((code, currency), [Decimal(0), Decimal(0)])
            found.append(MoneyChange(code, currency, charged_before, charged_after, before, after))
        return [
            each for each in found if each.charged_before != each.charged_after or each.cost_before != each.cost_after
        ]

    def _costs(self, positions: Positions) -> dict[tuple[str, str], Decimal]:
        """What a full month of the pools costs, by the account that bears it and currency."""
        found: dict[tuple[str, str], Decimal] = {}
        for (account, _, currency), cost in self._borne(positions).items():
            found[account, currency] = found.get((account, currency), Decimal(0)) + cost
        return found

    @staticmethod
    def _months_cost(
        borne: dict[tuple[str, str, str], Decimal], account: str, product: str, currency: str
    ) -> Fraction | None:
        """What a product costs an account's seller, where it is all bought in a currency."""
        mine = {of: cost for (bearer, code, of), cost in borne.items() if (bearer, code) == (account, product) and cost}
        return None if not mine.keys() <= {currency} else Fraction(mine.get(currency, Decimal(0)))

    def _borne(self, positions: Positions) -> dict[tuple[str, str, str], Decimal]:
        """What a full month of the pools costs, by the account directly below the owner that bears it (idle that is
        retained is the owner's), product and currency."""
        snapshot = positions.snapshot
        found: dict[tuple[str, str, str], Decimal] = {}
        tree = snapshot.accounts.tree
        inside = set(tree.branch(top_row(snapshot.accounts, self.evaluation.actor)).tolist())
        for place, pool in enumerate(snapshot.pools):
            owner, column = int(snapshot.roots.rows[place]), int(snapshot.roots.columns[place])
            running = [lot for lot in pool.lots if lot.covers(snapshot.day)]
            if not running or owner not in inside:
                continue
            below = np.flatnonzero((tree.parent == owner) & (snapshot.owner[:, column] == owner)).tolist()
            held = [(tree.codes[row], int(positions.settled.held[row, column])) for row in below]
            held += self.beside.get((tree.codes[owner], pool.product.code), [])
            for currency in currencies_of(running):
                cost = sum((lot.units * lot.unit_cost for lot in running if lot.currency == currency), Decimal(0))
                bearers = share_cost(
                    half_up(cost, decimals_of(currency)),
                    (tree.codes[owner], int(snapshot.own[owner, column])),
                    sorted(held),
                    int(snapshot.supply.quantity[place]),
                    decimals_of(currency),
                    pool.product.spreads_idle,
                )
                for bearer in bearers:
                    at = (bearer.account or tree.codes[owner], pool.product.code, currency)
                    found[at] = found.get(at, Decimal(0)) + bearer.cost
        return found

    def _prices_begin(self) -> dict[tuple[int, int], date]:
        """The cells (row, column) that the draft gives another price, with the day on which the last of them begins."""
        tree, found = self.after.snapshot.accounts.tree, dict[tuple[int, int], date]()
        columns = {each.code: column for column, each in enumerate(self.after.snapshot.products)}
        for rate in self.evaluation.rates:
            below = (
                np.flatnonzero(tree.parent == tree.row(rate.seller)).tolist()
                if rate.buyer is None
                else [tree.row(rate.buyer)]
            )
            for row in below:
                cell = (int(row), columns[rate.product])
                found[cell] = max(rate.first_day, found.get(cell, rate.first_day))
        return found

    def _charged(self, rate_cards: RateCards) -> dict[tuple[str, str], list[Decimal]]:
        """(account, currency) → what its seller charges it for the products whose figures differ, before and after; a
        markup as far as the seller owns the pool and buys it in that currency."""
        used = (self.present.used(), self.after.used())
        borne = (self._borne(self.present), self._borne(self.after))
        planned = rate_cards.over(self.after.snapshot.accounts, self.evaluation.rates)
        found: dict[tuple[str, str], list[Decimal]] = {}
        begins = self._prices_begin()
        cells = np.argwhere(self.moved).tolist()
        cells += [list(cell) for cell in begins if not self.moved[cell]]
        for row, column in cells:
            code, product = self.after.snapshot.accounts.tree.codes[row], self.after.snapshot.products[column]
            for at, positions in ((0, self.present), (1, self.after)):
                if at == 0 and int(self.evaluation.from_row[row]) < 0:
                    continue
                where = row if at else int(self.evaluation.from_row[row])
                prices = planned if at else rate_cards
                first = positions.snapshot.day.replace(day=1)
                if at:
                    first = max(first, begins.get((row, column), first))
                rate = prices.rate(code, product.code, first) if code in prices.accounts.tree else None
                if (
                    rate is None
                    or int(positions.snapshot.owner[where, column]) in (-1, where)
                    or positions.snapshot.accounts.uncharged[where]
                ):
                    continue
                if not (positions.snapshot.grid.present[where, column] or positions.settled.held[where, column]):
                    continue
                currency = prices.currency(rate)
                day = _month_at(positions, used[at], where, column)
                cost = None if rate.markup is None else self._months_cost(borne[at], code, product.code, currency)
                found.setdefault((code, currency), [Decimal(0), Decimal(0)])[at] += charge(
                    rate, summed(rate, [day], product.per_unit), decimals_of(currency), 1, cost
                ).amount
        return found


def _month_at(positions: Positions, used: Ints, row: int, column: int) -> BuyerDay:
    """A month of which every second is like now."""
    snapshot = positions.snapshot
    cap = int(snapshot.grid.cap[row, column])
    limited = bool(snapshot.grid.overage[row, column]) and cap < NO_LIMIT
    return BuyerDay(
        1,
        int(positions.settled.load[row, column]),
        int(positions.settled.held[row, column]),
        int(snapshot.grid.reserve[row, column]),
        int(used[row, column]),
        cap if limited else None,
    )


def _short(pool: Pool, load: int, used: int, day: date) -> int:
    return supply_on(pool.lots, day).shortfall(load, used)


def format_breach(impact: Impact, breach: Breach, freed: int = 0) -> str:
    """A breach in words; ``freed``: so many units come off hold with it."""
    snapshot = impact.after.snapshot
    product = next(each for each in snapshot.products if each.code == breach.product)
    when = f" from {day_name(breach.day)}" if breach.day else ""
    if breach.account is None:
        if breach.after == 0:
            return f"{product.name} is covered{when}."
        return (
            f"{product.name} would be short by {product.said(breach.after)}{when}: more would be reserved than bought."
        )
    name = snapshot.accounts.name(snapshot.accounts.tree.row(breach.account))
    if breach.after == 0:
        return f"{name} is back within its cap of {product.name}{_freed(product, freed)}."
    place = (snapshot.accounts.tree.row(breach.account), snapshot.products.index(product))
    clock = snapshot.clocks.get(place)
    rest = ", which its limit does not allow" if breach.hard else ""
    if clock is not None:
        ends = clock.deadline_day
        rest = (
            f"; its grace ends on {day_name(ends)}, and what is over by then goes on hold"
            if ends >= snapshot.day
            else f"; its grace ended on {day_name(ends)}, and what is in use of that is on hold"
        )
    would = "is" if breach.label == "same" else "would be"
    over = f"{product.said(breach.after)} over its cap of {product.name}"
    return f"{name} {would} {over}{rest}{_freed(product, freed)}."


def _freed(product: Product, units: int) -> str:
    return f"; {product.said(units)} come{'s' if units == 1 else ''} off hold" if units > 0 else ""


def visible(impact: Impact, actor: Actor, breaches: list[Breach]) -> list[Breach]:
    """Those of the actor's branch: of its accounts, and of pools that they own. Others are not named to the actor."""
    tree = impact.after.snapshot.accounts.tree
    top = top_row(impact.after.snapshot.accounts, actor)
    inside = set(tree.branch(top).tolist())
    return [each for each in breaches if tree.row(each.account or each.owner) in inside]


def stopping_in_sight(impact: Impact, actor: Actor) -> list[Breach]:
    """What stops it, as far as the actor may know."""
    return visible(impact, actor, impact.stopping)


def refusal(impact: Impact, actor: Actor) -> Refused | None:
    """Why the plan cannot be applied, as far as the actor may know; None where it can be.

    Where only something above the actor's branch stops it, nothing is said but whom to ask.
    """
    if not impact.stopping:
        return None
    mine = stopping_in_sight(impact, actor)
    if mine:
        breaches = [{"account": each.account, "product": each.product, "label": each.label} for each in mine]
        detail = format_breach(impact, mine[0])
        return Refused(Problem("hard-breach", "It would break a limit", 409, detail, {"breaches": breaches}))
    accounts = impact.present.snapshot.accounts
    above = accounts.name(int(accounts.tree.parent[top_row(accounts, actor)]))
    return Refused(
        Problem(
            "not-available",
            "Not available now",
            409,
            f"Not available now; ask {above}. The draft stays as it is.",
            {"ask": above, "products": sorted({each.product for each in impact.stopping})},
        )
    )
