"""Settle and headroom for 100,000 accounts × 20 pools."""

from __future__ import annotations

import random
from typing import Any

import numpy as np
import polars as pl
import sqlalchemy as sa

from bench.home import new_database, server
from bench.measured import Measure, best, compared, interleaved
from fair_ladle.core.settling import NO_LIMIT, Roots, Supply, headroom, settle, used_of_pools
from fair_ladle.core.sharing import Mode, share
from fair_ladle.core.tree import Tree

ACCOUNTS, POOLS = 100_000, 20


def tree_of(accounts: int) -> Tree:
    """A tree as MSPs have them: a few resellers, many clients, departments below."""
    chance = random.Random(7)
    parents: dict[str, str | None] = {"A0": None}
    for number in range(1, accounts):
        if number <= 200:
            above = 0
        elif number <= accounts // 5:
            above = chance.randrange(0, 201)
        else:
            above = (
                chance.randrange(201, accounts // 5 + 1)
                if chance.random() < 0.8
                else chance.randrange(accounts // 5, number)
            )
        parents[f"A{number}"] = f"A{above}"
    return Tree.build(parents)


def bare_pass(tree: Tree, own: Any, reserve: Any) -> Any:
    """The least that has to be done: level by level, add up the larger of load and reserve."""
    load = own.copy()
    held = np.empty_like(load)
    for rows, first, above in tree.levels_up():
        held[rows] = np.maximum(load[rows], reserve[rows])
        load[above] += np.add.reduceat(held[rows], first, axis=0)
    held[0] = load[0]
    return load, held


def bare_both(tree: Tree, own: Any, reserve: Any, cap: Any, promisable: Any) -> Any:
    """The least for headroom too: the same pass and one back down, without saying what binds."""
    load, held = bare_pass(tree, own, reserve)
    room = cap - load
    room[0] = np.minimum(room[0], promisable - load[0])
    for rows in tree.levels_down():
        room[rows] = np.minimum(room[rows], held[rows] - load[rows] + np.maximum(room[tree.parent[rows]], 0))
    return np.minimum(room, promisable - own.sum(axis=0))


def frame_pass(frames: list[pl.DataFrame], names: list[str]) -> pl.DataFrame:
    """The same totals in a columnar data-frame library, level by level: join what is below, take the larger, group."""
    below: pl.DataFrame | None = None
    for frame in frames:
        if below is not None:
            frame = frame.join(below, left_on="row", right_on="parent", how="left", suffix="_below")
            frame = frame.with_columns(
                (pl.col(f"own_{n}") + pl.col(f"held_{n}").fill_null(0)).alias(f"own_{n}") for n in names
            )
        held = frame.select(
            "parent", *(pl.max_horizontal(f"own_{n}", f"reserve_{n}").alias(f"held_{n}") for n in names)
        )
        below = held.group_by("parent").sum()
    assert below is not None
    return below


def measure() -> list[Measure]:
    """Against a bare NumPy pass, a data-frame library, and (one pool) a recursive query."""
    tree = tree_of(ACCOUNTS)
    chance = np.random.default_rng(3)
    own = chance.integers(0, 50, (ACCOUNTS, POOLS))
    reserve = chance.integers(0, 60, (ACCOUNTS, POOLS)) * (chance.random((ACCOUNTS, POOLS)) < 0.3)
    reserve[0] = 0
    cap = np.where(chance.random((ACCOUNTS, POOLS)) < 0.4, reserve + 100, NO_LIMIT)
    roots = Roots.of([(0, column) for column in range(POOLS)])
    names = [str(n) for n in range(POOLS)]
    frames = []
    edges = tree.level_start
    for level in range(len(edges) - 2, -1, -1):
        rows = np.arange(edges[level], edges[level + 1])
        frames.append(
            pl.DataFrame(
                {"row": rows, "parent": tree.parent[rows]}
                | {f"own_{n}": own[rows, int(n)] for n in names}
                | {f"reserve_{n}": reserve[rows, int(n)] for n in names}
            )
        )
    ours, bare, frame = interleaved(
        lambda: settle(tree, own, reserve, roots),
        lambda: bare_pass(tree, own, reserve),
        lambda: frame_pass(frames, names),
    )
    settled = settle(tree, own, reserve, roots)
    assert (settled.load == bare_pass(tree, own, reserve)[0]).all()
    assert frame_pass(frames, names)["held_0"][0] == settled.load[0, 0]
    supply = Supply(settled.load[0] + 5, np.zeros(POOLS, dtype=np.int64), np.full(POOLS, 100))
    with_headroom, bare_headroom = interleaved(
        lambda: headroom(tree, settle(tree, own, reserve, roots), cap, roots, supply, used_of_pools(tree, roots, own)),
        lambda: bare_both(tree, own, reserve, cap, supply.promisable),
    )
    assert (
        headroom(tree, settled, cap, roots, supply, used_of_pools(tree, roots, own)).room
        == bare_both(tree, own, reserve, cap, supply.promisable)
    ).all()
    one, query = _one_pool(tree, own[:, :1], reserve[:, :1])
    high = chance.integers(0, 50, 10_000).tolist()
    sharing = best(lambda: share(100_000, [1] * 10_000, [0] * 10_000, high, Mode.MAX_MIN), 3)
    size = f"{ACCOUNTS:,} × {POOLS}"
    return [
        compared(f"settle {size}", ours, "bare NumPy pass, level by level", bare),
        compared(f"settle {size}", ours, "data-frame library, level by level", frame),
        compared(
            f"settle, headroom and binding limits {size}",
            with_headroom,
            "bare NumPy pass, up and down, nothing bound",
            bare_headroom,
        ),
        compared(f"settle {ACCOUNTS:,} × 1", one, "recursive query in MariaDB", query),
        Measure("share 100,000 units over 10,000 accounts, max-min", f"{sharing:.3f} s"),
    ]


def _one_pool(tree: Tree, own: Any, reserve: Any) -> tuple[float, float]:
    roots = Roots.of([(0, 0)])
    ours = best(lambda: settle(tree, own, reserve, roots))
    with server() as home:
        database = new_database(home)
        with database.engine.begin() as connection:
            connection.execute(sa.text("CREATE TABLE node (id INT PRIMARY KEY, parent INT, own BIGINT, KEY (parent))"))
            rows = [{"id": row, "parent": int(tree.parent[row]), "own": int(own[row, 0])} for row in range(len(tree))]
            for start in range(0, len(rows), 10_000):
                connection.execute(
                    sa.text("INSERT INTO node VALUES (:id, :parent, :own)"), rows[start : start + 10_000]
                )
        # A recursive query cannot add up what it recurses over, so it gives the sums of own of every branch
        # of the first level only: less than settling does.
        query = sa.text(
            "WITH RECURSIVE up AS (SELECT id, id AS top, own FROM node WHERE parent = 0 "
            "UNION ALL SELECT n.id, up.top, n.own FROM node n JOIN up ON n.parent = up.id) "
            "SELECT top, SUM(own) FROM up GROUP BY top"
        )

        def ask() -> None:
            with database.engine.connect() as connection:
                connection.execute(query).fetchall()

        theirs = best(ask, 3)
        database.engine.dispose()
    return ours, theirs
