"""Layers: what reaches people, and in which order they get what there is not enough of."""

from __future__ import annotations

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from fair_ladle.core.layers import NO_PRIORITY, Grant, family_order, personal_limit, reach, waiting_order

WRITER, SHEETS, MEETINGS = 1, 2, 4


def at(*places: int) -> np.ndarray:
    return np.array(places, dtype=np.int64)


def test_a_component_is_on_if_any_giving_layer_has_it_on_and_nothing_turns_it_off() -> None:
    """Everybody gets writer; leads get meetings too; one of them has sheets switched off, and writer, which is
    mandatory."""
    found = reach(
        4,
        1,
        [Grant(0, at(0, 1, 2), WRITER | SHEETS, 50), Grant(0, at(1, 2), MEETINGS, 10)],
        [(2, 0, SHEETS | WRITER), (3, 0, SHEETS)],
        [WRITER],
    )
    assert found.components[:, 0].tolist() == [WRITER | SHEETS, WRITER | SHEETS | MEETINGS, WRITER | MEETINGS, 0]
    assert found.layers[:, 0].tolist() == [1, 2, 2, 0] and found.priority[:, 0].tolist() == [50, 10, 10, NO_PRIORITY]


def test_who_waits_is_served_by_priority_then_age_then_as_they_come() -> None:
    assert waiting_order(at(0, 1, 2, 3), at(20, 10, 10, 10), at(1, 9, 5, 5)).tolist() == [2, 3, 1, 0]


GIVINGS = st.lists(
    st.tuples(st.integers(0, 2), st.sets(st.integers(0, 5)), st.integers(0, 7), st.integers(1, 9)), max_size=8
)
OFF = st.lists(st.tuples(st.integers(0, 5), st.integers(0, 2), st.integers(0, 7)), max_size=5)


@given(grants=GIVINGS, off=OFF, mandatory=st.lists(st.integers(0, 7), min_size=3, max_size=3))
def test_it_is_what_one_would_say_of_each_person(
    grants: list[tuple[int, set[int], int, int]], off: list[tuple[int, int, int]], mandatory: list[int]
) -> None:
    layers = [Grant(product, at(*sorted(people)), bits, priority) for product, people, bits, priority in grants]
    found = reach(6, 3, layers, off, mandatory)
    for person in range(6):
        for product in range(3):
            mine = [each for each in grants if each[0] == product and person in each[1]]
            on = 0
            for each in mine:
                on |= each[2]
            for who, what, bits in off:
                on &= ~bits if (who, what) == (person, product) else -1
            assert found.layers[person, product] == len(mine)
            assert int(found.components[person, product]) == ((on | mandatory[product]) if mine else 0)
            assert found.priority[person, product] == min((each[3] for each in mine), default=NO_PRIORITY)
    again = reach(6, 3, layers[::-1], off[::-1], mandatory)
    assert np.array_equal(found.components, again.components), "the order of layers does not matter"


def test_a_family_goes_up_by_its_successors_else_as_the_table_has_it() -> None:
    assert family_order([1, 2, -1]) == [0, 1, 2]
    assert family_order([-1, 0, -1]) == [1, 0, 2], "the first is the second one's successor, so it comes after it"
    assert family_order([2, -1, 1]) == [0, 2, 1] and family_order([-1, -1]) == [0, 1]
    assert sorted(family_order([1, 0, -1])) == [0, 1, 2], "a circle ends all the same"


def test_a_storage_limit_is_the_persons_own_else_a_groups_else_the_nearest_accounts() -> None:
    groups, defaults = [(1, 50), (0, 70)], [(3, 20), (0, 10)]
    assert personal_limit(5, groups, defaults) == ("direct", 0, 5)
    assert personal_limit(None, groups, defaults) == ("group", 1, 50)
    assert personal_limit(None, [], defaults) == ("account", 3, 20)
    assert personal_limit(None, [], []) is None and personal_limit(0, groups, defaults) == ("direct", 0, 0)
