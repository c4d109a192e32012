"""Settling a pool, headroom and the binding limit, for whole trees at once.

Every array has one row an account and one column a case settled side by side: the pools of
several products at one instant, or the days of one product's month. Pools of one product that
belong to different accounts share a column, since their branches never meet.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any, Generic, TypeVar

import numpy as np
from numpy.typing import NDArray

from fair_ladle.core.tree import Ints, Tree

NO_LIMIT = 2**62
"""Stands for "no cap" in limit arrays; every real quantity is far below it."""

BY_SUPPLY = -1
"""Stands for the supply among binding limits, where an account's row would."""

Flags = NDArray[np.bool_]


@dataclass(frozen=True)
class Roots:
    """Where pools begin: parallel arrays of account row and column, one entry a pool in a column."""

    rows: Ints
    columns: Ints

    @staticmethod
    def of(pairs: list[tuple[int, int]]) -> Roots:
        """The pools given as (account row, column)."""
        rows, columns = zip(*sorted(pairs), strict=True) if pairs else ((), ())
        return Roots(np.array(rows, dtype=np.int64), np.array(columns, dtype=np.int64))


@dataclass(frozen=True)
class Settled:
    """load and held of every account (grains), as the engine defines them."""

    load: Ints
    held: Ints

    @property
    def cushion(self) -> Ints:
        """Reserved and not yet used."""
        return self.held - self.load


def settle(tree: Tree, own: Ints, reserve: Ints, roots: Roots) -> Settled:
    """load and held of every account: own(accounts × columns) and reserve(the same) in, both out.

    A pool's owner keeps what it holds: nothing is passed on from it to its parent.
    """
    load = own.copy()
    held = np.empty_like(load)
    by_level = _roots_by_level(tree, roots)
    for level, (rows, first, above) in zip(range(len(tree.level_start) - 2, 0, -1), tree.levels_up(), strict=True):
        np.maximum(load[rows], reserve[rows], out=held[rows])
        owner_rows, owner_columns = by_level.get(level, (None, None))
        if owner_rows is None:
            _add_families(load, held[rows], first, above)
        else:
            held[owner_rows, owner_columns] = load[owner_rows, owner_columns]
            passed_on = held[rows].copy()
            passed_on[owner_rows - rows.start, owner_columns] = 0
            _add_families(load, passed_on, first, above)
    held[0] = np.maximum(load[0], reserve[0])
    if 0 in by_level:
        owner_rows, owner_columns = by_level[0]
        held[owner_rows, owner_columns] = load[owner_rows, owner_columns]
    return Settled(load, held)


def _add_families(load: Ints, passed_on: Ints, first: Ints, above: Ints) -> None:
    if len(first) == len(passed_on):
        load[above] += passed_on
    else:
        load[above] += np.add.reduceat(passed_on, first, axis=0)


def _roots_by_level(tree: Tree, roots: Roots) -> dict[int, tuple[Ints, Ints]]:
    levels = np.searchsorted(np.array(tree.level_start), roots.rows, side="right") - 1
    return {int(level): (roots.rows[levels == level], roots.columns[levels == level]) for level in np.unique(levels)}


def pool_of(tree: Tree, roots: Roots, columns: int) -> Ints:
    """For every account and column the row of the pool's owner, or -1 where no pool reaches."""
    owner = np.full((len(tree), columns), -1, dtype=np.int64)
    owner[roots.rows, roots.columns] = roots.rows
    for rows in tree.levels_down():
        here = owner[rows]
        owner[rows] = np.where(here >= 0, here, owner[tree.parent[rows]])
    return owner


def hard_limits(cap: Ints, burst: Ints, bursting: Flags) -> Ints:
    """The load no taking may pass: the cap, and where ``bursting`` (grace or overage, not restricted)
    the cap and its burst. ``cap`` and ``burst`` are NO_LIMIT where there is none."""
    unlimited = (cap >= NO_LIMIT) | (bursting & (burst >= NO_LIMIT))
    extra = np.where(bursting & ~unlimited, burst, 0)
    return np.where(unlimited, NO_LIMIT, np.where(unlimited, 0, cap) + extra)


Grains = TypeVar("Grains", int, Ints)


@dataclass(frozen=True)
class Supply(Generic[Grains]):
    """What lots give on a day, in grains (overcommit in percent): of one pool, or one entry a pool in the order of its
    Roots. Every figure of what is bought against what is promised and used is calculated here and nowhere else."""

    quantity: Grains
    true_up: Grains
    overcommit: Grains

    @property
    def promisable(self) -> Grains:
        """What the pool may promise: supply × overcommit / 100, rounded down, and the true-up."""
        whole, rest = self.quantity // 100, self.quantity % 100
        return whole * self.overcommit + rest * self.overcommit // 100 + self.true_up

    @property
    def physical(self) -> Grains:
        """What physically exists: supply and true-up."""
        return self.quantity + self.true_up

    def is_backed(self, load: Grains) -> Any:
        """Whether what a pool promises, and all that it may yet, is physically there: then no taking has to look
        whether it is."""
        return (load <= self.physical) & (self.promisable <= self.physical)

    def shortfall(self, load: Grains, used: Grains) -> Grains:
        """By how much the pool is in shortfall (0 = covered): what its owner's load is over the promisable, or what is
        used is over what physically exists, whichever is more."""
        return _at_least_0(_larger(load - self.promisable, used - self.physical))

    def unallocated(self, load: Grains) -> Grains:
        """What was bought and nobody holds, overcommit and true-up aside."""
        return _at_least_0(self.quantity - load)

    def standing(self, load: Grains, used: Grains) -> Grains:
        """What is unallocated; below 0 by how much the pool is in shortfall."""
        return self.unallocated(load) - self.shortfall(load, used)


def _larger(one: Grains, other: Grains) -> Grains:
    return max(one, other) if isinstance(one, int) and isinstance(other, int) else np.maximum(one, other)


def _at_least_0(figure: Grains) -> Grains:
    return max(figure, 0) if isinstance(figure, int) else np.maximum(figure, 0)


def seen_from(top: int, owner: Ints, tree: Tree, roots: Roots, supply: Supply[Ints]) -> tuple[Roots, Supply[Ints]]:
    """Roots and supply for whoever runs the branch of ``top``: the pools that begin in it as they are, and every other
    pool that reaches it as one that begins at ``top`` and never ends.

    Headroom calculated from them says nothing of what lies above: at ``top`` it is hard − load.
    """
    places = [place for place, row in enumerate(roots.rows.tolist()) if row == top or top in tree.path_up(row)]
    mine = list(zip(roots.rows[places].tolist(), roots.columns[places].tolist(), strict=True))
    from_above = [
        (top, column)
        for column in range(owner.shape[1])
        if int(owner[top, column]) >= 0 and int(owner[top, column]) != top
    ]
    figures = {
        at: (int(supply.quantity[place]), int(supply.true_up[place]), int(supply.overcommit[place]))
        for at, place in zip(mine, places, strict=True)
    }
    figures.update(dict.fromkeys(from_above, (NO_LIMIT, 0, 100)))
    order = sorted(figures)
    columns = np.array([figures[at] for at in order], dtype=np.int64).reshape(-1, 3)
    return Roots.of(order), Supply(columns[:, 0], columns[:, 1], columns[:, 2])


@dataclass(frozen=True)
class Headroom:
    """What each account may take now (signed), and the row of the limit that stops it (BY_SUPPLY for it)."""

    room: Ints
    bound_by: Ints


def headroom(
    tree: Tree,
    settled: Settled,
    hard: Ints,
    roots: Roots,
    supply: Supply[Ints],
    used: Ints | None = None,
) -> Headroom:
    """Headroom and binding limit of every account that a pool reaches; others get 0.

    With ``used`` (Σ own of each pool, in the order of the roots) the physical term is applied last, to each result;
    without it, it is left out.
    """
    load = settled.load
    room = hard - load
    bound = np.empty(load.shape, dtype=np.int64)
    own_row = np.arange(len(tree), dtype=np.int64)[:, None]
    left = np.empty_like(load)
    left[roots.rows, roots.columns] = supply.promisable - load[roots.rows, roots.columns]
    by_level = _roots_by_level(tree, roots)

    def begin_pools(level: int) -> None:
        if level in by_level:
            at = by_level[level]
            own_term = hard[at] - load[at]
            room[at] = np.minimum(own_term, left[at])
            bound[at] = np.where(own_term <= left[at], at[0], BY_SUPPLY)

    bound[0] = 0
    begin_pools(0)
    for level, rows in enumerate(tree.levels_down(), start=1):
        above = tree.parent[rows]
        passed_down = np.maximum(room[above], 0)
        passed_down += settled.held[rows]
        passed_down -= load[rows]
        here = room[rows]
        bound[rows] = np.where(here <= passed_down, own_row[rows], bound[above])
        np.minimum(here, passed_down, out=here)
        begin_pools(level)
    if used is not None:
        _limit_to_what_is_left(tree, room, bound, roots, supply.physical - used)
    unreached = np.ones(load.shape[1], dtype=bool)
    unreached[roots.columns[roots.rows == 0]] = False
    if unreached.any():
        room[(pool_of(tree, roots, load.shape[1]) < 0) & unreached] = 0
    return Headroom(room, bound)


def _limit_to_what_is_left(tree: Tree, room: Ints, bound: Ints, roots: Roots, left: Ints) -> None:
    """Apply the physical term, last, to each result in place; ``left`` is of each pool."""
    everywhere = np.full(room.shape[1], NO_LIMIT, dtype=np.int64)
    alone = [
        place
        for place, (row, column) in enumerate(zip(roots.rows, roots.columns, strict=True))
        if row == 0 and np.count_nonzero(roots.columns == column) == 1
    ]
    everywhere[roots.columns[alone]] = left[alone]
    bound[everywhere < room] = BY_SUPPLY
    np.minimum(room, everywhere, out=room)
    if len(alone) < len(left):
        owner = pool_of(tree, roots, room.shape[1])
        limit = np.full(room.shape, NO_LIMIT, dtype=np.int64)
        limit[roots.rows, roots.columns] = left
        limit = np.where(owner >= 0, limit[owner, np.arange(room.shape[1])], NO_LIMIT)
        bound[limit < room] = BY_SUPPLY
        np.minimum(room, limit, out=room)


def used_of_pools(tree: Tree, roots: Roots, own: Ints) -> Ints:
    """Σ own over each pool's branch, one entry a pool."""
    whole = own.sum(axis=0)
    sums = {}
    for row, column in zip(roots.rows.tolist(), roots.columns.tolist(), strict=True):
        sums[row, column] = int(whole[column] if row == 0 else own[tree.branch(row), column].sum())
    used = dict(sums)
    for row, column in sums:
        above = next((each for each in tree.path_up(row)[1:] if (each, column) in sums), None)
        if above is not None:
            used[above, column] -= sums[row, column]
    return np.array(list(used.values()), dtype=np.int64)


def seats_of_branches(tree: Tree, own: Ints, owners: Iterable[int]) -> Ints:
    """Σ own of every account's branch, over the accounts that use the same pools as it does: accounts × columns in and
    out. ``owners`` are the rows where a pool of either product begins."""
    each = Roots.of([(row, column) for row in set(owners) for column in range(own.shape[1])])
    return settle(tree, own, np.zeros_like(own), each).load


def most_reserve(tree: Tree, settled: Settled, cap: Ints, roots: Roots, supply: Supply[Ints]) -> Ints:
    """The most each account's reserve can be raised to: every policy as block, no physical term.

    Pool owners have no reserve: 0 there.
    """
    blocking = headroom(tree, settled, cap, roots, supply).room
    above = np.maximum(blocking[tree.parent], 0)
    most = np.minimum(cap, settled.held + above)
    most[roots.rows, roots.columns] = 0
    most[0] = 0
    return most


def is_near(load: Ints, cap: Ints) -> Flags:
    """Load at 90 % of the cap or more (a cap of 0 is never near)."""
    limited = (cap > 0) & (cap < NO_LIMIT)
    capped = np.where(limited, cap, 0)
    return limited & (load * 10 >= capped * 9)
