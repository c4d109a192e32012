"""Layers: what reaches people, and in which order they get what there is not enough of."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from fair_ladle.core.layers import NO_PRIORITY, Bar, Grant, Switch, family_order, personal_limit, reach, waiting_order

JOBS, ROUTES, INSPECTIONS = 1, 2, 4


def at(*places: int) -> np.ndarray:
    return np.array(places, dtype=np.int64)


ALL = JOBS | ROUTES | INSPECTIONS


@pytest.mark.parametrize(
    ("what", "mandatory", "by_account", "switched", "by_group", "layers", "on"),
    [
        ("mandatory is always on", ROUTES, ROUTES, "off", ROUTES, [JOBS], True),
        ("barred by an account, whatever is switched", 0, ROUTES, "on", 0, [ROUTES], False),
        ("switched on, whatever a group bars", 0, 0, "on", ROUTES, [JOBS], True),
        ("switched off, whatever layers say", 0, 0, "off", 0, [ROUTES], False),
        ("barred by a group, whatever layers say", 0, 0, "", ROUTES, [ROUTES], False),
        ("on in any layer that gives it", 0, 0, "", 0, [JOBS, ROUTES], True),
        ("a layer that names none has all on", 0, 0, "", 0, [None], True),
        ("on in none of them", 0, 0, "", 0, [JOBS, INSPECTIONS], False),
        ("nothing is on of what does not reach them", ROUTES, 0, "on", 0, [], False),
    ],
)
def test_of_a_component_the_first_that_applies_holds(
    what: str, mandatory: int, by_account: int, switched: str, by_group: int, layers: list[int | None], on: bool
) -> None:
    """Sheets, for the second of two people; the first one is barred and switched nothing."""
    found = reach(
        2,
        [ALL],
        [Grant(0, at(0, 1), bits) for bits in layers],
        [Switch(0, 1, ROUTES * (switched == "on"), ROUTES * (switched == "off"))] if switched else [],
        [mandatory],
        [Bar(0, at(1), by_account)],
        [Bar(0, at(1), by_group)],
    )
    assert bool(int(found.components[1, 0]) & ROUTES) is on
    plain = [ALL if bits is None else bits for bits in layers]
    assert bool(int(found.components[0, 0]) & ROUTES) is bool(layers and (mandatory | sum(set(plain))) & ROUTES), (
        "and nobody else is touched"
    )


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
    switches = [Switch(product, person, 0, bits) for person, product, bits in off]
    found = reach(6, [7, 7, 7], layers, switches, mandatory)
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
    again = reach(6, [7, 7, 7], layers[::-1], switches[::-1], mandatory)
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
