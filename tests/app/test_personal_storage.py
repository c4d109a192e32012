"""How much one person may store, by which layer, and bytes that stay where they were until they are moved."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fair_ladle.app.accounts import service as accounts
from fair_ladle.app.assignments import usecases as assignments
from fair_ladle.app.people_admin import acting, groups, listing
from fair_ladle.app.people_admin.groups import GroupTerms
from fair_ladle.app.people_admin.listing import Asked
from fair_ladle.app.people_admin.seat_acts import ActOptions
from fair_ladle.app.personal_storage import usecases
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.pools import service as pools
from fair_ladle.app.usage import service as usage
from fair_ladle.core.layers import personal_limit

P = "DEEPSHELF"
OLDQUAY, CREW, TERN = Actor("Maren", "", "OLDQUAY"), Actor("Head", "", "OLDQUAY-CREW"), Actor("Tilde", "", "TERN")


@pytest.mark.parametrize(
    ("direct", "of_groups", "defaults", "found"),
    [
        (5, [(0, 9)], [(0, 7)], ("direct", 0, 5)),
        (None, [(2, 9), (4, 1)], [(0, 7)], ("group", 2, 9)),
        (None, [], [(3, 7), (8, 1)], ("account", 3, 7)),
        (None, [], [], None),
        (0, [(0, 9)], [], ("direct", 0, 0)),
    ],
)
def test_direct_before_groups_before_the_nearest_account(
    direct: int | None, of_groups: Sequence[tuple[int, int]], defaults: Sequence[tuple[int, int]], found: Any
) -> None:
    assert personal_limit(direct, of_groups, defaults) == found


@given(
    st.lists(st.tuples(st.integers(0, 9), st.integers(0, 99)), max_size=4),
    st.lists(st.tuples(st.integers(0, 9), st.integers(0, 99)), max_size=4),
)
def test_a_later_layer_never_counts_while_an_earlier_one_says_something(
    of_groups: list[tuple[int, int]], defaults: list[tuple[int, int]]
) -> None:
    for more in ([], [(1, 1)]):
        assert (
            personal_limit(None, of_groups, defaults) == personal_limit(None, of_groups, [*defaults, *more])
        ) or not (of_groups or defaults)


def ada(database: Database) -> str:
    return str(database.run(listing.listing, CREW, Asked(status="active")).rows[0].person.username)


def of(database: Database, username: str, who: Actor = OLDQUAY) -> usecases.Storage:
    return next(each for each in database.run(listing.person, who, username).stored if each.product.code == P)


def test_each_limit_carries_the_layer_it_comes_from(demo: Database) -> None:
    name = ada(demo)
    assert of(demo, name).limit is None
    demo.run(usecases.set_limit, COMMAND_LINE, "GANNET", None, P, "100")
    assert (of(demo, name).limit, of(demo, name).source) == (100_000, "set above this branch"), "and names nobody above"
    demo.run(usecases.set_limit, OLDQUAY, "OLDQUAY", None, P, "50.5")
    assert (of(demo, name).limit, of(demo, name).source) == (50_500, "default of Old Quay Ferries")
    for code, precedence, amount in (("late", 20, "10"), ("early", 10, "20")):
        demo.run(groups.put, OLDQUAY, GroupTerms("OLDQUAY-CREW", code, code.title(), None, (name,), precedence))
        demo.run(usecases.set_limit, OLDQUAY, "OLDQUAY-CREW", code, P, amount)
    assert (of(demo, name).limit, of(demo, name).source) == (20_000, "group Early"), (
        "the first in precedence, not the smallest"
    )
    demo.run(listing.set_storage_limit, OLDQUAY, name, P, "1")
    assert (of(demo, name).limit, of(demo, name).layer) == (1_000, "direct")
    row = demo.run(listing.listing, OLDQUAY, Asked(usernames=(name,))).rows[0]
    assert [(each.product.code, each.limit, each.source) for each in row.storage] == [(P, 1_000, "set for them")]
    demo.run(listing.set_storage_limit, OLDQUAY, name, P, None)
    demo.run(usecases.set_limit, OLDQUAY, "OLDQUAY-CREW", "early", P, None)
    assert of(demo, name).source == "group Late"
    with pytest.raises(Refused, match=r"Late limits what its people store of Deepshelf.*; take that away first"):
        demo.run(groups.forget, OLDQUAY, "OLDQUAY-CREW/late")
    demo.run(usecases.set_limit, OLDQUAY, "OLDQUAY-CREW", "late", P, None)
    demo.run(groups.forget, OLDQUAY, "OLDQUAY-CREW/late")


@pytest.mark.parametrize(
    ("account", "group", "product", "amount", "why"),
    [
        ("OLDQUAY", None, P, "-1", "Between 0"),
        ("OLDQUAY", None, P, "1.2345", "no amount in GB"),
        ("OLDQUAY", None, P, "lots", "no amount"),
        ("OLDQUAY", None, "LANTERN-MAIL", "1", "is not storage"),
        ("TERN", None, P, "1", "no account"),
        ("OLDQUAY", "nobody", P, "1", "no group"),
    ],
)
def test_a_limit_that_cannot_be_is_refused(
    shared_demo: Database, account: str, group: str | None, product: str, amount: str, why: str
) -> None:
    with pytest.raises(Refused, match=why):
        shared_demo.run(usecases.set_limit, OLDQUAY, account, group, product, amount)


def test_bytes_stay_with_the_old_account_until_they_are_moved_on_purpose(demo: Database) -> None:
    name = ada(demo)
    with demo.transaction() as tx:
        of_crew = {"product_id": pools.product(tx, P).id, "account_id": accounts.ids_by_code(tx)["OLDQUAY-CREW"]}
        for category, size in ((f"home/{name}", 1_500_400_000), (f"home/{name}/mail", 500_000_000)):
            usage.record_samples(tx, [of_crew | {"category": category, "at": tx.now, "bytes": size}])
        pools.mark_stale(tx)
    assert of(demo, name).used == 2000
    demo.run(acting.act, OLDQUAY, "move", Asked(usernames=(name,)), ActOptions(to_account="OLDQUAY-HARBOUR"))
    there = of(demo, name)
    assert there.used == 0 and [(each.account, each.grains) for each in there.elsewhere] == [("OLDQUAY-CREW", 2000)]
    assert demo.run(listing.move_bytes, OLDQUAY, name, "OLDQUAY-CREW") == 2000
    assert (of(demo, name).used, of(demo, name).elsewhere) == (2000, ()) and demo.run(
        assignments.verify, COMMAND_LINE
    ) == []
    with pytest.raises(Refused, match="Nothing of"):
        demo.run(listing.move_bytes, OLDQUAY, name, "OLDQUAY-CREW")
    with pytest.raises(Refused, match="no person"):
        demo.run(listing.move_bytes, TERN, name, "OLDQUAY-CREW")
