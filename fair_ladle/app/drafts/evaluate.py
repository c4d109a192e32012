"""A draft's changes checked one by one, and laid over a world: the copy a draft is evaluated on."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from datetime import date
from typing import Any

import numpy as np

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import AccountFacts, Accounts
from fair_ladle.app.allocations.positions import Snapshot, settle_snapshot
from fair_ladle.app.drafts import planned_lots
from fair_ladle.app.drafts.change_types import (
    AllocationChange,
    Change,
    LotEnd,
    Move,
    NewAccount,
    NewLot,
    RateChange,
    StatusChange,
    Terms,
    UnitsChange,
)
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Pool, Product
from fair_ladle.app.statements.rate_cards import is_currency
from fair_ladle.core.allocations import AtCap, Grid, Version
from fair_ladle.core.calendar import day_name, micros
from fair_ladle.core.clocks import clock_from
from fair_ladle.core.costing import Lot
from fair_ladle.core.pricing import Aggregate, Basis, Fees, Rate, Tier, TierMode
from fair_ladle.core.quantities import MOST_GRAINS, to_units
from fair_ladle.core.settling import pool_of
from fair_ladle.core.tree import Ints, Tree


@dataclass(frozen=True)
class DraftFault:
    """What is wrong with one change on its own, and what would be right; ``kind`` and ``key`` name the change."""

    kind: str
    key: str
    detail: str


def version_of(account: str, terms: Terms) -> Version:
    """Terms as the engine's version."""
    return Version(
        account,
        date.min,
        None,
        terms.reserve,
        terms.cap,
        AtCap(terms.at_cap),
        terms.burst,
        terms.grace_days,
        terms.per,
        terms.each,
    )


def rate_of(change: RateChange) -> Rate:
    """A rate as the engine has it."""
    return Rate(
        change.seller,
        change.buyer,
        change.product,
        change.first_day,
        Basis(change.basis),
        Aggregate(change.aggregate),
        TierMode(change.tier_mode),
        tuple(Tier(each.from_quantity, each.unit_price) for each in change.tiers),
        change.included,
        change.overage_price,
        change.minimum,
        change.fixed_fee,
        change.currency,
        change.committed,
        Fees(change.fees),
        change.markup,
    )


@dataclass(frozen=True)
class InUse:
    """Who has what, as far as the actor may know: by product and subject the accounts in which that subject has one,
    and by username the account of each person."""

    holding: dict[tuple[str, str], set[str]] = field(default_factory=dict)
    account_of: dict[str, str] = field(default_factory=dict)


class DraftEvaluation:
    """Changes over a world. ``faults`` holds what is wrong with some of them; ``world`` has the others.

    ``from_row`` says for every row of the planned tree which row of the present one it is, -1 for a new account.
    """

    def __init__(self, snapshot: Snapshot, actor: Actor, changes: Sequence[Change], in_use: InUse | None = None):
        self.before = snapshot
        self.in_use = in_use or InUse()
        self.actor = actor
        self.faults: list[DraftFault] = []
        self.placed: list[tuple[int, int, AllocationChange]] = []
        self.rates: list[Rate] = []
        self._column = {product.code: place for place, product in enumerate(snapshot.products)}
        self.accounts = self._with_statuses(
            self._tree([each for each in changes if isinstance(each, NewAccount | Move)]),
            [each for each in changes if isinstance(each, StatusChange)],
        )
        same = self.accounts.tree is snapshot.accounts.tree
        self.from_row: Ints = (
            np.arange(len(snapshot.accounts.tree))
            if same
            else np.array(
                [
                    snapshot.accounts.tree.row(code) if code in snapshot.accounts.tree else -1
                    for code in self.accounts.tree.codes
                ],
                dtype=np.int64,
            )
        )
        self.snapshot = self._with_lots(self._moved(), [each for each in changes if isinstance(each, NewLot | LotEnd)])
        self._close([each for each in changes if isinstance(each, StatusChange) and each.status == "closed"])
        self._units([each for each in changes if isinstance(each, UnitsChange)])
        self._rate(
            [each for each in changes if isinstance(each, RateChange)],
            {each.code for each in changes if isinstance(each, NewAccount)},
        )
        self._allocate([each for each in changes if isinstance(each, AllocationChange)])

    def fault(self, change: Change, detail: str) -> None:
        """Note what is wrong with a change."""
        self.faults.append(DraftFault(change.kind, change.key, detail))

    def known(self, accounts: Accounts, change: Change, code: str) -> int | None:
        """The row of an account in the actor's branch; what is out of sight does not exist."""
        try:
            return accounts_service.row_in_scope(accounts, self.actor, code)
        except Refused as refused:
            self.fault(change, refused.problem.detail)
            return None

    def pick(self, array: Any, default: Any) -> Any:
        """An array of the present tree's rows in the order of the planned tree's."""
        if self.accounts.tree is self.before.accounts.tree:
            return array
        picked = np.full((len(self.from_row), *array.shape[1:]), default, dtype=array.dtype)
        there = self.from_row >= 0
        picked[there] = array[self.from_row[there]]
        return picked

    def _tree(self, changes: list[NewAccount | Move]) -> Accounts:
        accounts, tree = self.before.accounts, self.before.accounts.tree
        if not changes:
            return accounts
        parents: dict[str, str | None] = {
            code: None if above < 0 else tree.codes[above]
            for code, above in zip(tree.codes, tree.parent.tolist(), strict=True)
        }
        facts = dict(zip(tree.codes, accounts.facts, strict=True))
        top = tree.codes[accounts_service.top_row(accounts, self.actor)]
        made = self._new_accounts(accounts, [each for each in changes if isinstance(each, NewAccount)])
        for new in made.values():
            parents[new.code] = new.parent
            facts[new.code] = AccountFacts(
                -len(facts) - 1,
                new.code,
                new.account_kind,
                new.name,
                admin_email=new.admin_email,
                billing_email=new.billing_email,
                unallocated=new.unallocated,
            )
        for change in changes:
            if not isinstance(change, Move) or not self._can_be_parent(accounts, change, made):
                continue
            row = self.known(accounts, change, change.account)
            if row is None:
                continue
            name = accounts.name(row)
            if change.account == top:
                self.fault(change, f"{name} is the top of your branch; only its parent account can move it.")
            elif self._below(parents, change.parent, change.account):
                self.fault(change, f"{name} cannot stand below itself; choose a parent outside its branch.")
            else:
                parents[change.account] = change.parent
        tree = Tree.build(parents)
        ordered = tuple(facts[code] for code in tree.codes)
        ids = np.array([each.id for each in ordered], dtype=np.int64)
        return Accounts(tree, ids, ordered, {each.id: row for row, each in enumerate(ordered)})

    def _new_accounts(self, accounts: Accounts, changes: list[NewAccount]) -> dict[str, NewAccount]:
        """The new accounts that can be, parents before their children: each parent is there, or is made before."""
        folded = {code.casefold() for code in accounts.tree.codes}
        waiting, made = list[NewAccount](), dict[str, NewAccount]()
        for change in changes:
            if change.code.casefold() in folded:
                self.fault(change, f"There is an account {change.code} already; a code is given once.")
            else:
                folded.add(change.code.casefold())
                waiting.append(change)
        wanted = {each.code for each in waiting}
        while ready := [each for each in waiting if each.parent in made or each.parent not in wanted]:
            for change in ready:
                waiting.remove(change)
                if self._can_be_parent(accounts, change, made):
                    made[change.code] = change
                else:
                    wanted.discard(change.code)
        for change in waiting:
            self.fault(
                change, f"{change.code} would stand below itself: choose a parent that is there, or made before it."
            )
        return made

    def _can_be_parent(self, accounts: Accounts, change: NewAccount | Move, made: dict[str, NewAccount]) -> bool:
        if change.parent in made:
            return True
        row = self.known(accounts, change, change.parent)
        if row is not None and accounts.status(row) == "closed":
            self.fault(change, f"{accounts.name(row)} is closed; reopen it first, or choose another parent.")
            return False
        return row is not None

    def _with_statuses(self, accounts: Accounts, changes: list[StatusChange]) -> Accounts:
        """The planned accounts with other statuses."""
        if not changes:
            return accounts
        facts = list(accounts.facts)
        top = accounts_service.top_row(accounts, self.actor)
        for change in changes:
            row = self.known(accounts, change, change.account)
            if row is None:
                continue
            name, own = accounts.name(row), facts[row].status or "active"
            above = int(accounts.tree.parent[row])
            if row == top:
                self.fault(change, f"{name} is the top of your branch; its status is its parent's to say.")
            elif int(accounts.ids[row]) < 0:
                self.fault(change, f"{name} is only made by this draft; take it out instead.")
            elif change.status == own and (own != "suspended" or change.charged == facts[row].charged):
                self.fault(change, f"{name} is {own} already.")
            elif accounts.status(above) == "closed":
                self.fault(change, f"{name} is below a closed account; reopen that one first.")
            else:
                facts[row] = facts[row]._replace(
                    status=None if change.status == "active" else change.status,
                    charged=change.charged,
                    status_since=self.before.day,
                )
        return Accounts(accounts.tree, accounts.ids, tuple(facts), accounts.row_of_id)

    def _close(self, changes: list[StatusChange]) -> None:
        """What is closed holds nothing: neither what is in use in its branch nor what was allocated to it."""
        snapshot = self.snapshot
        for change in changes:
            if change.account not in snapshot.accounts.tree or any(
                each.kind == change.kind and each.key == change.key for each in self.faults
            ):
                continue
            rows = snapshot.accounts.tree.branch(snapshot.accounts.tree.row(change.account))
            owned = [
                pool for pool in snapshot.pools if snapshot.accounts.row_of_id[pool.owner_id] in set(rows.tolist())
            ]
            running = [
                (pool, lot)
                for pool in owned
                for lot in pool.lots
                if lot.last_day is None or lot.last_day >= snapshot.day
            ]
            for pool, lot in running:
                owner = snapshot.accounts.name(snapshot.accounts.row_of_id[pool.owner_id])
                self.fault(
                    change,
                    f"{owner} still has lot {lot.reference} of {pool.product.name}; end it first, so that "
                    "nothing is charged that no one has.",
                )
            if running:
                continue
            snapshot.own[rows] = 0
            for row in rows.tolist():
                snapshot.grid.clear(row, slice(None))

    def _units(self, changes: list[UnitsChange]) -> None:
        """Units given and taken; who has them is what ``in_use`` says."""
        snapshot = self.snapshot
        for change in changes:
            row, column = self.known(snapshot.accounts, change, change.account), self._column.get(change.product)
            sound = len(self.faults)
            if row is None:
                continue
            name = snapshot.accounts.name(row)
            if column is None or snapshot.owner[row, column] < 0:
                self.fault(change, f"No pool of {change.product} reaches {name}; buy it there or above first.")
                continue
            product = snapshot.products[column]
            if product.is_storage:
                self.fault(
                    change, f"{product.name} is measured by what is stored; nothing of it is given out or taken back."
                )
            elif len(set(change.subjects)) < len(change.subjects):
                self.fault(change, f"{name}: a person is listed twice.")
            elif change.give and product.measure == "item":
                self.fault(change, f"{product.name} is numbered; assign its numbers under Numbers.")
            elif change.give and snapshot.accounts.status(row) != "active":
                self.fault(change, f"{name} is {snapshot.accounts.status(row)}; nothing new is given out there.")
            for subject in change.subjects:
                holding = self.in_use.holding.get((product.code, subject), set())
                if change.give and product.is_personal and self.in_use.account_of.get(subject) != change.account:
                    self.fault(change, f"{subject} is not a person of {name}.")
                    continue
                if change.give and holding and product.measure != "session":
                    self.fault(change, f"{subject} has {product.name} already.")
                elif not change.give and change.account not in holding:
                    self.fault(change, f"{subject} has no {product.name} in {name} any more.")
            if len(self.faults) == sound:
                snapshot.own[row, column] += len(change.subjects) if change.give else -len(change.subjects)

    def _rate(self, changes: list[RateChange], new: set[str]) -> None:
        """Rates of sellers in the actor's branch."""
        tree = self.accounts.tree
        for change in changes:
            seller = self.known(self.accounts, change, change.seller)
            sound = len(self.faults)
            if seller is None or (change.buyer in new and change.buyer not in tree):
                continue
            if change.buyer is not None and (
                change.buyer not in tree or int(tree.parent[tree.row(change.buyer)]) != seller
            ):
                self.fault(change, f"{change.buyer} is no buyer of {change.seller}; only its parent sells to it.")
            if change.currency is not None and not is_currency(change.currency):
                self.fault(change, f"{change.currency} is no currency with a minor unit after ISO 4217, like EUR.")
            if change.product not in self._column:
                self.fault(change, f"There is no pool of {change.product}.")
            elif not change.gone and len(self.faults) == sound:
                self._drawn(change, seller)
            starts = [tier.from_quantity for tier in change.tiers]
            if starts and (starts[0] != 0 or starts != sorted(set(starts))):
                self.fault(
                    change, f"Prices of {change.product}: the first from 0, and each next one from a larger quantity."
                )
            if change.buyer not in new and change.first_day <= self.before.day:
                self.fault(change, f"A price begins tomorrow at the earliest, not on {day_name(change.first_day)}.")
            elif change.first_day < self.before.day.replace(day=1):
                self.fault(
                    change,
                    "A rate begins in this month at the earliest, on "
                    f"{day_name(self.before.day.replace(day=1))}; earlier months are charged already.",
                )
            if len(self.faults) == sound and not change.gone:
                self.rates.append(rate_of(change))

    def _drawn(self, change: RateChange, seller: int) -> None:
        """Nobody is charged for what they cannot draw from the seller, or draw from a pool of their own."""
        owner, name = self.snapshot.owner[:, self._column[change.product]], self.accounts.name
        buyer = None if change.buyer is None else self.accounts.tree.row(change.buyer)
        if buyer is not None and int(owner[buyer]) == buyer:
            self.fault(
                change, f"{name(buyer)} has a pool of {change.product} of its own; {name(seller)} charges it for none."
            )
        elif int(owner[seller]) < 0:
            self.fault(change, f"No pool of {change.product} reaches {name(seller)}; buy some there or above it first.")

    @staticmethod
    def _below(parents: dict[str, str | None], code: str, above: str) -> bool:
        at: str | None = code
        while at is not None:
            if at == above:
                return True
            at = parents.get(at)
        return False

    def _moved(self) -> Snapshot:
        """The present world on the planned tree."""
        snapshot = self.before
        if self.accounts.tree is snapshot.accounts.tree:
            grid = snapshot.grid.copy()
            return replace(snapshot, accounts=self.accounts, own=snapshot.own.copy(), grid=grid, clocks={})
        empty = Grid.empty(1, 1)
        at = {int(old): row for row, old in enumerate(self.from_row.tolist()) if old >= 0}
        grid = Grid(
            self.pick(snapshot.grid.reserve, empty.reserve[0, 0]),
            self.pick(snapshot.grid.cap, empty.cap[0, 0]),
            self.pick(snapshot.grid.burst, empty.burst[0, 0]),
            self.pick(snapshot.grid.grace, empty.grace[0, 0]),
            self.pick(snapshot.grid.overage, empty.overage[0, 0]),
            self.pick(snapshot.grid.present, empty.present[0, 0]),
            {(at[row], column): each for (row, column), each in snapshot.grid.following.items() if row in at},
        )
        days = {(at[row], column): value for (row, column), value in snapshot.grace_days.items() if row in at}
        return replace(
            snapshot, accounts=self.accounts, own=self.pick(snapshot.own, 0), grid=grid, grace_days=days, clocks={}
        )

    def _with_lots(self, snapshot: Snapshot, changes: list[NewLot | LotEnd]) -> Snapshot:
        if not changes and snapshot.accounts is self.before.accounts:
            return snapshot
        lots = {(pool.owner_id, pool.product.code): list(pool.lots) for pool in snapshot.pools}
        kept = {(pool.owner_id, pool.product.code): pool for pool in snapshot.pools}
        for change in changes:
            row = self.known(snapshot.accounts, change, change.owner)
            if row is None or change.product not in self._column:
                continue
            product = snapshot.products[self._column[change.product]]
            key = (int(snapshot.accounts.ids[row]), product.code)
            wrong = self._lot_faults(snapshot, row, change, product, kept.get(key), lots.get(key, []))
            for detail in wrong:
                self.fault(change, detail)
            if wrong:
                continue
            lots[key] = planned_lots.with_change(lots.get(key, []), change, product)
            if isinstance(change, NewLot):
                kept.setdefault(key, Pool(-1, key[0], product, (), change.currency))
        pools = [replace(pool, lots=tuple(lots[key])) for key, pool in kept.items()]
        roots, placed = pools_service.layout(snapshot.accounts, pools, list(snapshot.products))
        return replace(
            snapshot,
            pools=tuple(placed),
            roots=roots,
            owner=pool_of(snapshot.accounts.tree, roots, len(snapshot.products)),
            supply=pools_service.supply(placed, snapshot.day),
        )

    def _lot_faults(
        self,
        snapshot: Snapshot,
        row: int,
        change: NewLot | LotEnd,
        product: Product,
        pool: Pool | None,
        lots: list[Lot],
    ) -> list[str]:
        name = snapshot.accounts.name(row)
        mine = snapshot.accounts.tree.codes[row] == self.actor.scope
        wrong = []
        if mine and snapshot.accounts.facts[row].kind not in ("operator", "reseller"):
            wrong.append(
                f"What {name} may use comes from its parent; only the operator and resellers buy for themselves."
            )
        currency = pool.currency if pool is not None else ""
        return [*wrong, *planned_lots.faults(name, change, product, currency, lots, snapshot.day)]

    def _allocate(self, changes: list[AllocationChange]) -> None:
        snapshot = self.snapshot
        top = accounts_service.top_row(snapshot.accounts, self.actor)
        for change in changes:
            row = self.known(snapshot.accounts, change, change.account)
            column = self._column.get(change.product)
            if row is None:
                continue
            if change.terms is not None and snapshot.accounts.status(row) == "closed":
                self.fault(change, f"{snapshot.accounts.name(row)} is closed; nothing is allocated to it.")
                continue
            if column is None or snapshot.owner[row, column] < 0:
                self.fault(
                    change,
                    f"No pool of {change.product} reaches {snapshot.accounts.name(row)}; buy it there or above first.",
                )
                continue
            owns = int(snapshot.owner[row, column]) == row
            if row == top and not owns:
                self.fault(
                    change, f"What {snapshot.accounts.name(row)} gets is its parent's to give; ask there for more."
                )
            elif self._terms_sound(change, snapshot.accounts.name(row), snapshot.products[column], owns):
                self.placed.append((row, column, change))
                if change.terms is None:
                    snapshot.grid.clear(row, column)
                else:
                    snapshot.grid.put(row, column, version_of(change.account, change.terms))
        self._start_clocks()

    def _terms_sound(self, change: AllocationChange, name: str, product: Product, owns: bool) -> bool:
        before, terms = len(self.faults), change.terms
        if terms is None:
            return True
        self._follows_sound(change, terms, name, product)
        amounts = (("reserve", terms.reserve), ("cap", terms.cap), ("burst", terms.burst), ("each", terms.each))
        for name_of_term, value in amounts:
            if value is not None and not 0 <= value <= MOST_GRAINS:
                self.fault(change, f"{name}: {name_of_term} is from 0 to {product.said(MOST_GRAINS)}.")
        fixed = terms.cap if terms.per is None else terms.cap or 0
        if fixed is not None and terms.reserve > fixed:
            without = "" if terms.per is None else " without seats"
            self.fault(
                change,
                f"{name}: a reserve of {to_units(terms.reserve, product.measure):f} is over the cap of "
                f"{to_units(fixed, product.measure):f}{without}; raise the cap or lower the reserve.",
            )
        if change.until is not None and change.until.last_day is not None and change.until.last_day < self.before.day:
            self.fault(change, f"{name}: the last day is over; choose one from {day_name(self.before.day)} on.")
        if owns and terms.reserve:
            self.fault(change, f"{name} owns the pool of {product.name}; it has a cap there, not a reserve.")
        if terms.at_cap == "grace" and terms.grace_days is None:
            self.fault(change, f"{name}: grace needs a number of days.")
        return len(self.faults) == before

    def _follows_sound(self, change: AllocationChange, terms: Terms, name: str, product: Product) -> None:
        if terms.per is None and terms.each is None:
            return
        counted = self._column.get(terms.per or "")
        if not product.is_storage:
            self.fault(change, f"{name}: only caps of storage follow seats.")
        elif terms.per is None:
            self.fault(change, f"{name}: say whose seats bring that much each.")
        elif terms.each is None:
            self.fault(change, f"{name}: say how many GB each seat brings.")
        elif counted is None or self.before.products[counted].is_storage:
            self.fault(change, f"{name}: a cap of storage follows seats of a counted product.")

    def _follow_seats(self) -> None:
        """Caps that follow seats are what the plan makes of the seats."""
        snapshot = self.snapshot
        own, begin = dict[str, Ints](), dict[str, list[int]]()
        for code in snapshot.grid.followed:
            column = self._column[code]
            own[code] = snapshot.own[:, column]
            begin[code] = snapshot.roots.rows[snapshot.roots.columns == column].tolist()
        snapshot.follow_seats(own, begin)

    def _start_clocks(self) -> None:
        """Clocks that run go on; an account that the plan puts past its cap under grace begins one now."""
        self.snapshot.bar_unallocated()
        if self.snapshot.beside is None:
            self._follow_seats()
        snapshot, old = self.snapshot, self.before
        days = dict(snapshot.grace_days)
        days.update(
            {(row, column): change.terms.grace_days or 0 for row, column, change in self.placed if change.terms}
        )
        past = np.argwhere(snapshot.grid.grace & (settle_snapshot(snapshot).settled.load > snapshot.grid.cap))
        clocks = {}
        for row, column in past.tolist():
            running = old.clocks.get((int(self.from_row[row]), column))
            clocks[row, column] = running or clock_from(micros(snapshot.at), days.get((row, column), 0), snapshot.zone)
        self.snapshot = replace(snapshot, grace_days=days, clocks=clocks)
