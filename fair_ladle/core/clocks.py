"""Grace clocks, replayed from the facts: when an account went past its cap, and until when it may stay there."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
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


def split_by(key: Ints, *arrays: Ints) -> Iterator[tuple[int, list[Ints]]]:
    """Parallel arrays cut by a key, ascending, each part in the order it came in: (key, the parts of each array)."""
    order = np.argsort(key, kind="stable")
    keys = key[order]
    begins = np.flatnonzero(np.r_[True, keys[1:] != keys[:-1]]) if len(keys) else np.empty(0, dtype=np.int64)
    parts = [np.split(array[order], begins[1:]) for array in arrays]
    for place, begin in enumerate(begins.tolist()):
        yield int(keys[begin]), [part[place] for part in parts]


def stored_steps(category: Ints, at: Ints, stored: Ints) -> Steps:
    """Grains stored over time, from one account's samples (category, instant, bytes) in any order."""
    series = []
    for _, (times, sizes) in split_by(category, at, stored):
        order = np.argsort(times, kind="stable")
        series.append(Steps(times[order], sizes[order]))
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


def product(one: Steps, other: Steps) -> Steps:
    """One step function times another, instant by instant."""
    times = np.union1d(one.times, other.times)
    return Steps(times, one.at(times) * other.at(times))


def cap_steps(versions: Sequence[Version], zone: ZoneInfo, seats: Mapping[str, Steps]) -> Steps:
    """The cap of an allocation over time (far above anything where there is none), given the seats that caps follow
    over time, by product."""

    def fixed(version: Version) -> int:
        return version.cap or 0 if version.per is not None or version.cap is not None else NO_LIMIT // 2

    parts = [version_steps(versions, zone, fixed)]
    parts += [
        product(version_steps([each], zone, lambda version: version.each or 0), seats[each.per])
        for each in versions
        if each.per is not None
    ]
    return parts[0] if len(parts) == 1 else total(parts)


@dataclass(frozen=True)
class GraceClock:
    """A grace clock: since when the account is past its cap, and the first instant at which it is restricted."""

    since: int
    deadline_day: date
    restricted_from: int

    def is_over(self, at: int) -> bool:
        """Whether the deadline has passed."""
        return at >= self.restricted_from


def clock_from(since: int, grace_days: int, zone: ZoneInfo) -> GraceClock:
    """The clock that started at an instant: its deadline is the end of the day grace_days later."""
    deadline = local_day(instant(since), zone) + timedelta(days=grace_days)
    return GraceClock(since, deadline, day_start(deadline + timedelta(days=1), zone) * MICRO)


@dataclass(frozen=True)
class GracePeriod:
    """A clock and the instant (µs) at which it was cleared; None while it runs."""

    clock: GraceClock
    cleared: int | None


def grace_periods(
    load: Steps, versions: Sequence[Version], at: int, zone: ZoneInfo, seats: Mapping[str, Steps] | None = None
) -> list[GracePeriod]:
    """Every clock up to an instant for an account with this load and these allocation versions, in order.

    A clock starts at the first instant at which load > cap under ``grace`` and is cleared at the first instant
    back within, or under another policy. Its length is that of the version in force at its end, or now. ``seats``: what
    caps that follow seats follow, over time, by product.
    """
    grace = version_steps(
        versions, zone, lambda v: int(v.at_cap is AtCap.GRACE and (v.cap is not None or v.per is not None))
    )
    cap = cap_steps(versions, zone, seats or {})
    times = np.unique(np.concatenate([load.times, grace.times, cap.times]))
    times = times[times <= at]
    if len(times) == 0:
        return []
    past_cap = (grace.at(times) > 0) & (load.at(times) > cap.at(times))
    turns = np.flatnonzero(np.diff(past_cap.astype(np.int8), prepend=0))
    found = []
    for place, turn in enumerate(turns.tolist()):
        if not past_cap[turn]:
            continue
        cleared = int(times[turns[place + 1]]) if place + 1 < len(turns) else None
        last = local_day(instant(at if cleared is None else cleared - 1), zone)
        version = next((v for v in versions if v.covers(last)), None)
        days = version.grace_days or 0 if version else 0
        found.append(GracePeriod(clock_from(int(times[turn]), days, zone), cleared))
    return found


def grace_clock(
    load: Steps, versions: Sequence[Version], at: int, zone: ZoneInfo, seats: Mapping[str, Steps] | None = None
) -> GraceClock | None:
    """The clock running at an instant; None where none runs."""
    periods = grace_periods(load, versions, at, zone, seats)
    return periods[-1].clock if periods and periods[-1].cleared is None else None


def loads_over_time(
    order: Sequence[int],
    parent: Callable[[int], int],
    own: Callable[[int], Steps],
    reserve: Callable[[int], Steps],
) -> dict[int, Steps]:
    """load of every account of a pool over time; ``order`` has parents before their children, the first without one."""
    loads: dict[int, Steps] = {}
    parts: dict[int, list[Steps]] = {row: [own(row)] for row in order}
    for row in reversed(order):
        loads[row] = total(parts.pop(row))
        above = parent(row)
        if above in parts:
            parts[above].append(greater(loads[row], reserve(row)))
    return loads
