"""Sharing an amount of one pool out over accounts: as changes for a draft, with a plain reason for each."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.allocations import service as allocations
from fair_ladle.app.allocations.positions import Positions, Snapshot, settle_snapshot
from fair_ladle.app.allocations.snapshots import present_snapshot
from fair_ladle.app.allocations.views import visible_room
from fair_ladle.app.drafts import usecases
from fair_ladle.app.drafts.change_types import AllocationChange, Change, LotEnd, NewLot, Terms, Until
from fair_ladle.app.drafts.evaluate import DraftEvaluation
from fair_ladle.app.drafts.reversing import terms_of
from fair_ladle.app.people import service as people
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import invalid, not_found
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.core.quantities import MOST_GRAINS, to_units
from fair_ladle.core.settling import NO_LIMIT
from fair_ladle.core.sharing import Mode, share

Way = Literal["even", "people", "use", "reserve", "max-min", "need"]
As = Literal["cap", "reserve"]
WEIGHED = {"people": "people", "use": "in use", "reserve": "in reserve"}


@dataclass(frozen=True)
class ShareOutWanted:
    """An account to share out to, with the least and the most it gets, in grains (most None = no bound)."""

    account: str
    least: int = 0
    most: int | None = None


@dataclass(frozen=True)
class ShareOutPart:
    """What an account gets and why, and the change that gives it (None where it gets nothing)."""

    account: str
    part: int
    reason: str
    change: AllocationChange | None


@dataclass(frozen=True)
class SharedOut:
    """The parts in tree order; what was to be shared out, what is free, and what the most of everybody leaves over."""

    parts: list[ShareOutPart]
    amount: int
    free: int | None
    """What the account above them can still give, as far as one sees; None = no cap"""
    by_draft: int
    """How much of that the draft brings; below 0 where it takes"""
    left_over: int


def share_out(
    tx: Transaction,
    actor: Actor,
    product_code: str,
    amount: int | None,
    wanted: Sequence[ShareOutWanted],
    way: Way,
    as_what: As,
    draft_id: int | None = None,
) -> SharedOut:
    """Share an amount (None = all that is free) over accounts that do not stand below one another.

    ``cap``: each cap goes up by the part. ``reserve``: each reserve goes up to what is held and the part, and the
    cap with it. ``draft_id``: a draft of one's own the shares go into; what it buys, ends and allocates of the product
    counts as done.
    """
    product = pools_service.product(tx, product_code)
    present = present_snapshot(tx, [product])
    drafted = [] if draft_id is None else _of_product(usecases.get(tx, actor, draft_id).changes, product, present)
    found = settle_snapshot(DraftEvaluation(present, actor, drafted).snapshot if drafted else present)
    terms_drafted = {each.account: each.terms for each in drafted if isinstance(each, AllocationChange)}
    rows, elsewhere = _rows(found, actor, wanted, product)
    bounds = {each.account: each for each in wanted}
    codes = [found.snapshot.accounts.tree.codes[row] for row in rows]
    accounts = found.snapshot.accounts
    owner, top = int(found.snapshot.owner[rows[0], 0]), accounts_service.top_row(accounts, actor)
    giver = owner if top in accounts.tree.path_up(owner) else top
    free = _free(found, top, giver)
    without = _free(settle_snapshot(present), top, giver) if drafted else free
    if amount is None:
        if free is None:
            raise invalid(f"{accounts.name(top)} has no cap on {product.name}; say how much to share out.", "amount")
        amount = free
    if not 0 <= amount <= MOST_GRAINS:
        raise invalid(f"An amount from 0 to {product.said(MOST_GRAINS)}.", "amount")
    low = [bounds[code].least for code in codes]
    high = [max(amount, bounds[code].least) if (most := bounds[code].most) is None else most for code in codes]
    uncapped = [as_what == "cap" and found.snapshot.grid.cap[row, 0] >= NO_LIMIT for row in rows]
    low, high = ([0 if none else each for each, none in zip(bound, uncapped, strict=True)] for bound in (low, high))
    weights = _weights(tx, found, rows, way)
    needs = [_over(found, row) for row in rows]
    mode = {"even": Mode.EVEN, "max-min": Mode.MAX_MIN, "need": Mode.NEED}.get(way, Mode.PROPORTIONAL)
    try:
        parts = share(amount, weights, low, high, mode, needs)
    except ValueError as trouble:
        raise invalid(f"That cannot be shared out: {_in_units(str(trouble), product)}.", "amount") from None
    there = allocations.in_force(
        tx, [product.id], [int(found.snapshot.accounts.ids[row]) for row in rows], found.snapshot.day
    )
    reasons = _Reasons(product, way, amount, weights, low, high, needs)
    result = []
    for place, (row, code, part) in enumerate(zip(rows, codes, parts, strict=True)):
        version = there.get((int(found.snapshot.accounts.ids[row]), product.id))
        was = terms_of(version)
        change = None
        if part:
            change = AllocationChange(
                account=code,
                product=product.code,
                terms=_terms(terms_drafted.get(code) or was or Terms(), found, row, part, as_what),
                seen=version.id if version else None,
                was=was,
                was_until=Until(last_day=version.last_day if version else None),
            )
        result.append(
            ShareOutPart(code, part, "has no cap to raise" if uncapped[place] else reasons.reason(place, part), change)
        )
    result.extend(ShareOutPart(accounts.tree.codes[row], 0, "is served by another pool", None) for row in elsewhere)
    by_draft = 0 if free is None or without is None else free - without
    return SharedOut(result, amount, free, by_draft, amount - sum(parts))


def _of_product(
    changes: Sequence[Change], product: Product, present: Snapshot
) -> list[AllocationChange | NewLot | LotEnd]:
    """What a draft changes of a pool, as far as it concerns accounts that are there."""
    tree = present.accounts.tree
    return [
        each
        for each in changes
        if isinstance(each, AllocationChange | NewLot | LotEnd)
        and each.product == product.code
        and (each.account if isinstance(each, AllocationChange) else each.owner) in tree
    ]


def _free(found: Positions, top: int, giver: int) -> int | None:
    """What an account can still give, as far as one sees; None = no cap."""
    room = visible_room(int(found.seen_by(top).headroom.room[giver, 0]))
    return None if room is None else max(0, room)


def _rows(
    found: Positions, actor: Actor, wanted: Sequence[ShareOutWanted], product: Product
) -> tuple[list[int], list[int]]:
    """Whom it is shared out to: the accounts of the pool that serves most of them; and those another pool serves."""
    accounts, snapshot = found.snapshot.accounts, found.snapshot
    if not wanted:
        raise invalid("Choose the accounts to share out to.", "accounts")
    if len({each.account for each in wanted}) < len(wanted):
        raise invalid("An account is listed twice.", "accounts")
    rows = [accounts_service.row_in_scope(accounts, actor, each.account) for each in wanted]
    top = accounts_service.top_row(accounts, actor)
    for row in rows:
        if snapshot.owner[row, 0] < 0:
            raise not_found(f"pool of {product.name} for {accounts.name(row)}", product.code)
    served = Counter(int(snapshot.owner[row, 0]) for row in rows)
    owner = served.most_common(1)[0][0]
    elsewhere = [row for row in rows if int(snapshot.owner[row, 0]) != owner]
    rows = [row for row in rows if int(snapshot.owner[row, 0]) == owner]
    chosen = set(rows)
    for row in rows:
        name = accounts.name(row)
        if row in (top, owner):
            raise invalid(f"{name} is not below the account that shares out; choose accounts below it.", "accounts")
        if any(above in chosen for above in accounts.tree.path_up(row)[1:]):
            raise invalid(f"{name} is below another chosen account; choose one of the two.", "accounts")
    return sorted(rows, key=lambda row: int(accounts.tree.depth_first[row])), elsewhere


def _weights(tx: Transaction, found: Positions, rows: Sequence[int], way: Way) -> list[int]:
    if way == "people":
        counts = people.active_by_account(tx)
        accounts = found.snapshot.accounts
        return [sum(counts.get(int(accounts.ids[each]), 0) for each in accounts.tree.branch(row)) for row in rows]
    if way == "use":
        used = found.used()
        return [int(used[row, 0]) for row in rows]
    if way == "reserve":
        return [int(found.snapshot.grid.reserve[row, 0]) for row in rows]
    return [1] * len(rows)


def _over(found: Positions, row: int) -> int:
    cap = int(found.snapshot.grid.cap[row, 0])
    return max(0, int(found.settled.load[row, 0]) - cap) if cap < NO_LIMIT else 0


def _terms(was: Terms, found: Positions, row: int, part: int, as_what: As) -> Terms:
    if as_what == "cap":
        return was if was.cap is None else was.model_copy(update={"cap": was.cap + part})
    reserve = int(found.settled.held[row, 0]) + part
    return was.model_copy(update={"reserve": reserve, "cap": None if was.cap is None else max(was.cap, reserve)})


def _in_units(text: str, product: Product) -> str:
    return re.sub(r"\d+", lambda found: f"{to_units(int(found[0]), product.measure):f}", text)


class _Reasons:
    """Says in a few words why an account gets what it gets."""

    def __init__(
        self,
        product: Product,
        way: Way,
        amount: int,
        weights: list[int],
        low: list[int],
        high: list[int],
        needs: list[int],
    ):
        self.product, self.way, self.amount = product, way, amount
        self.weights, self.low, self.high, self.needs = weights, low, high, needs

    def units(self, grains: int) -> str:
        return f"{to_units(grains, self.product.measure):f}"

    def reason(self, place: int, part: int) -> str:
        if self.low[place] == self.high[place]:
            return "set by hand"
        if part == self.high[place] < self.amount:
            return f"its most, {self.units(part)}"
        if part == self.low[place] > 0:
            return f"its least, {self.units(part)}"
        if self.way == "need":
            need = min(self.needs[place], part)
            rest = part - need
            if need:
                return f"{self.units(need)} to be back within its cap" + (
                    f", then {self.units(rest)} with the others" if rest else ""
                )
            return (
                f"{self.units(part)} with the others, after the breaches" if part else "the breaches of others took all"
            )
        if self.way == "max-min":
            return "raised together with the others"
        if self.way == "even":
            return "an even share"
        weight, whole = self.weights[place], sum(self.weights)
        amount = self.units(weight) if self.way != "people" else str(weight)
        every = self.units(whole) if self.way != "people" else str(whole)
        return f"{amount} of {every} {WEIGHED[self.way]}"
