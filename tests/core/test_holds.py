"""Who is put on hold, in which order, and who is free again first."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fair_ladle.core.holds import Candidate, Hold, in_order, replay

ORDER = [
    ("above the reserve first", [Candidate(1, 0, None, False, False), Candidate(2, 0, 5, True, False)], [2, 1]),
    ("never used first", [Candidate(1, 0, 5, True, False), Candidate(2, 0, None, True, False)], [2, 1]),
    ("then longest unused", [Candidate(1, 0, 9, True, False), Candidate(2, 0, 5, True, False)], [2, 1]),
    ("then newest", [Candidate(1, 3, 5, True, False), Candidate(2, 7, 5, True, False)], [2, 1]),
    ("protected people last", [Candidate(1, 0, None, True, True), Candidate(2, 0, 9, False, False)], [2, 1]),
]


@pytest.mark.parametrize(("what", "candidates", "order"), ORDER, ids=[case[0] for case in ORDER])
def test_who_goes_first(what: str, candidates: list[Candidate], order: list[int]) -> None:
    assert [each.assignment for each in in_order(candidates)] == order


@given(st.lists(st.tuples(st.integers(0, 5), st.sets(st.integers(0, 7))), min_size=1, max_size=12), st.integers(1, 11))
def test_the_excess_alone_is_on_hold_however_it_is_cut(steps: list[tuple[int, set[int]]], cut: int) -> None:
    """At every instant as many as the excess (or all there are) are on hold, and going on from a break gives the
    same."""

    def holds(events: range, stack: list[Hold]) -> list[Hold]:
        return replay(
            list(events),
            lambda at: min(steps[at][0], len(steps[at][1])),
            lambda at: sorted(steps[at][1]),
            lambda at: [Candidate(each, each, None, True, False) for each in steps[at][1]],
            stack,
        )

    whole = holds(range(len(steps)), [])
    for at, (excess, there) in enumerate(steps):
        now = [hold.assignment for hold in whole if hold.begins <= at and (hold.ends is None or at < hold.ends)]
        assert len(now) == len(set(now)) == min(excess, len(there)) and set(now) <= there
    cut = min(cut, len(steps))
    first = holds(range(cut), [])
    ended = {hold for hold in first if hold.ends is not None}
    assert ended | set(holds(range(cut, len(steps)), [hold for hold in first if hold.ends is None])) == set(whole)
