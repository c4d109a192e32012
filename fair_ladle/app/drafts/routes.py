"""Changing allocations over HTTP: what it would do, and doing it. Quantities are whole grains."""

from __future__ import annotations

from typing import Any, Literal

from fastapi import APIRouter
from pydantic import BaseModel, Field

from fair_ladle.app.accounts.usecases import row_in_scope
from fair_ladle.app.allocations.positions import Positions
from fair_ladle.app.allocations.routes import LadderBody
from fair_ladle.app.drafts import usecases
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.http import PROBLEMS, Db, Who
from fair_ladle.core.settling import NO_LIMIT

routes = APIRouter(prefix="/api/allocations", tags=["allocations"], responses=PROBLEMS)


class ChangeBody(BaseModel):
    """What an allocation shall be; ``seen`` is the id of the version it was made on, null where there was none."""

    account: str = Field(max_length=64)
    product: str = Field(max_length=64)
    reserve: int
    cap: int | None
    at_cap: Literal["block", "grace", "overage"]
    burst: int | None = None
    grace_days: int | None = Field(None, ge=0, le=3660)
    seen: int | None


class CellName(BaseModel):
    """One account in one product's pool."""

    account: str = Field(max_length=64)
    product: str = Field(max_length=64)


class Changes(BaseModel):
    """Changes that are looked at and applied together; with ``look_at`` the answer has that cell's ladder."""

    changes: list[ChangeBody] = Field(min_length=1, max_length=usecases.MOST_CHANGES)

    look_at: CellName | None = None

    def changed(self) -> list[usecases.Change]:
        """As the use-case takes them."""
        return [usecases.Change(**each.model_dump()) for each in self.changes]


class CellEffect(BaseModel):
    """A cell's figures as they would be, in grains."""

    account: str
    product: str
    reserve: int
    cap: int | None
    load: int
    held_by: int
    headroom: int
    bound_by: str
    state: str


class BreachBody(BaseModel):
    """A breach and what becomes of it; account null = the pool in shortfall."""

    account: str | None
    product: str
    label: str
    before: int
    after: int
    hard: bool
    sentence: str


class PoolEffect(BaseModel):
    """What stays free of a pool, in grains."""

    product: str
    owner: str
    free_before: int
    free_after: int


class EffectBody(BaseModel):
    """What changes would do."""

    may_apply: bool
    breaches: list[BreachBody]
    cells: list[CellEffect]
    pools: list[PoolEffect]
    ladder: LadderBody | None


def effect_body(effect: usecases.Effect, who: Actor, look_at: CellName | None = None) -> EffectBody:
    """What the actor may see of an effect: the branch's cells and breaches, and the pools it owns."""
    after, world = effect.after, effect.after.world
    tree = world.accounts.tree
    top = 0 if who.scope is None else tree.row(who.scope)
    inside = {int(row) for row in tree.branch(top)}
    states = after.states()
    cells = []
    for row, column in effect.cells:
        if row not in inside or world.owner[row, column] < 0:
            continue
        cap, bound = int(world.grid.cap[row, column]), int(after.headroom.bound_by[row, column])
        seen = bound in inside or (bound < 0 and int(world.owner[row, column]) in inside)
        cells.append(
            CellEffect(
                account=tree.codes[row], product=world.products[column].code, reserve=int(world.grid.reserve[row, column]),
                cap=None if cap >= NO_LIMIT else cap, load=int(after.settled.load[row, column]),
                held_by=int(after.settled.held[row, column]), headroom=int(after.headroom.room[row, column]),
                bound_by=after.bound_by(row, column) if seen else "above", state=states[row][column],
            )
        )
    pools = []
    for place, (row, column) in enumerate(zip(world.roots.rows.tolist(), world.roots.columns.tolist(), strict=True)):
        if row in inside:
            supply = int(world.supply.quantity[place])
            pools.append(
                PoolEffect(
                    product=world.products[column].code, owner=tree.codes[row],
                    free_before=supply - int(effect.before.settled.load[row, column]),
                    free_after=supply - int(after.settled.load[row, column]),
                )
            )
    breaches = [
        BreachBody(
            account=each.account, product=each.product, label=each.label, before=each.before, after=each.after,
            hard=each.hard, sentence=usecases.sentence(effect, each),
        )
        for each in effect.breaches
        if each.label != "same" and (tree.row(each.account) in inside if each.account else 0 in inside)
    ]
    return EffectBody(
        may_apply=not effect.stopping, breaches=breaches, cells=cells, pools=pools,
        ladder=_ladder(after, who, look_at) if look_at else None,
    )


def _ladder(after: Positions, who: Actor, look_at: CellName) -> LadderBody | None:
    world = after.world
    row = row_in_scope(world.accounts, who, look_at.account)
    column = next((place for place, each in enumerate(world.products) if each.code == look_at.product), None)
    if column is None or world.owner[row, column] < 0:
        return None
    return LadderBody(**after.told_ladder(row, column, who))


@routes.post("/preview", response_model=EffectBody)
def preview(body: Changes, db: Db, who: Who) -> Any:
    """What changes would do; nothing is kept."""
    return effect_body(db.run(usecases.preview, who, body.changed()), who, body.look_at)


@routes.post("/apply", response_model=EffectBody)
def apply(body: Changes, db: Db, who: Who) -> Any:
    """Apply changes from today on, all or none."""
    return effect_body(db.run(usecases.apply, who, body.changed()), who)
