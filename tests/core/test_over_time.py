"""What was when: use, storage, clocks and days, each against a calculation instant by instant."""

from __future__ import annotations

from datetime import date, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from fair_ladle.core.allocations import AtCap, Grid, Terms, Version, by_day
from fair_ladle.core.calendar import FAR, MICRO, day_start, days_of, instant, local_day, micros, month_before
from fair_ladle.core.clocks import (
    Steps,
    clock_from,
    counted_steps,
    grace_clock,
    grace_periods,
    greater,
    loads_over_time,
    stored_steps,
    total,
)
from fair_ladle.core.readings import counted_at, counted_days, day_seconds, read_days, stored_at, stored_days
from fair_ladle.core.settling import NO_LIMIT, Roots, settle
from fair_ladle.core.tree import Tree

VIENNA = ZoneInfo("Europe/Vienna")
INSTANTS = st.integers(0, 12)
MB = 10**6


def ints(values: Any) -> Any:
    return np.array(values, dtype=np.int64)


def steps(changes: list[tuple[int, int]]) -> Steps:
    return Steps.from_changes(ints([at for at, _ in changes]), ints([by for _, by in changes]))


CHANGES = st.lists(st.tuples(INSTANTS, st.integers(-3, 3)), max_size=8)


@given(CHANGES, CHANGES, CHANGES)
def test_step_functions_add_up_and_compare_instant_by_instant(
    one: list[tuple[int, int]], other: list[tuple[int, int]], third: list[tuple[int, int]]
) -> None:
    def at(changes: list[tuple[int, int]], now: int) -> int:
        return sum(by for instant, by in changes if instant <= now)

    when = ints(range(-1, 14))
    added, more = total([steps(one), steps(other), steps(third)]), greater(steps(one), steps(other))
    assert added.at(when).tolist() == [at(one + other + third, now) for now in when.tolist()]
    assert more.at(when).tolist() == [max(at(one, now), at(other, now)) for now in when.tolist()]
    assert total([]).at(when).tolist() == [0] * len(when)


ASSIGNMENTS = st.lists(st.tuples(st.integers(0, 2), INSTANTS, st.one_of(st.none(), INSTANTS)), max_size=12)
SAMPLES = st.dictionaries(
    st.tuples(st.integers(0, 2), st.integers(0, 1), INSTANTS), st.integers(0, 3 * MB), max_size=12
)


@given(ASSIGNMENTS)
def test_units_in_use_at_an_instant(assigned: list[tuple[int, int, int | None]]) -> None:
    rows = [(account, begins, begins + 1 + (ends or 0)) for account, begins, ends in assigned]
    rows = [(a, b, FAR if e is None else end) for (a, b, end), (_, _, e) in zip(rows, assigned, strict=True)]
    account, begins, ends = (ints([row[n] for row in rows]) for n in range(3))
    when = ints(range(15))
    expected = [
        [sum(a == row and b <= now < e for a, b, e in rows) for now in when.tolist()] for row in range(3)
    ]  # fmt: skip
    assert counted_at(3, account, begins, ends, when).tolist() == expected
    for row in range(3):
        mine = account == row
        assert counted_steps(begins[mine], ends[mine]).at(when).tolist() == expected[row]


@given(SAMPLES)
def test_bytes_stored_at_an_instant(samples: dict[tuple[int, int, int], int]) -> None:
    def bytes_at(row: int, now: int) -> int:
        newest = {
            category: max(
                ((at, stored) for (a, c, at), stored in samples.items() if (a, c) == (row, category) and at <= now),
                default=(0, 0),
            )[1]
            for category in range(2)
        }
        return sum(newest.values())

    keys = list(samples)
    account, category, at = (ints([key[n] for key in keys]) for n in range(3))
    stored, when = ints(list(samples.values())), ints(range(15))
    expected = [[(bytes_at(row, now) + MB // 2) // MB for now in when.tolist()] for row in range(3)]
    assert stored_at(3, account, category, at, stored, when).tolist() == expected
    for row in range(3):
        mine = account == row
        assert stored_steps(category[mine], at[mine], stored[mine]).at(when).tolist() == expected[row]


@given(ASSIGNMENTS, SAMPLES)
def test_a_days_seconds_and_averages_are_those_of_its_instants(
    assigned: list[tuple[int, int, int | None]], samples: dict[tuple[int, int, int], int]
) -> None:
    """A unit of INSTANTS is three hours: two days and a half around a change to summer time."""
    zone = VIENNA
    days = days_of(date(2026, 3, 28), date(2026, 3, 30), zone)
    step = 3 * 3600
    origin = days[0].start
    begins = ints([origin + b * step for _, b, _ in assigned])
    ends = ints([FAR if e is None else origin + (b + e) * step for _, b, e in assigned])
    mine = ints([a for a, _, _ in assigned])
    own = counted_days(3, mine, begins * MICRO, np.where(ends == FAR, FAR, ends * MICRO), days)
    for row in range(3):
        for column, day in enumerate(days):
            seconds = sum(
                max(0, min(e, day.end) - max(b, day.start))
                for a, b, e in zip(mine.tolist(), begins.tolist(), ends.tolist(), strict=True)
                if a == row
            )
            assert own[row, column] == seconds
    keys = list(samples)
    account, category = (ints([key[n] for key in keys]) for n in range(2))
    at = ints([(origin + key[2] * step) * MICRO for key in keys])
    stored = stored_days(3, account, category, at, ints(list(samples.values())), days)
    for row in range(3):
        for column, day in enumerate(days):
            byte_seconds = 0
            for (a, c, when), size in samples.items():
                if a == row:
                    later = [origin + n * step for (b, d, n) in samples if (b, d) == (a, c) and n > when]
                    byte_seconds += size * max(0, min([*later, day.end]) - max(origin + when * step, day.start))
            average = (2 * byte_seconds + day.seconds * MB) // (2 * day.seconds * MB)
            assert stored[row, column] == average * day.seconds


VERSIONS = st.lists(
    st.tuples(
        st.integers(0, 6),
        st.integers(0, 4),
        st.sampled_from(list(AtCap)),
        st.one_of(st.none(), st.integers(0, 4)),
        st.integers(0, 3),
    ),
    max_size=3,
)


@given(st.lists(st.tuples(st.integers(0, 60), st.integers(-2, 2)), max_size=10), VERSIONS)
def test_a_grace_clock_runs_while_the_load_is_past_a_cap_with_grace(
    changes: list[tuple[int, int]], given_versions: list[tuple[int, int, AtCap, int | None, int]]
) -> None:
    """Replayed hour by hour: instants are multiples of four hours, versions follow one another."""
    first = date(2026, 10, 23)
    versions, free = [], 0
    for gap, length, at_cap, cap, grace_days in given_versions:
        begin = first + timedelta(days=free + gap)
        versions.append(Version("A", begin, begin + timedelta(days=length), 0, cap, at_cap, None, grace_days))
        free += gap + length + 1
    origin = day_start(first, VIENNA)
    load = steps([((origin + hours * 4 * 3600) * MICRO, by) for hours, by in changes])
    until = (origin + 12 * 86400) * MICRO

    def past(now: int) -> bool:
        day = local_day(instant(now), VIENNA)
        version = next((each for each in versions if each.covers(day)), None)
        return (
            version is not None
            and version.at_cap is AtCap.GRACE
            and version.cap is not None
            and int(load.at(ints([now]))[0]) > version.cap
        )

    expected: list[tuple[int, int | None]] = []
    was = False
    for now in range(origin, origin + 12 * 86400 + 1, 3600):
        is_past = past(now * MICRO)
        if is_past and not was:
            expected.append((now * MICRO, None))
        elif was and not is_past:
            expected[-1] = (expected[-1][0], now * MICRO)
        was = is_past
    periods = grace_periods(load, versions, until, VIENNA)
    assert [(each.clock.since, each.cleared) for each in periods] == expected
    running = grace_clock(load, versions, until, VIENNA)
    assert (running is not None) == was
    for each in periods:
        end = local_day(instant(until if each.cleared is None else each.cleared - 1), VIENNA)
        days = next(version.grace_days or 0 for version in versions if version.covers(end))
        assert each.clock == clock_from(each.clock.since, days, VIENNA)
        assert each.clock.restricted_from == day_start(each.clock.deadline_day + timedelta(days=1), VIENNA) * MICRO
        assert each.clock.is_over(each.clock.restricted_from) and not each.clock.is_over(each.clock.restricted_from - 1)


TREE = Tree.build({"R": None, "A": "R", "B": "R", "A1": "A", "A2": "A"})


@given(st.lists(st.tuples(st.integers(0, 4), CHANGES), max_size=5), st.lists(st.integers(0, 4), min_size=5, max_size=5))
def test_a_load_over_time_is_the_settling_of_each_instant(
    own: list[tuple[int, list[tuple[int, int]]]], reserves: list[int]
) -> None:
    mine = [total([steps(changes) for row, changes in own if row == at]) for at in range(5)]
    order = sorted(range(5), key=lambda row: int(TREE.depth_first[row]))
    found = loads_over_time(
        order,
        lambda row: int(TREE.parent[row]),
        mine.__getitem__,
        lambda row: Steps(ints([0]), ints([reserves[row]])),
    )
    for now in range(14):
        now_own = ints([[int(mine[row].at(ints([now]))[0])] for row in range(5)])
        settled = settle(TREE, now_own, ints([[each] for each in reserves]), Roots.of([(0, 0)]))
        assert [int(found[row].at(ints([now]))[0]) for row in range(5)] == settled.load[:, 0].tolist()


SUNDAY = date(2026, 10, 25)


def test_readings_settle_each_day_in_seconds() -> None:
    days = days_of(date(2026, 10, 24), date(2026, 10, 26), VIENNA)
    assert day_seconds(days).tolist() == [86400, 90000, 86400]
    rows, limits, never = ints([TREE.row("A"), TREE.row("A1")]), ints([9, NO_LIMIT]), np.zeros(2, dtype=bool)
    begins, ends = (ints([each.toordinal() for each in of]) for of in ((SUNDAY, date(2026, 1, 1)), (date.max, SUNDAY)))
    grid = by_day(rows, begins, ends, Terms(ints([5, 2]), limits, limits, never, never), 5, days)
    own = np.zeros((5, 3), dtype=np.int64)
    own[TREE.row("A1")] = [3 * 86400, 1 * 90000, 86400 // 2]
    own[TREE.row("B")] = [0, 4 * 90000, 0]
    found = read_days(TREE, own, grid, [0], days)
    held = {code: found.settled.held[TREE.row(code)].tolist() for code in ("A", "A1", "B")}
    assert held == {
        "A": [3 * 86400, 5 * 90000, 5 * 86400],
        "A1": [3 * 86400, 2 * 90000, 43200],
        "B": [0, 360000, 0],
    }
    assert found.used[0].tolist() == [3 * 86400, 5 * 90000, 43200] == own.sum(axis=0).tolist()
    assert found.allocated.cap[TREE.row("A")].tolist() == [NO_LIMIT, 9, 9]
    assert not found.allocated.present[TREE.row("A1")][2]
    nothing = by_day(rows[:0], begins[:0], ends[:0], Terms(*[limits[:0]] * 3, *[never[:0]] * 2), 5, days)
    assert not nothing.present.any()


def test_an_allocation_that_is_taken_away_leaves_nothing() -> None:
    grid = Grid.empty(1, 2)
    grid.put(0, slice(0, 2), Version("A", date(2026, 1, 1), None, 3, 5, AtCap.GRACE, 2, 7))
    other = grid.copy()
    other.clear(0, 1)
    assert grid.present.tolist() == [[True, True]] and other.present.tolist() == [[True, False]]
    assert (other.reserve.tolist(), other.cap.tolist(), other.burst.tolist(), other.grace.tolist()) == (
        [[3, 0]],
        [[5, NO_LIMIT]],
        [[2, NO_LIMIT]],
        [[True, False]],
    )


@pytest.mark.parametrize(
    ("at", "day"),
    [("2026-10-24T22:00:00+00:00", date(2026, 10, 25)), ("2026-10-25T22:59:59+00:00", date(2026, 10, 25))],
)
def test_the_day_an_instant_falls_on_is_the_zones(at: str, day: date) -> None:
    assert local_day(datetime.fromisoformat(at), VIENNA) == day
    assert instant(micros(datetime.fromisoformat(at))) == datetime.fromisoformat(at)
    assert month_before(date(2026, 1, 1)) == date(2025, 12, 1)
