"""Sharing out: exact, within bounds, the same on every run, and fair in the way that was asked for."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fair_ladle.core.sharing import Mode, largest_remainder, share

CASES = [
    # mode, amount, weights, low, high, needs, result
    (Mode.EVEN, 10, [9, 1, 1], [0, 0, 0], [99, 99, 99], None, [4, 3, 3]),
    (Mode.EVEN, 10, [1, 1, 1], [0, 0, 8], [99, 99, 99], None, [1, 1, 8]),
    (Mode.PROPORTIONAL, 10, [3, 2, 2], [0, 0, 0], [99, 99, 99], None, [4, 3, 3]),
    (Mode.PROPORTIONAL, 100, [50, 30, 20], [0, 0, 0], [10, 99, 99], None, [10, 54, 36]),
    (Mode.MAX_MIN, 10, [1, 1, 1], [0, 0, 0], [2, 3, 9], None, [2, 3, 5]),
    (Mode.MAX_MIN, 10, [1, 3], [0, 0], [99, 99], None, [2, 8]),
    (Mode.MAX_MIN, 100, [1, 1], [0, 0], [5, 6], None, [5, 6]),
    (
        Mode.MAX_MIN,
        50,
        [23, 9, 4],
        [10, 0, 4],
        [33, 13, 6],
        None,
        [33, 12, 5],
    ),  # a large weight gets two of the last grains
    (Mode.MAX_MIN, 92, [100, 1], [91, 0], [99, 9], None, [92, 0]),  # and one that its least has lifted gets them too
    (Mode.MAX_MIN, 7, [0, 2], [0, 0], [9, 4], None, [3, 4]),
    (Mode.NEED, 10, [1, 1, 1], [0, 0, 0], [99, 99, 99], [6, 0, 1], [6, 2, 2]),
    (Mode.NEED, 5, [1, 1], [0, 0], [99, 99], [9, 2], [3, 2]),
]


@pytest.mark.parametrize(("mode", "amount", "weights", "low", "high", "needs", "result"), CASES)
def test_ways_of_sharing(
    mode: Mode,
    amount: int,
    weights: list[int],
    low: list[int],
    high: list[int],
    needs: list[int] | None,
    result: list[int],
) -> None:
    assert share(amount, weights, low, high, mode, needs) == result


def test_least_amounts_beyond_what_there_is_are_refused() -> None:
    with pytest.raises(ValueError, match="add up to 6, more than the 5"):
        share(5, [1, 1], [3, 3], [9, 9], Mode.EVEN)


@st.composite
def shares(draw: st.DrawFn) -> tuple[int, list[int], list[int], list[int], list[int]]:
    count = draw(st.integers(1, 8))
    numbers = st.lists(st.integers(0, 30), min_size=count, max_size=count)
    low = draw(numbers)
    high = [least + more for least, more in zip(low, draw(numbers), strict=True)]
    return draw(st.integers(sum(low), sum(low) + 200)), draw(numbers), low, high, draw(numbers)


@settings(max_examples=300)
@given(shares(), st.sampled_from(list(Mode)))
def test_it_adds_up_within_bounds(case: tuple[int, list[int], list[int], list[int], list[int]], mode: Mode) -> None:
    amount, weights, low, high, needs = case
    parts = share(amount, weights, low, high, mode, needs)
    assert sum(parts) == min(amount, sum(high))
    assert all(least <= part <= most for least, part, most in zip(low, parts, high, strict=True))


@settings(max_examples=800)
@given(shares())
def test_max_min_leaves_nobody_to_take_from(case: tuple[int, list[int], list[int], list[int], list[int]]) -> None:
    """Whoever could take one more (and has weight) stands no lower than anybody who could give one, by more than
    that one."""
    amount, weights, low, high, _ = case
    parts = share(amount, weights, low, high, Mode.MAX_MIN)
    for taker, giver in ((a, b) for a in range(len(parts)) for b in range(len(parts)) if a != b):
        if weights[taker] and weights[giver] and parts[taker] < high[taker] and parts[giver] > low[giver]:
            assert (parts[taker] + 1) * weights[giver] >= parts[giver] * weights[taker]


@given(st.integers(0, 10**9), st.lists(st.integers(0, 10**15), min_size=1, max_size=12).filter(any))
def test_largest_remainder_is_off_by_less_than_one(amount: int, weights: list[int]) -> None:
    parts = largest_remainder(amount, weights)
    assert sum(parts) == amount
    assert all(
        abs(part * sum(weights) - amount * weight) < sum(weights) for part, weight in zip(parts, weights, strict=True)
    )
