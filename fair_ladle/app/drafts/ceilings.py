"""What the delegation of whoever applies changes bounds: which products they may give, how much of them in one change
and in all, and whether they may change caps and prices."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence

from fair_ladle.app.accounts.service import top_row
from fair_ladle.app.allocations.positions import Positions
from fair_ladle.app.assignments import service as assignments
from fair_ladle.app.drafts.change_types import AllocationChange, Change, RateChange, Terms, UnitsChange
from fair_ladle.app.drafts.impact import Impact
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.limits import FREE, Ceiling
from fair_ladle.app.plumbing.problems import Refused, not_allowed
from fair_ladle.app.pools.service import Product
from fair_ladle.core.quantities import MOST_GRAINS


def above_ceiling(impact: Impact, actor: Actor, changes: Sequence[Change]) -> Refused | None:
    """Why the actor's delegation does not let them apply these changes; None where it does."""
    if actor.limits == FREE:
        return None
    products = {each.code: each for each in impact.after.snapshot.products}
    try:
        for change in changes:
            _judge_kind(actor, change, products)
        for product in products.values():
            _judge_product(impact, actor, changes, product)
    except Refused as refused:
        return refused
    return None


def _judge_kind(actor: Actor, change: Change, products: dict[str, Product]) -> None:
    if isinstance(change, RateChange) and not actor.limits.prices:
        raise not_allowed("Your delegation does not let you change prices.")
    if isinstance(change, AllocationChange):
        others = _beside_reserve(change.was) != _beside_reserve(change.terms) or change.until is not None
        if not actor.limits.caps and others:
            raise not_allowed("Your delegation does not let you change caps, or what happens at them.")
        if _more(change):
            assignments.may_give(actor, products[change.product])
    elif isinstance(change, UnitsChange) and change.give:
        assignments.may_give(actor, products[change.product])


def _beside_reserve(terms: Terms | None) -> Terms | None:
    return None if terms is None else terms.model_copy(update={"reserve": 0})


def _more(change: AllocationChange) -> int:
    """By how much an allocation gives more than before: its reserve, or its cap, where no cap is more than any."""
    if change.terms is None:
        return 0
    reserve, cap = (0, 0) if change.was is None else (change.was.reserve, _cap(change.was))
    return max(0, change.terms.reserve - reserve, _cap(change.terms) - cap)


def _moves_a_day(change: AllocationChange) -> bool:
    """Whether a last day that is set becomes another: what is there lasts longer, or what follows begins sooner."""
    was = None if change.was_until is None else change.was_until.last_day
    return change.until is not None and was is not None and change.until.last_day != was


def _cap(terms: Terms) -> int:
    return MOST_GRAINS if terms.cap is None or terms.per is not None else terms.cap


def _judge_product(impact: Impact, actor: Actor, changes: Sequence[Change], product: Product) -> None:
    """Judge what changes give of a product, by the pool each takes it from."""
    if not actor.limits.bounds(product.code):
        return
    by_pool: dict[str, list[AllocationChange | UnitsChange]] = defaultdict(list)
    for change in changes:
        if isinstance(change, AllocationChange | UnitsChange) and change.product == product.code:
            by_pool[_owner(impact.after, change.account, product)].append(change)
    for owner, mine in by_pool.items():
        _judge_amount(impact, actor, mine, product, owner)


def _judge_amount(
    impact: Impact, actor: Actor, mine: Sequence[AllocationChange | UnitsChange], product: Product, owner: str
) -> None:
    most = actor.limits.ceiling(owner, product.code)
    if most != Ceiling() and any(isinstance(each, AllocationChange) and _moves_a_day(each) for each in mine):
        raise assignments.above_ceiling(
            f"Your delegation bounds how much of {product.name} you may give; it does not let you move a last day."
        )
    raised = [each for each in mine if isinstance(each, AllocationChange) and _more(each)]
    more = sum(map(_more, raised)) + sum(
        len(each.subjects) for each in mine if isinstance(each, UnitsChange) and each.give
    )
    if not more:
        return
    if most.at_once is not None and more > most.at_once:
        said = "no cap" if more > MOST_GRAINS // 2 else f"{product.said(more)} more"
        raise assignments.above_ceiling(
            f"You may give at most {product.said(most.at_once)} of {product.name} in one change; this gives {said}."
        )
    if most.in_all is None:
        return
    capped = max((_cap(each.terms) for each in raised if each.terms is not None), default=0)
    if capped > most.in_all:
        said = "no cap" if capped == MOST_GRAINS else f"a cap of {product.said(capped)}"
        raise assignments.above_ceiling(
            f"You may give at most {product.said(most.in_all)} of {product.name} in all; here is {said}."
        )
    before, after = (_load(positions, actor, product, owner) for positions in (impact.present, impact.after))
    if after > max(before, most.in_all):
        raise assignments.above_ceiling(
            f"You may give as long as {product.said(most.in_all)} of {product.name} are held here; with this there "
            f"were {product.said(after)}."
        )


def _column(positions: Positions, product: Product) -> int:
    return next(at for at, each in enumerate(positions.snapshot.products) if each.code == product.code)


def _owner(positions: Positions, account: str, product: Product) -> str:
    """The code of the account whose pool of a product an account takes from; empty where none reaches it."""
    tree = positions.snapshot.accounts.tree
    owner = int(positions.snapshot.owner[tree.row(account), _column(positions, product)])
    return tree.codes[owner] if owner >= 0 else ""


def _load(positions: Positions, actor: Actor, product: Product, owner: str) -> int:
    """What the actor's branch holds of a pool: at its top, or at the pool's owner where that is below."""
    accounts = positions.snapshot.accounts
    top = top_row(accounts, actor)
    if owner not in accounts.tree:
        return 0
    judged = max(top, accounts.tree.row(owner), key=accounts.tree.depth)
    return int(positions.settled.load[judged, _column(positions, product)])
