"""The tree of accounts as arrays, laid out so that whole levels are worked through at once."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Ints = NDArray[np.int64]


class TreeFault(ValueError):
    """The parents do not make one tree: a cycle, no root, or more than one."""


@dataclass(frozen=True)
class Tree:
    """Accounts in breadth-first order, siblings by code; row 0 is the root.

    ``parent`` holds each row's parent row (-1 for the root); ``level_start`` the first row of every
    level and, last, the number of rows; ``depth_first`` each row's place in tree order (depth-first,
    siblings by code); ``branch_size`` the number of rows in each row's branch, itself included.
    """

    codes: tuple[str, ...]
    parent: Ints
    level_start: tuple[int, ...]
    depth_first: Ints
    branch_size: Ints
    _groups: tuple[tuple[Ints, Ints], ...]
    _row: dict[str, int]
    _in_order: Ints

    @staticmethod
    def build(parent_of: dict[str, str | None]) -> Tree:
        """Lay out the tree given as {code: parent's code, or None for the root}."""
        children: dict[str | None, list[str]] = {}
        for code, parent in parent_of.items():
            children.setdefault(parent, []).append(code)
        roots = children.get(None, [])
        if len(roots) != 1:
            raise TreeFault(f"a tree has one root; here {len(roots)} accounts have no parent")
        for siblings in children.values():
            siblings.sort()
        order: list[str] = list(roots)
        parents: list[int] = [-1]
        level_start = [0]
        start, end = 0, 1
        while start < end:
            for row in range(start, end):
                below = children.get(order[row])
                if below:
                    order.extend(below)
                    parents.extend([row] * len(below))
            start, end = end, len(order)
            level_start.append(start)
        if len(order) != len(parent_of):
            raise TreeFault("some accounts are their own ancestors")
        return Tree._lay_out(tuple(order), np.array(parents, dtype=np.int64), tuple(level_start))

    def part(self, rows: Ints) -> Tree:
        """Some accounts (rows, ascending) and all above them, which have to be among them, as a tree of their own: in
        the same order."""
        parent = np.searchsorted(rows, self.parent[rows])
        parent[0] = -1
        level_start = np.unique(np.searchsorted(rows, self.level_start)).tolist()
        return Tree._lay_out(tuple(self.codes[row] for row in rows.tolist()), parent, tuple(level_start))

    @staticmethod
    def _lay_out(codes: tuple[str, ...], parent: Ints, level_start: tuple[int, ...]) -> Tree:
        groups = []
        for start, end in zip(level_start, level_start[1:], strict=False):
            parents_here = parent[start:end]
            first = np.flatnonzero(np.r_[True, parents_here[1:] != parents_here[:-1]])
            groups.append((first, parents_here[first]))
        size = np.ones(len(codes), dtype=np.int64)
        for level in range(len(level_start) - 2, 0, -1):
            start, end = level_start[level], level_start[level + 1]
            first, above = groups[level]
            size[above] += np.add.reduceat(size[start:end], first)
        place = np.zeros(len(codes), dtype=np.int64)
        for level in range(1, len(level_start) - 1):
            start, end = level_start[level], level_start[level + 1]
            before = np.cumsum(size[start:end]) - size[start:end]
            first, above = groups[level]
            counts = np.diff(np.r_[first, end - start])
            place[start:end] = np.repeat(place[above] + 1 - before[first], counts) + before
        in_order = np.empty(len(codes), dtype=np.int64)
        in_order[place] = np.arange(len(codes))
        rows = {code: row for row, code in enumerate(codes)}
        return Tree(codes, parent, level_start, place, size, tuple(groups), rows, in_order)

    def __len__(self) -> int:
        return len(self.codes)

    def __contains__(self, code: str) -> bool:
        return code in self._row

    def row(self, code: str) -> int:
        """The row of an account; KeyError where the tree has no such account."""
        return self._row[code]

    def levels_up(self) -> Sequence[tuple[slice, Ints, Ints]]:
        """Levels from the deepest to the first below the root: rows, first row of each family, its parent."""
        return [
            (slice(self.level_start[level], self.level_start[level + 1]), *self._groups[level])
            for level in range(len(self.level_start) - 2, 0, -1)
        ]

    def levels_down(self) -> Sequence[slice]:
        """Levels from the first below the root to the deepest."""
        return [
            slice(self.level_start[level], self.level_start[level + 1]) for level in range(1, len(self.level_start) - 1)
        ]

    def place(self, code: str) -> int:
        """An account's place in tree order; -1 where it is not in the tree."""
        return int(self.depth_first[self.row(code)]) if code in self else -1

    def branch(self, row: int) -> Ints:
        """The rows of a branch in tree order, its top first."""
        first = int(self.depth_first[row])
        return self._in_order[first : first + int(self.branch_size[row])]

    def is_inside(self, row: int, top: int) -> bool:
        """Whether an account stands in the branch of another one, or is it."""
        return 0 <= int(self.depth_first[row]) - int(self.depth_first[top]) < int(self.branch_size[top])

    def rows_in_order(self) -> Ints:
        """All rows in tree order."""
        return self._in_order

    def path_up(self, row: int) -> list[int]:
        """The rows from an account up to the root, both included."""
        path = []
        while row >= 0:
            path.append(row)
            row = int(self.parent[row])
        return path

    def depth(self, row: int) -> int:
        """How many accounts stand above this one."""
        return len(self.path_up(row)) - 1
