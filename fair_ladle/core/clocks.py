"""Grace clocks, replayed from the facts: when an account went past its cap, and until when it may stay there."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from zoneinfo import ZoneInfo

import numpy as np

from fair_ladle.core.allocations import AtCap, Version
from fair_ladle.core.calendar import FAR, MICRO, day_start, instant, local_day
from fair_ladle.core.quantities import BYTES_PER_GRAIN
from fair_ladle.core.settling import NO_LIMIT
from fair_ladle.core.tree import Ints


@dataclass(frozen=True)
class Steps:
    """A step function of time: 0 before the first instant, ``values[i]`` from ``times[i]`` (µs) on."""

    times: Ints
    values: Ints

    @staticmethod
    def nothing() -> Steps:
        """0 for ever."""
        return Steps(np.empty(0, dtype=np.int64), np.empty(0, dtype=np.int64))

    @staticmethod
    def from_changes(times: Ints, changes: Ints) -> Steps:
        """Add up changes, given in any order; those of one instant count together."""
        if len(times) == 0:
            return Steps.nothing()
        order = np.argsort(times, kind="stable")
        times, sums = times[order], np.cumsum(changes[order])
        last_of_instant = np.r_[times[1:] != times[:-1], True]
        return Steps(times[last_of_instant], sums[last_of_instant])

    def changes(self) -> tuple[Ints, Ints]:
        """The instants and by how much the value changes at each."""
        return self.times, np.diff(self.values, prepend=0)

    def at(self, times: Ints) -> Ints:
        """The values at given instants."""
        place = np.searchsorted(self.times, times, side="right") - 1
        return np.where(place >= 0, np.r_[self.values, 0][place], 0)


def total(parts: Sequence[Steps]) -> Steps:
    """The sum of step functions."""
    if not parts:
        return Steps.nothing()
    changes = [part.changes() for part in parts]
    return Steps.from_changes(
        np.concatenate([times for times, _ in changes]), np.concatenate([by for _, by in changes])
    )


def greater(one: Steps, other: Steps) -> Steps:
    """The larger of two step functions, instant by instant."""
    times = np.union1d(one.times, other.times)
    return Steps(times, np.maximum(one.at(times), other.at(times)))


def counted_steps(begins: Ints, ends: Ints) -> Steps:
    """Units in use over time, from the instants at which assignments begin and end (FAR = never)."""
    ended = ends[ends < FAR]
    times = np.concatenate([begins, ended])
    changes = np.concatenate([np.ones(len(begins), dtype=np.int64), -np.ones(len(ended), dtype=np.int64)])
    return Steps.from_changes(times, changes)


def stored_steps(category: Ints, at: Ints, stored: Ints) -> Steps:
    """Grains stored over time, from one account's samples (category, instant, bytes) in any order."""
    series = []
    for name in np.unique(category):
        mine = category == name
        order = np.argsort(at[mine], kind="stable")
        series.append(Steps(at[mine][order], stored[mine][order]))
    in_bytes = total(series)
    return Steps(in_bytes.times, (in_bytes.values + BYTES_PER_GRAIN // 2) // BYTES_PER_GRAIN)


def version_steps(versions: Sequence[Version], zone: ZoneInfo, figure: Callable[[Version], int]) -> Steps:
    """One figure of an allocation over time; 0 where no version is in force."""
    times, changes = [], []
    for version in versions:
        times.append(day_start(version.first_day, zone) * MICRO)
        changes.append(figure(version))
        if version.last_day is not None:
            times.append(day_start(version.last_day + timedelta(days=1), zone) * MICRO)
            changes.append(-figure(version))
    return Steps.from_changes(np.array(times, dtype=np.int64), np.array(changes, dtype=np.int64))


@dataclass(frozen=True)
class Clock:
    """A grace clock: since when the account is past its cap, and the first instant at which it is restricted."""

    since: int
    deadline_day: date
    restricted_from: int

    def is_over(self, at: int) -> bool:
        """Whether the deadline has passed."""
        return at >= self.restricted_from


def clock_from(since: int, grace_days: int, zone: ZoneInfo) -> Clock:
    """The clock that started at an instant: its deadline is the end of the day grace_days later."""
    deadline = local_day(instant(since), zone) + timedelta(days=grace_days)
    return Clock(since, deadline, day_start(deadline + timedelta(days=1), zone) * MICRO)


def grace_clock(load: Steps, versions: Sequence[Version], at: int, zone: ZoneInfo) -> Clock | None:
    """The clock running at an instant for an account with this load and these allocation versions.

    It runs since the first instant from which on load > cap under ``grace`` without a break; its
    length is the one of the version in force. None where no clock runs.
    """
    now = next((v for v in versions if v.covers(local_day(instant(at), zone))), None)
    if now is None or now.at_cap is not AtCap.GRACE or now.cap is None:
        return None
    grace = version_steps(versions, zone, lambda v: int(v.at_cap is AtCap.GRACE and v.cap is not None))
    cap = version_steps(versions, zone, lambda v: v.cap if v.cap is not None else NO_LIMIT // 2)
    times = np.unique(np.concatenate([load.times, grace.times, cap.times]))
    times = times[times <= at]
    past_cap = (grace.at(times) > 0) & (load.at(times) > cap.at(times))
    if len(times) == 0 or not past_cap[-1]:
        return None
    within = np.flatnonzero(~past_cap)
    since = int(times[within[-1] + 1] if len(within) else times[0])
    return clock_from(since, now.grace_days or 0, zone)


def load_over_time(
    row: int,
    children: Callable[[int], Sequence[int]],
    own: Callable[[int], Steps],
    reserve: Callable[[int], Steps],
) -> Steps:
    """load(n) as a function of time: own and what the children hold, worked upwards without recursion."""
    order = [row]
    for above in order:
        order.extend(children(above))
    held: dict[int, Steps] = {}
    for each in reversed(order):
        load = total([own(each), *(held.pop(child) for child in children(each))])
        if each == row:
            return load
        held[each] = greater(load, reserve(each))
    return Steps.nothing()
