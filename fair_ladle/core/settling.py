"""Settling a pool, headroom and the binding limit, for whole trees at once.

Every array has one row an account and one column a case settled side by side: the pools of
several products at one instant, or the days of one product's month. Pools of one product that
belong to different accounts share a column, since their branches never meet.
"""

from __future__ import annotations

from dataclasses import dataclass

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
    for level, (rows, first, above) in zip(
        range(len(tree.level_start) - 2, 0, -1), tree.levels_up(), strict=True
    ):
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
    return {
        int(level): (roots.rows[levels == level], roots.columns[levels == level])
        for level in np.unique(levels)
    }


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


@dataclass(frozen=True)
class Supply:
    """One entry a pool, in the order of its Roots: what the lots give on the day, in grains."""

    quantity: Ints
    true_up: Ints
    overcommit: Ints

    @property
    def promisable(self) -> Ints:
        """What the pool may promise: supply × overcommit / 100, rounded down, and the true-up."""
        whole, rest = np.divmod(self.quantity, 100)
        return whole * self.overcommit + rest * self.overcommit // 100 + self.true_up

    @property
    def physical(self) -> Ints:
        """What physically exists: supply and true-up."""
        return self.quantity + self.true_up


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
    supply: Supply,
    own: Ints | None = None,
) -> Headroom:
    """Headroom and binding limit of every account that a pool reaches; others get 0.

    With ``own`` the physical term is applied last, to each result; without it, it is left out.
    """
    load, cushion = settled.load, settled.cushion
    room = hard - load
    bound = np.broadcast_to(np.arange(len(tree), dtype=np.int64)[:, None], load.shape).copy()
    reached = np.zeros(load.shape, dtype=bool)
    supply_room = supply.promisable - load[roots.rows, roots.columns]
    by_level = _roots_by_level(tree, roots)
    room_of = dict(zip(zip(roots.rows.tolist(), roots.columns.tolist(), strict=True), supply_room, strict=True))

    def begin_pools(level: int) -> None:
        owner_rows, owner_columns = by_level.get(level, ((), ()))
        for row, column in zip(owner_rows, owner_columns, strict=True):
            left = room_of[int(row), int(column)]
            reached[row, column] = True
            own_term = hard[row, column] - load[row, column]
            room[row, column] = min(own_term, left)
            bound[row, column] = row if own_term <= left else BY_SUPPLY

    begin_pools(0)
    for level, rows in enumerate(tree.levels_down(), start=1):
        above = tree.parent[rows]
        passed_down = np.maximum(room[above], 0) + cushion[rows]
        bound[rows] = np.where(room[rows] <= passed_down, bound[rows], bound[above])
        np.minimum(room[rows], passed_down, out=room[rows])
        reached[rows] = reached[above]
        begin_pools(level)
    if own is not None:
        room, bound = _physically_left(tree, room, bound, roots, supply, own)
    return Headroom(np.where(reached, room, 0), bound)


def _physically_left(
    tree: Tree, room: Ints, bound: Ints, roots: Roots, supply: Supply, own: Ints
) -> tuple[Ints, Ints]:
    owner = pool_of(tree, roots, room.shape[1])
    left = supply.physical - used_of_pools(tree, roots, own)
    scarce = np.full(room.shape, NO_LIMIT, dtype=np.int64)
    for row, column, remaining in zip(roots.rows, roots.columns, left, strict=True):
        if remaining < NO_LIMIT:
            scarce[owner[:, column] == row, column] = remaining
    return np.minimum(room, scarce), np.where(scarce < room, BY_SUPPLY, bound)


def used_of_pools(tree: Tree, roots: Roots, own: Ints) -> Ints:
    """Σ own over each pool's branch, one entry a pool."""
    nothing = np.zeros_like(own)
    return settle(tree, own, nothing, roots).load[roots.rows, roots.columns]


def most_reserve(tree: Tree, settled: Settled, cap: Ints, roots: Roots, supply: Supply) -> Ints:
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
