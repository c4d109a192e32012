"""Changes to allocations: evaluated on a copy of the present, labelled breach by breach, applied under locks."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date
from typing import Any

import numpy as np

from fair_ladle.app.accounts import usecases as accounts_usecases
from fair_ladle.app.allocations import usecases as allocations
from fair_ladle.app.allocations.positions import Positions, World, settle_world, world_at
from fair_ladle.app.allocations.views import kept_worlds, may_change
from fair_ladle.app.log import usecases as log
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Unit
from fair_ladle.app.plumbing.problems import Problem, Refused, conflict, invalid, not_allowed, not_found
from fair_ladle.app.pools import usecases as pools_usecases
from fair_ladle.app.pools.usecases import Product
from fair_ladle.app.takings import usecases as takings
from fair_ladle.core.allocations import AtCap, Grid, Version
from fair_ladle.core.calendar import micros
from fair_ladle.core.clocks import clock_from
from fair_ladle.core.quantities import MOST_GRAINS, to_units
from fair_ladle.core.settling import NO_LIMIT

MOST_CHANGES = 5000


@dataclass(frozen=True)
class Change:
    """What an allocation shall be, in grains; ``seen`` is the id of the version the change was made on (None = none)."""

    account: str
    product: str
    reserve: int
    cap: int | None
    at_cap: str
    burst: int | None
    grace_days: int | None
    seen: int | None


@dataclass(frozen=True)
class Breach:
    """An account past its cap, or (account None) a pool in shortfall: by how much before and after, in grains."""

    account: str | None
    product: str
    before: int
    after: int
    hard: bool

    @property
    def label(self) -> str:
        """new, worse, same, better or cleared."""
        if self.before == 0:
            return "new"
        if self.after == 0:
            return "cleared"
        return "worse" if self.after > self.before else "better" if self.after < self.before else "same"


@dataclass(frozen=True)
class Effect:
    """What changes would do: positions before and after, and the breaches that differ or stand."""

    before: Positions
    after: Positions
    breaches: list[Breach]
    cells: list[tuple[int, int]]
    """Rows and columns whose figures differ."""

    @property
    def stopping(self) -> list[Breach]:
        """New and worse hard breaches: with one of them nothing is applied."""
        return [each for each in self.breaches if each.hard and each.label in ("new", "worse")]


def evaluate(world: World, changes: Sequence[tuple[int, int, Change]]) -> Effect:
    """Changes, by row and column, on a copy of a world."""
    before = settle_world(world)
    grid = Grid(*(array.copy() for array in (
        world.grid.reserve, world.grid.cap, world.grid.burst, world.grid.grace, world.grid.overage, world.grid.present,
    )))
    for row, column, change in changes:
        grid.put(
            row, column,
            Version(change.account, date.min, None, change.reserve, change.cap, AtCap(change.at_cap), change.burst, change.grace_days),
        )
    drafted = replace(world, grid=grid, clocks={})
    days = world.grace_days | {(row, column): change.grace_days or 0 for row, column, change in changes}
    past = np.argwhere(grid.grace & (settle_world(drafted).settled.load > grid.cap))
    clocks = {
        (row, column): world.clocks.get((row, column))
        or clock_from(micros(world.at), days.get((row, column), 0), world.zone)
        for row, column in past.tolist()
    }
    after = settle_world(replace(drafted, clocks=clocks))
    return Effect(before, after, _breaches(before, after), _differing(before, after))


def _breaches(before: Positions, after: Positions) -> list[Breach]:
    world = after.world

    def over(positions: Positions) -> Any:
        cap = positions.world.grid.cap
        return np.where(cap < NO_LIMIT, np.maximum(0, positions.settled.load - np.where(cap < NO_LIMIT, cap, 0)), 0)

    was, now = over(before), over(after)
    hard = (after.settled.load > after.hard) | (before.settled.load > before.hard)
    found = [
        Breach(world.accounts.tree.codes[row], world.products[column].code, int(was[row, column]), int(now[row, column]), bool(hard[row, column]))
        for row, column in np.argwhere((was > 0) | (now > 0)).tolist()
    ]
    for place, (short_before, short_after) in enumerate(zip(before.shortfalls().tolist(), after.shortfalls().tolist(), strict=True)):
        if short_before or short_after:
            found.append(Breach(None, world.pools[place].product.code, short_before, short_after, True))
    return found


def _differing(before: Positions, after: Positions) -> list[tuple[int, int]]:
    differs = (
        (before.settled.load != after.settled.load) | (before.settled.held != after.settled.held)
        | (before.headroom.room != after.headroom.room) | (before.world.grid.cap != after.world.grid.cap)
        | (before.world.grid.reserve != after.world.grid.reserve)
    )
    return [(row, column) for row, column in np.argwhere(differs).tolist()]


def _placed(
    world: World, actor: Actor, changes: Sequence[Change]
) -> list[tuple[int, int, Change]]:
    """The changes by row and column, each checked on its own."""
    column = {product.code: place for place, product in enumerate(world.products)}
    top = accounts_usecases.top_row(world.accounts, actor)
    positions = settle_world(world)
    placed = []
    for change in changes:
        row = accounts_usecases.row_in_scope(world.accounts, actor, change.account)
        at = column[change.product]
        where = f"{change.account} {change.product}"
        name = world.accounts.name(row)
        if world.owner[row, at] < 0:
            raise not_found("pool of the product here", change.product)
        owns = int(world.owner[row, at]) == row
        if not may_change(positions, top, row, at):
            raise not_allowed(f"What {name} gets is its parent's to give; ask there for more.")
        product = world.products[at]
        for field, value in (("reserve", change.reserve), ("cap", change.cap), ("burst", change.burst)):
            if value is not None and not 0 <= value <= MOST_GRAINS:
                raise invalid(f"{name}: {field} is from 0 to {to_units(MOST_GRAINS, product.measure):f} {product.unit}.", where)
        if change.cap is not None and change.reserve > change.cap:
            raise invalid(
                f"{name}: a reserve of {to_units(change.reserve, product.measure):f} is over the cap of "
                f"{to_units(change.cap, product.measure):f}; raise the cap or lower the reserve.", where,
            )
        if owns and change.reserve:
            raise invalid(f"{name} owns the pool of {product.name}; it has a cap there, not a reserve.", where)
        if change.at_cap == AtCap.GRACE and change.grace_days is None:
            raise invalid(f"{name}: grace needs a number of days.", where)
        placed.append((row, at, change))
    return placed


def _products(unit: Unit, changes: Sequence[Change]) -> list[Product]:
    if not changes or len(changes) > MOST_CHANGES:
        raise invalid(f"Between 1 and {MOST_CHANGES} changes at once; here are {len(changes)}.", "changes")
    if len({(each.account, each.product) for each in changes}) < len(changes):
        raise invalid("One allocation stands there twice.", "changes")
    every = {each.code: each for each in pools_usecases.products(unit)}
    for change in changes:
        if change.product not in every:
            raise not_found("product", change.product)
    return [every[code] for code in sorted({each.product for each in changes})]


def preview(unit: Unit, actor: Actor, changes: Sequence[Change]) -> Effect:
    """What the changes would do to the whole of their pools; nothing is kept."""
    world = kept_worlds.now(unit, _products(unit, changes))
    return evaluate(world, _placed(world, actor, changes))


def apply(unit: Unit, actor: Actor, changes: Sequence[Change]) -> Effect:
    """Apply the changes from today on, all or none.

    Under the locks of their pools' counters they are checked again. Refused where they would make a new
    or worse hard breach, or where an allocation they touch is no longer the one they were made on.
    """
    products = _products(unit, changes)
    takings.lock(unit, products)
    world = world_at(unit, products, unit.now)
    placed = _placed(world, actor, changes)
    there = {each: allocations.lock_present(unit, int(world.accounts.ids[each[0]]), world.products[each[1]].id, world.day) for each in ((row, column) for row, column, _ in placed)}
    moved = [change for row, column, change in placed if (there[row, column].id if there[row, column] else None) != change.seen]
    if moved:
        names = ", ".join(f"{world.accounts.name(world.accounts.tree.row(each.account))} ({each.product})" for each in moved)
        raise conflict(
            f"Changed by somebody else meanwhile: {names}. Look at it again; nothing was applied.",
            changed=[{"account": each.account, "product": each.product} for each in moved],
        )
    effect = evaluate(world, placed)
    if effect.stopping:
        raise Refused(
            Problem(
                "hard-breach", "It would break a limit", 409, sentence(effect, effect.stopping[0]),
                {"breaches": [{"account": each.account, "product": each.product, "label": each.label} for each in effect.stopping]},
            )
        )
    entries = []
    for row, column, change in placed:
        account_id, product = int(world.accounts.ids[row]), world.products[column]
        before = there[row, column]
        values = {
            "reserve": change.reserve, "cap": change.cap, "at_cap": change.at_cap, "burst": change.burst,
            "grace_days": change.grace_days,
        }
        allocations.put_from(unit, account_id, product.id, world.day, before, values)
        was = {name: getattr(before, name) for name in values} if before else {}
        differs = [name for name in values if was.get(name) != values[name]]
        entries.append(
            log.Entry(
                "allocation changed", product.code, account_id,
                {name: _told(name, was[name], product) for name in differs if name in was} or None,
                {name: _told(name, values[name], product) for name in differs},
            )
        )
    log.write(unit, actor, None, entries)
    takings.rebuild_locked(unit, products)
    return effect


def _told(name: str, value: Any, product: Product) -> Any:
    if name in ("reserve", "cap", "burst"):
        return ("none" if value is None else f"{to_units(value, product.measure):f} {product.unit}")
    return value


def sentence(effect: Effect, breach: Breach) -> str:
    """A breach in words."""
    world = effect.after.world
    product = next(each for each in world.products if each.code == breach.product)

    def units(grains: int) -> str:
        return f"{to_units(grains, product.measure):f} {product.unit}{'s' if product.measure != 'storage' and grains != 1 else ''}"

    if breach.account is None:
        return f"{product.name} would be short by {units(breach.after)}: more would be promised than there is."
    name = world.accounts.name(world.accounts.tree.row(breach.account))
    return f"{name} would be {units(breach.after)} over its cap of {product.name}, and nothing lets it through."


