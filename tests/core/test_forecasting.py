"""What a running month may come to: what came after earlier days, put after the last one."""

from __future__ import annotations

from decimal import Decimal

from hypothesis import given
from hypothesis import strategies as st

from fair_ladle.core.forecasting import DayAhead, days_ahead, range_of, starts
from fair_ladle.core.pricing import BuyerDay

DAY = 86_400


def days(units: list[int], cap: int | None = None) -> list[BuyerDay]:
    return [
        BuyerDay(DAY, each * DAY, each * DAY, 2 * DAY, each * DAY, None if cap is None else cap * DAY, each > 0)
        for each in units
    ]


def to_come(*reserves: int, seconds: int = DAY, cap: int | None = None) -> list[DayAhead]:
    return [DayAhead(seconds, each, cap, each > 0) for each in reserves]


def test_what_grew_grows_on_and_lengths_of_days_count() -> None:
    history = days([10, 11, 12, 13, 14], cap=20)
    assert list(starts(len(history), 2)) == [0, 1, 2] and list(starts(3, 5)) == []
    for start in starts(len(history), 2):
        found = days_ahead(history, start, to_come(2, cap=20) + to_come(2, seconds=DAY + 3600, cap=20))
        assert [each.held // each.seconds for each in found] == [15, 16]
        assert [each.overage_cap for each in found] == [20 * DAY, 20 * (DAY + 3600)]
        assert [each.reserve for each in found] == [2 * DAY, 2 * (DAY + 3600)]


def test_nothing_falls_below_none_and_what_begins_counts() -> None:
    [less] = days_ahead(days([9, 1, 5]), 0, to_come(2))
    assert (less.used, less.held, less.counts) == (0, 2 * DAY, True)
    [begun] = days_ahead(days([0, 4, 0]), 0, to_come(0))
    assert (begun.held, begun.counts) == (4 * DAY, True)


def test_what_is_allocated_on_the_days_to_come_is_taken_as_it_is() -> None:
    """12 reserved today, 30 from tomorrow, nothing after it: whatever was reserved before."""
    for then in (1, 12, 50):
        history = [
            BuyerDay(DAY, 5 * DAY, max(5, each) * DAY, each * DAY, 5 * DAY, None) for each in (then, 3, then, 12)
        ]
        first, second = days_ahead(history, 0, to_come(30, 0))
        assert (first.reserve, first.held, first.load) == (30 * DAY, 30 * DAY, 5 * DAY)
        assert (second.reserve, second.held, second.counts) == (0, 5 * DAY, True)


@given(st.lists(st.decimals(0, 10**6, places=2), min_size=1, max_size=200))
def test_the_range_holds_the_likely_total_and_nine_tenths(totals: list[Decimal]) -> None:
    found = range_of(totals)
    assert found.low <= found.likely <= found.high
    inside = sum(found.low <= each <= found.high for each in totals)
    assert inside >= len(totals) * 9 // 10


@given(st.lists(st.integers(0, 50), min_size=4, max_size=20))
def test_what_stays_as_it_is_is_known(units: list[int]) -> None:
    steady = days([units[0]] * len(units))
    ahead = [days_ahead(steady, start, to_come(2, 2)) for start in starts(len(steady), 2)]
    assert all(each.held == max(2, units[0]) * DAY for path in ahead for each in path)
