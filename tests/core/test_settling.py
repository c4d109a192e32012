"""The engine's rules: the worked example as it stands in the design, and what must always hold."""

from __future__ import annotations

import random
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fair_ladle.core.path import Rung, admits, ladder, within
from fair_ladle.core.settling import (
    BY_SUPPLY,
    NO_LIMIT,
    Roots,
    Supply,
    hard_limits,
    headroom,
    is_near,
    most_reserve,
    pool_of,
    seen_from,
    settle,
    used_of_pools,
)
from fair_ladle.core.tree import Tree, TreeFault


def column(tree: Tree, figures: dict[str, int], other: int = 0) -> Any:
    return np.array([[figures.get(code, other)] for code in tree.codes], dtype=np.int64)


def one(value: int) -> Any:
    return np.array([value], dtype=np.int64)


EXAMPLE = Tree.build({"R": None, "A": "R", "B": "R", "A1": "A", "A2": "A"})
ROOT = Roots.of([(0, 0)])


def test_the_worked_example() -> None:
    own = column(EXAMPLE, {"A1": 12, "A2": 25, "B": 20})
    settled = settle(EXAMPLE, own, column(EXAMPLE, {"A": 40, "A1": 30}), ROOT)
    cap = column(EXAMPLE, {"A": 60, "B": 50, "A1": 30}, NO_LIMIT)
    found = headroom(EXAMPLE, settled, cap, ROOT, Supply(one(100), one(0), one(100)), used_of_pools(EXAMPLE, ROOT, own))
    load, held, room, bound = (
        dict(zip(EXAMPLE.codes, array[:, 0].tolist(), strict=True))
        for array in (settled.load, settled.held, found.room, found.bound_by)
    )
    assert (held["A1"], held["A2"], load["A"], held["A"], held["B"], load["R"]) == (30, 25, 55, 55, 20, 75)
    assert room == {"R": 25, "A": 5, "A1": 18, "A2": 5, "B": 25}
    names = {code: "supply" if at == BY_SUPPLY else EXAMPLE.codes[at] for code, at in bound.items()}
    assert names == {"R": "supply", "A": "A", "A1": "A1", "A2": "A", "B": "supply"}
    most = most_reserve(EXAMPLE, settled, cap, ROOT, Supply(one(100), one(0), one(100)))
    assert dict(zip(EXAMPLE.codes, most[:, 0].tolist(), strict=True)) == {"R": 0, "A": 60, "A1": 30, "A2": 30, "B": 45}


@pytest.mark.parametrize(
    ("parents", "says"),
    [
        ({"A": None, "B": "C", "C": "B"}, "own ancestors"),
        ({"A": None, "B": None}, "one root"),
        ({"A": "B", "B": "A"}, "one root"),
    ],
)
def test_what_is_no_tree(parents: dict[str, str | None], says: str) -> None:
    with pytest.raises(TreeFault, match=says):
        Tree.build(parents)


@st.composite
def pools(draw: st.DrawFn) -> dict[str, Any]:
    count = draw(st.integers(1, 14))
    parents = {"A00": None} | {f"A{n:02d}": f"A{draw(st.integers(0, n - 1)):02d}" for n in range(1, count)}
    tree = Tree.build(parents)
    roots = [0] + ([draw(st.integers(0, count - 1))] if draw(st.booleans()) else [])
    small = st.integers(0, 12)

    def array(strategy: st.SearchStrategy[int]) -> Any:
        return np.array([[draw(strategy)] for _ in range(count)], dtype=np.int64)

    reserve = array(st.sampled_from([0, 0, 1, 5, 9]))
    cap = np.where(array(st.booleans().map(int)) == 1, reserve + array(small), NO_LIMIT)
    layout = Roots.of([(row, 0) for row in dict.fromkeys(roots)])
    number = len(layout.rows)
    return {
        "tree": tree,
        "roots": layout,
        "own": array(small),
        "reserve": reserve,
        "cap": cap,
        "burst": np.where(array(st.booleans().map(int)) == 1, array(st.integers(0, 4)), NO_LIMIT),
        "bursting": array(st.booleans().map(int)).astype(bool),
        "supply": Supply(
            np.array([draw(st.integers(0, 120)) for _ in range(number)]),
            np.array([draw(st.integers(0, 5)) for _ in range(number)]),
            np.array([draw(st.sampled_from([100, 100, 150, 80])) for _ in range(number)]),
        ),
    }


def positions(pool: dict[str, Any]) -> tuple[Any, Any, Any]:
    settled = settle(pool["tree"], pool["own"], pool["reserve"], pool["roots"])
    hard = hard_limits(pool["cap"], pool["burst"], pool["bursting"])
    used = used_of_pools(pool["tree"], pool["roots"], pool["own"])
    return settled, hard, headroom(pool["tree"], settled, hard, pool["roots"], pool["supply"], used)


def way_up(pool: dict[str, Any], settled: Any, row: int) -> list[Rung]:
    owners, rungs = set(pool["roots"].rows.tolist()), []

    def some(value: int) -> int | None:
        return None if value >= NO_LIMIT else int(value)

    for each in pool["tree"].path_up(row):
        is_owner = each in owners
        rungs.append(
            Rung(
                pool["tree"].codes[each],
                int(settled.load[each, 0]),
                0 if is_owner else int(pool["reserve"][each, 0]),
                some(pool["cap"][each, 0]),
                some(pool["burst"][each, 0]),
                bool(pool["bursting"][each, 0]),
            )
        )
        if is_owner:
            break
    return rungs


def pool_place(pool: dict[str, Any], rungs: list[Rung]) -> int:
    return int(np.flatnonzero(pool["roots"].rows == pool["tree"].row(rungs[-1].account))[0])


@given(pools(), st.randoms(use_true_random=False))
def test_a_part_of_a_tree_is_as_if_it_were_laid_out_anew(pools: dict[str, Any], chance: random.Random) -> None:
    tree = pools["tree"]
    rows = sorted({above for row in range(len(tree)) if chance.random() < 0.3 for above in tree.path_up(row)} or {0})
    part = tree.part(np.array(rows, dtype=np.int64))
    codes = [tree.codes[row] for row in rows]
    anew = Tree.build({code: tree.codes[tree.parent[tree.row(code)]] if tree.row(code) else None for code in codes})
    assert (part.codes, part.level_start) == (anew.codes, anew.level_start)
    for name in ("parent", "depth_first", "branch_size"):
        assert getattr(part, name).tolist() == getattr(anew, name).tolist()


@settings(max_examples=250)
@given(pools())
def test_one_path_and_whole_trees_agree(pool: dict[str, Any]) -> None:
    settled, _, found = positions(pool)
    used = used_of_pools(pool["tree"], pool["roots"], pool["own"])
    for row, code in enumerate(pool["tree"].codes):
        rungs = way_up(pool, settled, row)
        place = pool_place(pool, rungs)
        supply = pool["supply"]
        told = ladder(rungs, int(supply.promisable[place]), int(supply.physical[place] - used[place]))
        bound = int(found.bound_by[row, 0])
        name = "supply" if bound == BY_SUPPLY else pool["tree"].codes[bound]
        assert (told.headroom, told.bound_by) == (int(found.room[row, 0]), name), code


@settings(max_examples=250)
@given(pools(), st.data())
def test_whoever_runs_a_branch_sees_room_as_far_as_its_top(pool: dict[str, Any], data: st.DataObject) -> None:
    settled, hard, _ = positions(pool)
    tree, owner = pool["tree"], pool_of(pool["tree"], pool["roots"], 1)
    top = data.draw(st.integers(0, len(tree) - 1))
    roots, supply = seen_from(top, owner, tree, pool["roots"], pool["supply"])
    found = headroom(tree, settled, hard, roots, supply, used_of_pools(tree, roots, pool["own"]))
    for row in tree.branch(top).tolist():
        rungs = way_up(pool, settled, row)
        codes = [each.account for each in rungs]
        room = int(found.room[row, 0])
        if tree.codes[top] not in codes[:-1]:  # the pool begins in the branch: its supply is seen
            place = pool_place(pool, rungs)
            used = used_of_pools(tree, pool["roots"], pool["own"])[place]
            told = ladder(rungs, int(pool["supply"].promisable[place]), int(pool["supply"].physical[place] - used))
            assert room == told.headroom
            continue
        told = within(rungs[: codes.index(tree.codes[top]) + 1])
        assert told.headroom == (None if told.headroom is None else room)
        assert told.headroom is not None or room > 10**9


@settings(max_examples=250)
@given(pools(), st.data())
def test_admitting_rung_by_rung_is_the_headroom(pool: dict[str, Any], data: st.DataObject) -> None:
    """What an admission does under its locks, one account after the other, lets through exactly what the ladder says."""
    settled, _, found = positions(pool)
    row, amount = data.draw(st.integers(0, len(pool["tree"]) - 1)), data.draw(st.integers(1, 20))
    rungs = way_up(pool, settled, row)
    place = pool_place(pool, rungs)
    used = used_of_pools(pool["tree"], pool["roots"], pool["own"])[place]
    change, lets = amount, used + amount <= pool["supply"].physical[place]
    for each in rungs:
        promisable = int(pool["supply"].promisable[place]) if each is rungs[-1] else None
        lets = lets and admits(each, change, promisable)
        change = each.passed_on(change)
    assert lets == (amount <= found.room[row, 0])
    assert all(admits(each, -amount, 0) for each in rungs), "giving back is never refused"


@settings(max_examples=250)
@given(pools(), st.data())
def test_a_taking_fits_exactly_up_to_the_headroom(pool: dict[str, Any], data: st.DataObject) -> None:
    """Up to its headroom a taking makes no new hard breach; one unit more breaks a limit or the supply."""
    settled, hard, found = positions(pool)
    row = data.draw(st.integers(0, len(pool["tree"]) - 1))
    room = int(found.room[row, 0])
    above = pool["tree"].path_up(row)
    place = pool_place(pool, way_up(pool, settled, row))

    def breaks(amount: int) -> bool:
        own = pool["own"].copy()
        own[row, 0] += amount
        after = settle(pool["tree"], own, pool["reserve"], pool["roots"])
        raised = [each for each in above if after.load[each, 0] > settled.load[each, 0]]
        owner = int(pool["roots"].rows[place])
        promised = owner in raised and after.load[owner, 0] > pool["supply"].promisable[place]
        used = used_of_pools(pool["tree"], pool["roots"], own)[place]
        return (
            promised
            or bool(used > pool["supply"].physical[place])
            or any(after.load[each, 0] > hard[each, 0] for each in raised)
        )

    if room > 0:
        assert not breaks(min(room, 10**6))
    if room < 10**6:
        assert breaks(max(0, room) + 1)


@settings(max_examples=150)
@given(pools())
def test_what_always_adds_up(pool: dict[str, Any]) -> None:
    settled, _, _ = positions(pool)
    tree, owners = pool["tree"], set(pool["roots"].rows.tolist())
    for row in range(len(tree)):
        children = [each for each in range(len(tree)) if tree.parent[each] == row and each not in owners]
        assert settled.load[row, 0] == pool["own"][row, 0] + sum(settled.held[each, 0] for each in children)
        assert settled.held[row, 0] == (
            settled.load[row, 0] if row in owners else max(pool["reserve"][row, 0], settled.load[row, 0])
        )


SUPPLIES = st.tuples(st.integers(0, 300), st.integers(0, 20), st.sampled_from([80, 100, 133, 200]))


@given(st.lists(st.tuples(SUPPLIES, st.integers(0, 400), st.integers(0, 400)), min_size=1, max_size=5))
def test_supply_says_the_same_of_one_pool_and_of_many(
    cases: list[tuple[tuple[int, int, int], int, int]],
) -> None:
    """Overcommit makes promises, never units: a pool is short by what is promised or used beyond it."""
    columns = np.array([each for each, _, _ in cases], dtype=np.int64)
    load, used = (np.array([case[n] for case in cases], dtype=np.int64) for n in (1, 2))
    many = Supply(columns[:, 0], columns[:, 1], columns[:, 2])
    for place, ((quantity, true_up, overcommit), promised, taken) in enumerate(cases):
        pool = Supply(quantity, true_up, overcommit)
        promisable, physical = quantity * overcommit // 100 + true_up, quantity + true_up
        short = max(0, promised - promisable, taken - physical)
        assert (pool.promisable, pool.physical) == (promisable, physical)
        assert (pool.shortfall(promised, taken), pool.unallocated(promised)) == (short, max(0, quantity - promised))
        assert (
            bool(pool.is_backed(promised))
            is bool(many.is_backed(load)[place])
            is (max(promised, promisable) <= physical)
        )
        assert pool.standing(promised, taken) == max(0, quantity - promised) - short
        assert many.shortfall(load, used)[place] == short and many.promisable[place] == promisable
        assert many.standing(load, used)[place] == pool.standing(promised, taken)


@pytest.mark.parametrize(
    ("load", "cap", "near"), [(9, 10, True), (8, 10, False), (90, 101, False), (0, 0, False), (5, NO_LIMIT, False)]
)
def test_near_is_from_nine_tenths(load: int, cap: int, near: bool) -> None:
    assert bool(is_near(one(load), one(cap))[0]) is near


@pytest.mark.parametrize(
    ("cap", "promisable", "binds"),
    [(3, 2, "supply"), (2, 3, "A"), (2, 2, "A"), (3, 9, "A"), (None, 2, "supply")],
)
def test_of_two_limits_that_are_passed_the_one_passed_by_more_binds(
    cap: int | None, promisable: int, binds: str
) -> None:
    """Both leave nothing below; the recursion, followed upwards, says which it is."""
    tree = Tree.build({"A": None, "B": "A"})
    own, reserve = column(tree, {"B": 5}), column(tree, {})
    hard = column(tree, {} if cap is None else {"A": cap}, NO_LIMIT)
    settled, supply = settle(tree, own, reserve, ROOT), Supply(one(promisable), one(0), one(100))
    found = headroom(tree, settled, hard, ROOT, supply)
    bound = int(found.bound_by[tree.row("B"), 0])
    assert ("supply" if bound == BY_SUPPLY else tree.codes[bound]) == binds
    way = [Rung("B", 5, 0, None, None, False), Rung("A", 5, 0, cap, None, False)]
    assert (ladder(way, promisable, 10**6).headroom, ladder(way, promisable, 10**6).bound_by) == (0, binds)
