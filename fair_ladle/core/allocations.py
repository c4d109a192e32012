"""Allocation versions: what a pool gives an account from one day to another."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date
from enum import StrEnum

import numpy as np

from fair_ladle.core.calendar import Day
from fair_ladle.core.settling import NO_LIMIT, Flags
from fair_ladle.core.tree import Ints


class AtCap(StrEnum):
    """What happens at the cap."""

    BLOCK = "block"
    GRACE = "grace"
    OVERAGE = "overage"


@dataclass(frozen=True)
class Follows:
    """How a cap follows seats: what it is by itself (grains), and by how many grains it is more for each unit in use of
    a counted product (its code)."""

    fixed: int
    each: int
    per: str


@dataclass(frozen=True)
class Version:
    """One version of an allocation, in grains; ``last_day`` None = open, ``cap`` None = no cap.

    With ``per`` (a counted product's code) and ``each`` (grains) the cap follows seats, and ``cap`` is what it is
    without any (None = 0).
    """

    account: str
    first_day: date
    last_day: date | None
    reserve: int = 0
    cap: int | None = None
    at_cap: AtCap = AtCap.BLOCK
    burst: int | None = None
    grace_days: int | None = None
    per: str | None = None
    each: int | None = None

    @property
    def follows(self) -> Follows | None:
        """How the cap follows seats; None where it stays what is written."""
        return None if self.per is None else Follows(self.cap or 0, self.each or 0, self.per)

    def covers(self, day: date) -> bool:
        """Whether this version is in force on a day."""
        return self.first_day <= day and (self.last_day is None or day <= self.last_day)


@dataclass(frozen=True)
class Terms:
    """What is allocated in many cells, in grains (``NO_LIMIT`` = no cap, no burst)."""

    reserve: Ints
    cap: Ints
    burst: Ints
    grace: Flags
    overage: Flags

    def of(self, some: Flags) -> Terms:
        """Those of some of the cells."""
        return Terms(self.reserve[some], self.cap[some], self.burst[some], self.grace[some], self.overage[some])

    def for_columns(self) -> Terms:
        """The same, to be laid into several columns of each row."""
        return Terms(
            self.reserve[:, None], self.cap[:, None], self.burst[:, None], self.grace[:, None], self.overage[:, None]
        )


@dataclass(frozen=True)
class Grid:
    """What is in force, one row an account, one column a day (or a product): the shape all others share.

    ``following`` has the cells whose cap follows seats; ``cap`` is there what ``follow`` last made it, before that what
    is written.
    """

    reserve: Ints
    cap: Ints
    burst: Ints
    grace: Flags
    overage: Flags
    present: Flags
    following: dict[tuple[int, int], Follows] = field(default_factory=dict)

    @staticmethod
    def empty(rows: int, columns: int) -> Grid:
        """Nothing allocated anywhere."""
        shape = (rows, columns)
        return Grid(
            np.zeros(shape, dtype=np.int64),
            np.full(shape, NO_LIMIT, dtype=np.int64),
            np.full(shape, NO_LIMIT, dtype=np.int64),
            np.zeros(shape, dtype=bool),
            np.zeros(shape, dtype=bool),
            np.zeros(shape, dtype=bool),
        )

    def copy(self) -> Grid:
        """The same, to be changed apart."""
        return Grid(
            self.reserve.copy(),
            self.cap.copy(),
            self.burst.copy(),
            self.grace.copy(),
            self.overage.copy(),
            self.present.copy(),
            dict(self.following),
        )

    @property
    def followed(self) -> set[str]:
        """The counted products (codes) whose units caps follow."""
        return {each.per for each in self.following.values()}

    def follow(self, seats: Mapping[tuple[int, int], int]) -> None:
        """Let caps that follow seats be what so many in use make them, by cell."""
        for cell, each in self.following.items():
            self.cap[cell] = each.fixed + each.each * seats[cell]

    def lay(self, rows: Ints, columns: Ints | slice, terms: Terms) -> None:
        """Let terms be in force, one in each of these cells, or in these columns of each row."""
        self.reserve[rows, columns] = terms.reserve
        self.cap[rows, columns] = terms.cap
        self.burst[rows, columns] = terms.burst
        self.grace[rows, columns] = terms.grace
        self.overage[rows, columns] = terms.overage
        self.present[rows, columns] = True

    def put(self, row: int, columns: slice | int, version: Version) -> None:
        """Let one version be in force in these columns of an account's row."""
        self.reserve[row, columns] = version.reserve
        self.cap[row, columns] = NO_LIMIT if version.cap is None else version.cap
        self.burst[row, columns] = NO_LIMIT if version.burst is None else version.burst
        self.grace[row, columns] = version.at_cap is AtCap.GRACE
        self.overage[row, columns] = version.at_cap is AtCap.OVERAGE
        self.present[row, columns] = True
        follows = version.follows
        if follows is None and not self.following:
            return
        for column in _numbers(columns, self.cap.shape[1]):
            if follows is None:
                self.following.pop((row, column), None)
            else:
                self.following[row, column] = follows

    def clear(self, row: int, columns: slice | int) -> None:
        """Let nothing be allocated in these columns of an account's row."""
        self.put(row, columns, Version("", date.min, None))
        self.present[row, columns] = False


def _numbers(columns: slice | int, count: int) -> Iterable[int]:
    return range(*columns.indices(count)) if isinstance(columns, slice) else (columns,)


def by_day(rows: Ints, begins: Ints, ends: Ints, terms: Terms, accounts: int, days: Sequence[Day]) -> Grid:
    """Versions laid over consecutive days: each with its account's row, its first and last day (ordinals; none is over
    before the days begin, or begins after them) and its terms; of so many accounts."""
    grid = Grid.empty(accounts, len(days))
    first = days[0].date.toordinal()
    spans = np.stack([np.maximum(begins - first, 0), np.minimum(ends - first, len(days) - 1) + 1])
    each_span, span_of = np.unique(spans, axis=1, return_inverse=True)
    for place, (begin, end) in enumerate(each_span.T.tolist()):
        mine = span_of.reshape(-1) == place
        grid.lay(rows[mine], slice(begin, end), terms.of(mine).for_columns())
    return grid


def overlaps(versions: Sequence[Version]) -> list[tuple[Version, Version]]:
    """Pairs of versions of one allocation that are in force on the same day."""
    found: list[tuple[Version, Version]] = []
    longest: Version | None = None
    for version in sorted(versions, key=lambda version: version.first_day):
        if longest is None:
            longest = version
            continue
        if longest.last_day is None or version.first_day <= longest.last_day:
            found.append((longest, version))
        if longest.last_day is not None and (version.last_day is None or version.last_day > longest.last_day):
            longest = version
    return found
