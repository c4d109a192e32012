"""What a draft would do, as it is told over HTTP. Quantities are whole grains."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from typing import Any

import numpy as np
from pydantic import BaseModel

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.allocations.routes import CellName, LadderBody
from fair_ladle.app.allocations.views import visible_bound, visible_room
from fair_ladle.app.drafts.change_types import Terms
from fair_ladle.app.drafts.impact import Impact, format_breach, stopping_in_sight, visible
from fair_ladle.app.drafts.preview import Preview
from fair_ladle.app.drafts.reversing import terms_of
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.core.settling import NO_LIMIT


class CellsEffect(BaseModel):
    """The figures of one product that differ, column by column, in grains (cap null = none)."""

    product: str
    account: list[str]
    reserve: list[int]
    cap: list[int | None]
    load: list[int]
    held_by: list[int]
    headroom: list[int | None]
    bound_by: list[str | None]
    state: list[str]


class BreachBody(BaseModel):
    """A breach and what becomes of it; account null = the pool in shortfall; ``day`` = only from a day ahead on."""

    account: str | None
    owner: str | None
    """null where it is not of one's branch"""
    product: str
    label: str
    before: int
    after: int
    hard: bool
    day: date | None
    sentence: str


class PoolEffect(BaseModel):
    """What stays free of a pool, in grains."""

    product: str
    owner: str
    free_before: int
    free_after: int


class MoneyBody(BaseModel):
    """A full month of an account: what its seller charges it, and what it costs the seller (null where that is not
    to be seen)."""

    account: str
    currency: str
    charged_before: str
    charged_after: str
    cost_before: str | None
    cost_after: str | None


class RecipientBody(BaseModel):
    """Who will hear of it."""

    name: str
    account: str


class FaultBody(BaseModel):
    """What is wrong with one change, and what would be right."""

    kind: str
    key: str
    detail: str


class ClashBody(BaseModel):
    """An allocation that somebody changed meanwhile: what it was, what it is now, what the draft makes of it."""

    account: str
    product: str
    was: Terms | None
    theirs: Terms | None
    theirs_id: int | None
    mine: Terms | None
    by: str | None


class EffectBody(BaseModel):
    """What a draft would do."""

    may_apply: bool
    above: str | None
    """Why one's delegation does not let one apply it: it can be asked for."""
    breaches: list[BreachBody]
    cells: list[CellsEffect]
    pools: list[PoolEffect]
    money: list[MoneyBody]
    notifies: list[RecipientBody]
    faults: list[FaultBody]
    clashes: list[ClashBody]
    ladder: LadderBody | None
    most_reserve: int | None
    """What the reserve of the ladder's cell can go up to, in grains."""


def effect_body(
    previewed: Preview, who: Actor, look_at: CellName | None = None, shown: Sequence[str] | None = None
) -> EffectBody:
    """What the actor may see of what a draft would do; cells of the accounts that are changed and of these (None = of
    all)."""
    effect = previewed.impact
    return EffectBody(
        may_apply=effect is not None
        and not stopping_in_sight(effect, who)
        and not previewed.faults
        and not previewed.clashes
        and previewed.above is None,
        above=None if previewed.above is None else previewed.above.detail,
        faults=[FaultBody(kind=each.kind, key=each.key, detail=each.detail) for each in previewed.faults],
        clashes=[
            ClashBody(
                account=each.change.account,
                product=each.change.product,
                was=each.change.was,
                theirs=terms_of(each.there),
                theirs_id=each.there.id if each.there else None,
                mine=each.change.terms,
                by=each.by,
            )
            for each in previewed.clashes
        ],
        notifies=[RecipientBody(name=each.name, account=each.account) for each in previewed.recipients],
        **(
            {"breaches": [], "cells": [], "pools": [], "money": [], "ladder": None, "most_reserve": None}
            if effect is None
            else _figures(previewed, effect, who, look_at, shown)
        ),
    )


def _figures(
    previewed: Preview, effect: Impact, who: Actor, look_at: CellName | None, shown: Sequence[str] | None
) -> dict[str, Any]:
    snapshot = effect.after.snapshot
    tree = snapshot.accounts.tree
    top = accounts_service.top_row(snapshot.accounts, who)
    inside = np.zeros(len(tree), dtype=bool)
    inside[tree.branch(top)] = True
    codes = tree.codes
    breaches = [
        BreachBody(
            account=each.account,
            owner=each.owner if inside[tree.row(each.owner)] else None,
            product=each.product,
            label=each.label,
            before=each.before,
            after=each.after,
            hard=each.hard,
            day=each.day,
            sentence=format_breach(effect, each, previewed.freed.get((each.account or "", each.product), 0)),
        )
        for each in visible(effect, who, effect.breaches)
        if each.label != "same" or (each.account, each.product) in effect.on_the_way
    ]
    assert previewed.rate_cards is not None
    money = [
        MoneyBody(
            account=each.account,
            currency=each.currency,
            charged_before=f"{each.charged_before:f}",
            charged_after=f"{each.charged_after:f}",
            cost_before=f"{each.cost_before:f}" if codes[top] != each.account or top == 0 else None,
            cost_after=f"{each.cost_after:f}" if codes[top] != each.account or top == 0 else None,
        )
        for each in effect.money(previewed.rate_cards)
        if each.account not in tree or inside[tree.row(each.account)]
    ]
    return {
        "breaches": breaches,
        "cells": _cells(effect, inside & _wanted(effect, shown)),
        "money": money,
        "pools": [
            PoolEffect(product=product.code, owner=codes[owner], free_before=before, free_after=after)
            for owner, product, before, after in effect.pools()
            if inside[owner]
        ],
        **(_looked_at(effect, who, look_at) if look_at else {"ladder": None, "most_reserve": None}),
    }


def _wanted(effect: Impact, shown: Sequence[str] | None) -> Any:
    """Rows of which the figures are wanted."""
    tree = effect.after.snapshot.accounts.tree
    flags = np.full(len(tree), shown is None, dtype=bool)
    flags[[row for row, _, _ in effect.evaluation.placed]] = True
    flags[[tree.row(code) for code in shown or () if code in tree]] = True
    return flags


def _cells(effect: Impact, inside: Any) -> list[CellsEffect]:
    after, snapshot = effect.seen_after, effect.after.snapshot
    differing = effect.differing & inside[:, None] & (snapshot.owner >= 0)
    states, found = after.states(), []
    for column, product in enumerate(snapshot.products):
        rows = np.flatnonzero(differing[:, column])
        if not len(rows):
            continue
        cap = snapshot.grid.cap[rows, column].tolist()
        found.append(
            CellsEffect(
                product=product.code,
                account=[snapshot.accounts.tree.codes[row] for row in rows.tolist()],
                reserve=snapshot.grid.reserve[rows, column].tolist(),
                cap=[None if each >= NO_LIMIT else each for each in cap],
                load=after.settled.load[rows, column].tolist(),
                held_by=after.settled.held[rows, column].tolist(),
                headroom=[visible_room(room) for room in after.headroom.room[rows, column].tolist()],
                bound_by=visible_bound(after, rows, column),
                state=[states[row][column] for row in rows.tolist()],
            )
        )
    return found


def _looked_at(effect: Impact, who: Actor, look_at: CellName) -> dict[str, Any]:
    snapshot = effect.after.snapshot
    column = next((place for place, each in enumerate(snapshot.products) if each.code == look_at.product), None)
    if column is None or not accounts_service.is_in_scope(snapshot.accounts, who, look_at.account):
        return {"ladder": None, "most_reserve": None}
    row = snapshot.accounts.tree.row(look_at.account)
    if snapshot.owner[row, column] < 0:
        return {"ladder": None, "most_reserve": None}
    return {
        "ladder": LadderBody(**effect.after.visible_ladder(row, column, who)),
        "most_reserve": int(effect.seen_after.most_reserve()[row, column]),
    }
