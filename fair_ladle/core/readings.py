"""Readings: the engine's daily figures, in grain-seconds, the evidence under every statement line."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from fair_ladle.core.allocations import Grid
from fair_ladle.core.calendar import FAR, MICRO, Day
from fair_ladle.core.quantities import BYTES_PER_GRAIN
from fair_ladle.core.settling import NO_LIMIT, Roots, Settled, settle
from fair_ladle.core.tree import Ints, Tree


@dataclass(frozen=True)
class Readings:
    """One product's days: arrays of accounts × days in grain-seconds, and the allocations behind them.

    ``used`` is Σ own of each account's branch within its pool, ``seats`` by cell the unit-seconds that a cap follows.
    """

    days: tuple[Day, ...]
    own: Ints
    used: Ints
    settled: Settled
    allocated: Grid
    seconds: Ints
    seats: Mapping[tuple[int, int], int] = field(default_factory=dict)

    def cap(self, row: int, column: int) -> int | None:
        """The cap of an account on a day, in grain-seconds; None = no cap."""
        follows, written = self.allocated.following.get((row, column)), int(self.allocated.cap[row, column])
        if follows is not None:
            return follows.fixed * int(self.seconds[column]) + follows.each * self.seats[row, column]
        return None if written >= NO_LIMIT else written * int(self.seconds[column])


def day_seconds(days: Sequence[Day]) -> Ints:
    """L of every day."""
    return np.array([day.seconds for day in days], dtype=np.int64)


def counted_days(rows: int, account: Ints, begins: Ints, ends: Ints, days: Sequence[Day]) -> Ints:
    """own of counted products: seconds in use, summed over assignments; accounts × days.

    ``begins`` and ``ends`` are instants in µs (``FAR`` = still in use); a part of a second is dropped.
    """
    own = np.zeros((rows, len(days)), dtype=np.int64)
    begins = begins // MICRO
    ends = np.where(ends >= FAR, FAR, ends // MICRO)
    whole = (begins <= days[0].start) & (ends >= days[-1].end)
    own += np.bincount(account[whole], minlength=rows)[:, None] * day_seconds(days)
    account, begins, ends = account[~whole], begins[~whole], ends[~whole]
    for column, day in enumerate(days):
        seconds = np.minimum(ends, day.end) - np.maximum(begins, day.start)
        used = seconds > 0
        # A day's sum stays far below 2^53, so the weights of bincount are exact.
        own[:, column] += np.bincount(account[used], seconds[used], minlength=rows).astype(np.int64)
    return own


def stored_days(rows: int, account: Ints, category: Ints, at: Ints, stored: Ints, days: Sequence[Day]) -> Ints:
    """own of storage: the day's average bytes of all categories, half up to grains, times L; accounts × days.

    Samples come in any order, one an (account, category, instant in µs); each holds until the next of
    its account and category.
    """
    own = np.zeros((rows, len(days)), dtype=np.int64)
    if len(account) == 0:
        return own
    account, category, micros, stored = _in_order(account, category, at, stored)
    at = micros // MICRO
    same = (account[1:] == account[:-1]) & (category[1:] == category[:-1])
    until = np.r_[np.where(same, at[1:], FAR), FAR]
    every_grains, every_rest = np.divmod(stored, BYTES_PER_GRAIN)
    for column, day in enumerate(days):
        lasting = np.flatnonzero((at < day.end) & (until > day.start))
        if len(lasting) == 0:
            continue
        mine, grains, rest = account[lasting], every_grains[lasting], every_rest[lasting]
        first = np.flatnonzero(np.r_[True, mine[1:] != mine[:-1]])
        seconds = np.minimum(until[lasting], day.end) - np.maximum(at[lasting], day.start)
        carried, rest_seconds = np.divmod(np.add.reduceat(rest * seconds, first), BYTES_PER_GRAIN)
        whole = np.add.reduceat(grains * seconds, first) + carried
        # floor(average + ½), with the part below a grain-second carried only where it completes one
        half_up = (2 * whole + day.seconds + 2 * rest_seconds // BYTES_PER_GRAIN) // (2 * day.seconds)
        own[mine[first], column] = half_up * day.seconds
    return own


def _in_order(account: Ints, category: Ints, at: Ints, stored: Ints) -> tuple[Ints, Ints, Ints, Ints]:
    """Samples by account, category and instant."""
    # Sorts of what is in order already, as most is that comes from a database, take no time.
    order = np.argsort(at, kind="stable")
    series = account * (category.max() + 1) + category
    order = order[np.argsort(series[order], kind="stable")]
    return account[order], category[order], at[order], stored[order]


def counted_at(rows: int, account: Ints, begins: Ints, ends: Ints, instants: Ints) -> Ints:
    """own of counted products at each instant (µs): units in use; accounts × instants."""
    own = np.zeros((rows, len(instants)), dtype=np.int64)
    for column, instant in enumerate(instants.tolist()):
        own[:, column] = np.bincount(account[(begins <= instant) & (ends > instant)], minlength=rows)
    return own


def stored_at(rows: int, account: Ints, category: Ints, at: Ints, stored: Ints, instants: Ints) -> Ints:
    """own of storage at each instant (µs): the bytes of all categories together, half up to grains; accounts ×
    instants."""
    own = np.zeros((rows, len(instants)), dtype=np.int64)
    if len(account) == 0:
        return own
    account, category, at, stored = _in_order(account, category, at, stored)
    same = (account[1:] == account[:-1]) & (category[1:] == category[:-1])
    until = np.r_[np.where(same, at[1:], FAR), FAR]
    first = np.flatnonzero(np.r_[True, account[1:] != account[:-1]])
    for column, instant in enumerate(instants.tolist()):
        in_bytes = np.add.reduceat(np.where((at <= instant) & (until > instant), stored, 0), first)
        own[account[first], column] = (in_bytes + BYTES_PER_GRAIN // 2) // BYTES_PER_GRAIN
    return own


def read_days(
    tree: Tree,
    own: Ints,
    allocated: Grid,
    roots: Sequence[int],
    days: Sequence[Day],
    seats: Mapping[tuple[int, int], int] | None = None,
    elsewhere: tuple[Ints, Ints] | None = None,
) -> Readings:
    """Settle every day of one product in grain-seconds; ``roots`` are the rows that own a pool of it, ``seats`` the
    unit-seconds of each cell whose cap follows them, ``elsewhere`` what accounts directly below each that are not of
    this tree hold of its pool, and what is used in their branches."""
    seconds = day_seconds(days)
    every_day = Roots.of([(row, column) for row in roots for column in range(len(days))])
    held, used_there = elsewhere or (np.zeros_like(own), np.zeros_like(own))
    settled = settle(tree, own + held, allocated.reserve * seconds, every_day)
    used = settle(tree, own + used_there, np.zeros_like(own), every_day).load
    return Readings(tuple(days), own, used, settled, allocated, seconds, seats or {})
