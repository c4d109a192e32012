"""People and groups: the list within one's scope, groups by rule and by hand, acts on many, and joining."""

from __future__ import annotations

import re
from datetime import timedelta
from typing import Any

import pytest
import sqlalchemy as sa

from fair_ladle.app.allocations.positions import positions_at
from fair_ladle.app.assignments import usecases as assignments
from fair_ladle.app.drafts import usecases as drafts
from fair_ladle.app.drafts.change_types import StatusChange
from fair_ladle.app.people_admin import acting, groups, joining, listing
from fair_ladle.app.people_admin.groups import GroupTerms
from fair_ladle.app.people_admin.joining import NewPerson
from fair_ladle.app.people_admin.listing import Asked
from fair_ladle.app.people_admin.seat_acts import ActOptions, Outcome
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.pools import service as pools
from fair_ladle.app.storage import listing as storage
from tests import statements
from tests.app.test_account_life import admin, applied
from tests.app.test_drafts import allocation
from tests.conftest import everything_locked

OLDQUAY, DEPARTMENT = Actor("Maren", "", "OLDQUAY"), Actor("Head", "", "OLDQUAY-CREW")


def found(database: Database, who: Actor = COMMAND_LINE, **asked: Any) -> list[str]:
    names: list[str] = []
    while True:
        page = database.run(listing.listing, who, Asked(**asked), "username", False, len(names), 250)
        names += [row.person.username for row in page.rows]
        if len(page.rows) < 250:
            assert page.total in (None, len(names)) and database.run(listing.count, who, Asked(**asked)) == len(
                names
            ) == len(set(names)), "every one once, whatever the page"
            return names


def one(database: Database, username: str) -> listing.Person:
    return database.run(listing.person, COMMAND_LINE, username)


def act(database: Database, what: acting.Act, *usernames: str, who: Actor = COMMAND_LINE, **how: Any) -> Outcome:
    """Looked at first, then done: both say the same, and the counters agree afterwards."""
    asked = Asked(usernames=tuple(usernames))
    with everything_locked(database):
        would = database.try_out(acting.act, who, what, asked, ActOptions(**how))
    did = database.run(acting.act, who, what, asked, ActOptions(**how))
    assert (did.done, did.could_not, did.released, did.seats, did.run_no_more) == (
        would.done,
        would.could_not,
        would.released,
        would.seats,
        would.run_no_more,
    )
    assert database.run(assignments.verify, COMMAND_LINE) == []
    return did


def products(database: Database, username: str) -> set[str]:
    return {each.product.code for each in one(database, username).holdings}


def test_the_list_is_filtered_and_never_shows_more_than_the_branch(shared_demo: Database) -> None:
    everybody, mine, crew = found(shared_demo), found(shared_demo, OLDQUAY), found(shared_demo, DEPARTMENT)
    assert set(crew) < set(mine) < set(everybody)
    assert found(shared_demo, OLDQUAY, account="OLDQUAY-CREW") == crew
    with pytest.raises(Refused, match="no account 'TERN'"):
        found(shared_demo, OLDQUAY, account="TERN")
    outsider = next(name for name in everybody if name not in mine)
    with pytest.raises(Refused, match="no person"):
        shared_demo.run(listing.person, OLDQUAY, outsider)
    assert outsider not in found(shared_demo, OLDQUAY, find=outsider) and outsider in found(
        shared_demo, find=outsider.split(".")[0].upper()
    )
    active, invited, suspended = (set(found(shared_demo, status=each)) for each in ("active", "invited", "suspended"))
    assert active | invited | suspended == set(everybody) and len(active) + len(invited) + len(suspended) == len(
        everybody
    )
    has, lacks = set(found(shared_demo, product="LANTERN-MAIL")), set(found(shared_demo, without="LANTERN-MAIL"))
    assert has | lacks == set(everybody) and not has & lacks and has
    assert set(found(shared_demo, seen="never")) <= set(found(shared_demo, seen="60"))
    assert set(found(shared_demo, filter='active eq true and title eq "manager"')) < active
    assert found(shared_demo, find="%") == [] and found(shared_demo, find="_") == [], (
        "signs of the database's own are only signs"
    )
    with pytest.raises(Refused, match="At position 1"):
        found(shared_demo, filter="nothing pr")


def test_groups_hold_whom_their_rule_and_their_members_say(demo: Database) -> None:
    crew = found(demo, DEPARTMENT)
    by_rule = GroupTerms("OLDQUAY", "CREW-ACTIVE", "Active crew", 'active eq true and userName sw "a"', (), None)
    previewed = demo.run(groups.preview, OLDQUAY, by_rule)
    assert (
        previewed.count == previewed.come_count == len(found(demo, OLDQUAY, filter=by_rule.rule))
        and previewed.leave_count == 0
    )
    demo.run(groups.put, OLDQUAY, by_rule)
    outer = GroupTerms("OLDQUAY", "OUTER", "Outer", None, (crew[0], "CREW-ACTIVE"), 5)
    demo.run(groups.put, OLDQUAY, outer)
    assert set(found(demo, OLDQUAY, group="OLDQUAY/OUTER")) == {
        crew[0],
        *found(demo, OLDQUAY, group="OLDQUAY/CREW-ACTIVE"),
    }
    person = demo.run(listing.person, OLDQUAY, crew[0])
    assert ("OLDQUAY", "OUTER", "Outer") in [each[:3] for each in person.groups] and "by hand" in next(
        each[3] for each in person.groups if each[1] == "OUTER"
    )
    demo.run(groups.members, OLDQUAY, "OLDQUAY/OUTER", [crew[1]], [crew[0]])
    previewed = demo.run(groups.preview, OLDQUAY, GroupTerms("OLDQUAY", "OUTER", "Outer", None, (crew[0],), 5))
    assert [each.username for each in previewed.come] == [crew[0]] and crew[1] in [
        each.username for each in previewed.leave
    ]
    stranger = next(name for name in found(demo) if name not in found(demo, OLDQUAY))
    refused: list[tuple[GroupTerms, str]] = [
        (GroupTerms("OLDQUAY", "CREW-ACTIVE", "Active crew", None, ("OUTER",), None), "cannot be inside itself"),
        (GroupTerms("OLDQUAY", "OUTER", "Outer", None, ("OUTER",), None), "cannot be inside itself"),
        (GroupTerms("OLDQUAY", "X", "X", 'shoe eq "9"', (), None), "At position 1"),
        (GroupTerms("OLDQUAY", "X", "X", None, (stranger,), None), "is not a person of Old Quay Ferries, nor a group"),
        (GroupTerms("TERN", "X", "X", None, (), None), "no account 'TERN'"),
        (GroupTerms("OLDQUAY", "X;Y", "X", None, (), None), "A group's code"),
        (GroupTerms("OLDQUAY", "X\n", "X", None, (), None), "A group's code"),
    ]
    for wanted, says in refused:
        with pytest.raises(Refused, match=re.escape(says)):
            demo.run(groups.put, OLDQUAY, wanted)
    with pytest.raises(Refused, match="is part of Outer"):
        demo.run(groups.forget, OLDQUAY, "OLDQUAY/CREW-ACTIVE")
    assert {row.account for row in demo.run(groups.groups, DEPARTMENT).rows} <= {"OLDQUAY-CREW"}, (
        "who runs a department sees none of the groups above"
    )
    codes = [row.group.code for row in demo.run(groups.groups, OLDQUAY).rows if row.account == "OLDQUAY"]
    demo.run(groups.order, OLDQUAY, "OLDQUAY", codes[::-1])
    assert [row.group.code for row in demo.run(groups.groups, OLDQUAY).rows if row.account == "OLDQUAY"] == codes[::-1]


def test_seats_are_given_as_far_as_they_go_and_the_others_are_told_why(demo: Database) -> None:
    """A whole client without a voice seat asks for one: as many get it as its limits let through."""
    asked = [*found(demo, account="OLDQUAY", without="DISPATCH"), "nobody.here"]
    did = act(demo, "assign", *asked, product="DISPATCH")
    assert (
        did.done and did.could_not and did.asked == len(asked) - 1 and len(did.done) + len(did.could_not) == len(asked)
    )
    assert sum(each.given for each in did.seats) == len(did.done) and all(
        each.left == 0 for each in did.seats if each.given < each.needed
    )
    reasons = {each.username: each.why for each in did.could_not}
    assert reasons["nobody.here"] == "is not here (any more)."
    assert any("No seat left" in why for why in reasons.values()) and any(
        "is suspended; resume them first." in why for why in reasons.values()
    )
    free = demo.run(lambda tx: positions_at(tx, [pools.product(tx, "DISPATCH")], tx.now))
    row_of, rooms = free.snapshot.accounts.tree.row, free.headroom.room[:, 0]
    assert all(each.left == max(0, rooms[row_of(each.account)]) for each in did.seats), "when all of it is done"
    again = act(demo, "assign", *did.done, product="DISPATCH")
    assert not again.done and all("has Fieldbook Dispatch already" in each.why for each in again.could_not), (
        "twice does nothing twice"
    )
    back = act(demo, "release", *did.done, product="DISPATCH")
    assert sorted(back.done) == sorted(did.done) and back.released == len(did.done)


def test_who_has_a_seat_set_aside_takes_none_of_the_others(demo: Database) -> None:
    people = found(demo, account="OLDQUAY-ENGINEERING-WORKSHOPS", without="FIELD-CORE", status="active")
    able = act(demo, "assign", *people, product="FIELD-CORE")
    free = able.seats[0].left
    assert free == 0 and 2 <= len(able.done) < able.seats[0].needed
    act(demo, "release", *able.done, product="FIELD-CORE")
    act(demo, "reserve", able.done[-1], product="FIELD-CORE")
    again = act(demo, "assign", *people, product="FIELD-CORE")
    assert len(again.done) == len(able.done) and able.done[-1] in again.done and again.seats[0].left == 0


def test_a_product_without_a_pool_is_given_to_nobody_with_the_reason(demo: Database) -> None:
    with demo.engine.begin() as connection:
        connection.execute(
            sa.text("INSERT INTO products (code, name, measure, unit) VALUES ('NOPOOL', 'No Pool', 'seat', 'seat')")
        )
        connection.execute(sa.text("UPDATE generations SET number = number + 1"))
    people = found(demo, account="MARROW-EQUINE", status="active")[:3]
    did = demo.run(acting.act, COMMAND_LINE, "assign", Asked(usernames=tuple(people)), ActOptions("NOPOOL"))
    assert did.done == [] and {each.why for each in did.could_not} == {
        "No seat left: Neither MARROW-EQUINE nor any account above it has a pool of No Pool."
    }


def test_a_swap_happens_at_once_or_not_at_all_for_each(demo: Database) -> None:
    with_core = found(demo, account="MARROW", product="FIELD-CORE")
    did = act(demo, "swap", *with_core, product="FIELD-CORE", to_product="FIELD-FULL")
    assert did.done and did.could_not and did.released == len(did.done), (
        "some fit; what was tried in vain counts for nothing"
    )
    for username in with_core:
        assert len({"FIELD-CORE", "FIELD-FULL"} & products(demo, username)) == 1, (
            "each has the one or the other, never both or none"
        )
    assert {each.username for each in did.could_not} == {
        each for each in with_core if "FIELD-CORE" in products(demo, each)
    }


def test_a_swap_carries_components_over_as_they_are_mapped_and_lists_what_does_not_fit(demo: Database) -> None:
    one, other = [name for name in found(demo, account="NORTHFOLD", product="FIELD-CORE") if not one_off(demo, name)][
        :2
    ]
    demo.run(listing.switch, COMMAND_LINE, one, "FIELD-CORE", "INSPECTIONS", False)
    assert one not in found(demo, component="FIELD-CORE/INSPECTIONS") and other in found(
        demo, component="FIELD-CORE/INSPECTIONS"
    )
    with pytest.raises(Refused, match="no component NONE"):
        found(demo, component="FIELD-CORE/NONE")
    did = act(
        demo,
        "swap",
        one,
        other,
        product="FIELD-CORE",
        to_product="FIELD-FULL",
        components={"INSPECTIONS": "MAPS", "TIMESHEETS": None},
    )
    assert did.done == [one, other] and did.lost == {"TIMESHEETS": 2}
    assert one_off(demo, one) == {"MAPS"}, "what was off is off in what it became" and one_off(demo, other) == set()
    with pytest.raises(Refused, match="no component NONE"):
        act(demo, "swap", one, product="FIELD-FULL", to_product="FIELD-CORE", components={"INSPECTIONS": "NONE"})
    back = act(demo, "swap", one, product="FIELD-FULL", to_product="FIELD-CORE")
    assert back.done == [one] and back.lost == {"SIGNATURES": 1}, "MAPS was off for them, and is lost to nobody"


def one_off(database: Database, username: str) -> set[str]:
    return {component for each in one(database, username).layers for component in each.off}


def test_a_seat_set_aside_is_nobody_elses_and_becomes_theirs(demo: Database) -> None:
    product = "LANTERN-MAIL"
    without = found(demo, account="OLDQUAY", without=product, status="active")
    room = act(demo, "assign", *without, product=product)
    full = [each.username for each in room.could_not if "No seat left" in each.why]
    act(demo, "release", room.done[0], product=product)
    kept, *others = full
    assert act(demo, "reserve", kept, product=product, who=OLDQUAY).done == [kept]
    assert products(demo, kept) == products(demo, kept) - {product} and [
        each.code for each in one(demo, kept).reservations
    ] == [product]
    assert "set aside already" in act(demo, "reserve", kept, product=product).could_not[0].why
    same_account = [each for each in others if one(demo, each).row.account == one(demo, kept).row.account]
    if same_account:
        assert act(demo, "assign", same_account[0], product=product).done == [], "the last seat is kept"
    assert [row[0].username for row in demo.run(listing.reserved_seats, OLDQUAY)] == [kept]
    assert act(demo, "assign", *same_account[:1], kept, product=product).done == [kept], (
        "who has one set aside gets it, wherever they stand"
    )
    assert one(demo, kept).reservations == [] and product in products(demo, kept)
    act(demo, "release", kept, product=product)
    act(demo, "reserve", kept, product=product)
    assert (
        act(demo, "cancel reservation", kept, product=product).released == 1
        and "no seat" in act(demo, "cancel reservation", kept, product=product).could_not[0].why
    )
    act(demo, "reserve", kept, product=product)
    act(demo, "remove", kept)
    assert demo.run(listing.reserved_seats, OLDQUAY) == []


def test_a_base_product_stays_where_an_add_on_needs_it(demo: Database) -> None:
    add_on, needs = next(
        (each.code, set(each.requires)) for each in demo.run(pools.products) if each.requires and each.is_personal
    )
    person = next(name for name in found(demo, product=add_on) if len(products(demo, name) & needs) == 1)
    base = next(iter(products(demo, person) & needs))
    assert "which needs" in act(demo, "release", person, product=base).could_not[0].why
    act(demo, "release", person, product=add_on)
    assert act(demo, "release", person, product=base).done == [person]


def test_who_is_suspended_removed_and_comes_back(demo: Database) -> None:
    person = next(
        name for name in found(demo, product="LANTERN-MAIL", status="active") if "FIELD-CORE" in products(demo, name)
    )
    had = products(demo, person)
    assert act(demo, "suspend", person).released == 0 and products(demo, person) == had, "keeps everything"
    act(demo, "resume", person)
    assert act(demo, "suspend", person, keep_seats=False).released == len(had) and products(demo, person) == set()
    assert act(demo, "suspend", person).could_not[0].why == "is suspended already."
    act(demo, "resume", person)
    assert products(demo, person) == had, "what was released comes back with them"
    act(demo, "remove", person)
    assert person not in found(demo) and person in found(demo, status="removed")
    assert (
        demo.run(acting.act, COMMAND_LINE, "restore", Asked(usernames=(person,))).done == [person]
        and products(demo, person) == set()
    )
    act(demo, "remove", person)
    demo.clock.shift += timedelta(days=31)
    assert (
        "more than 30 days ago"
        in demo.run(acting.act, COMMAND_LINE, "restore", Asked(usernames=(person,))).could_not[0].why
    )


def test_who_comes_back_together_gets_base_products_before_what_needs_them(demo: Database) -> None:
    two = found(demo, status="active", product="DISPATCH")
    had = {
        name: products(demo, name)
        for name in (
            next(each for each in two if base in products(demo, each)) for base in ("FIELD-CORE", "FIELD-FULL")
        )
    }
    act(demo, "suspend", *had, keep_seats=False)
    assert act(demo, "resume", *had).could_not == [] and {name: products(demo, name) for name in had} == had


def test_nobody_comes_back_where_they_cannot_be(demo: Database) -> None:
    one_there, other = found(demo, account="OLDQUAY-CREW", status="active")[:2]
    address = one(demo, one_there).row.person.email
    demo.run(acting.act, COMMAND_LINE, "remove", Asked(usernames=(one_there, other)))
    demo.run(joining.add, OLDQUAY, NewPerson("OLDQUAY-CREW", "Somebody Else", address, invite=False))
    assert (
        demo.run(acting.act, COMMAND_LINE, "restore", Asked(usernames=(one_there,))).could_not[0].why
        == "has the address that Somebody Else has by now."
    )
    demo.run(drafts.apply_changes, COMMAND_LINE, [StatusChange(account="OLDQUAY-CREW", status="closed")], "hand")
    assert (
        "is of Crew Office, which is closed."
        in demo.run(acting.act, COMMAND_LINE, "restore", Asked(usernames=(other,))).could_not[0].why
    )


def test_of_many_who_move_as_many_as_fit_and_others_are_not_tried_in_vain(demo: Database) -> None:
    """The whole ticket office to the island, where one seat of Lantern Mail is left, and then six more."""
    office = found(demo, account="OLDQUAY-TICKET")
    had = {name: products(demo, name) for name in office}
    for cap, fit, most in ((3, 1, 470), (9, 6, 570)):
        island = allocation(demo, "OLDQUAY-ISLAND", "LANTERN-MAIL", reserve=2, cap=cap)
        applied(demo, admin(demo, "OLDQUAY"), island)
        with statements.hearing() as heard:
            did = act(demo, "move", *office, to_account="OLDQUAY-ISLAND")
        assert (len(did.done), len(did.could_not)) == (fit, len(office) - fit)
        assert {each.why.split(" asked")[0] for each in did.could_not} <= {
            "1 seat of Lantern Mail",
            "1 seat of Fieldbook Dispatch",
            "zola.vane is suspended; resume them first.",
            "is of Island Pier already.",
        }
        assert len(heard) < most
        assert {name: products(demo, name) for name in office} == had, "whoever stays or moves keeps what they have"
    assert demo.run(assignments.verify, COMMAND_LINE) == []


def test_who_moves_is_counted_and_charged_there_from_then_on(demo: Database) -> None:
    person = next(name for name in found(demo, account="MARROW-EQUINE", product="LANTERN-MAIL"))
    had = products(demo, person)
    with pytest.raises(Refused, match="no account 'TERN'"):
        demo.run(
            acting.act, Actor("Vet", "", "MARROW"), "move", Asked(usernames=(person,)), ActOptions(to_account="TERN")
        )
    did = act(demo, "move", person, to_account="MARROW-NIGHT")
    assert did.done == [person] and products(demo, person) == had
    assert {each.account for each in one(demo, person).holdings} == {"MARROW-NIGHT"}
    assert {each.action for each in one(demo, person).history} >= {"moved here", "assigned"}


def mails(database: Database) -> list[Any]:
    with database.engine.connect() as connection:
        return list(connection.execute(sa.text("SELECT to_address, subject, body FROM outbox ORDER BY id")))


def test_who_is_invited_joins_once_and_in_time(demo: Database) -> None:
    username = demo.run(joining.add, OLDQUAY, NewPerson("OLDQUAY-CREW", "Séamus O'Dell", "Seamus@Quay.example"))
    assert username == "seamus.o.dell" and one(demo, username).row.person.status == "invited"
    address, subject, body = mails(demo)[-1]
    assert (address, subject) == ("seamus@quay.example", "Maren invites you to Crew Office")
    token = re.search(r"/join/(\S+)", body).group(1)  # type: ignore[union-attr]
    assert demo.run(joining.invitation, token).account == "Crew Office"
    act(demo, "invite", username)
    with pytest.raises(Refused, match="no longer valid"):
        demo.run(joining.accept, token)
    newest = re.search(r"/join/(\S+)", mails(demo)[-1].body).group(1)  # type: ignore[union-attr]
    demo.run(joining.accept, newest)
    assert one(demo, username).row.person.status == "active"
    with pytest.raises(Refused, match="accepted already"):
        demo.run(joining.accept, newest)
    other = demo.run(joining.add, OLDQUAY, NewPerson("OLDQUAY-CREW", "Séamus O'Dell", "other@quay.example"))
    assert other == "seamus.o.dell2"
    late = re.search(r"/join/(\S+)", mails(demo)[-1].body).group(1)  # type: ignore[union-attr]
    demo.clock.shift += timedelta(days=15)
    with pytest.raises(Refused, match="ended on"):
        demo.run(joining.accept, late)
    with pytest.raises(Refused, match="invitation does not exist"):
        demo.run(joining.accept, "guessed")
    act(demo, "invite", other)
    again = re.search(r"/join/(\S+)", mails(demo)[-1].body).group(1)  # type: ignore[union-attr]
    assert act(demo, "revoke invitation", other, username).could_not[0].why.startswith("is active")
    with pytest.raises(Refused, match="no longer valid"):
        demo.run(joining.accept, again)


def test_who_cannot_be_added_is_refused_with_the_reason(shared_demo: Database) -> None:
    there = one(shared_demo, found(shared_demo, OLDQUAY)[0]).row.person
    cases = [
        (NewPerson("TERN", "X", "x@x.example"), "no account 'TERN'"),
        (NewPerson("OLDQUAY", " ", "x@x.example"), "Everybody has a name"),
        (NewPerson("OLDQUAY", "X", "<script>@x.example"), "is no e-mail address"),
        (NewPerson("OLDQUAY", "X", None), "needs an e-mail address"),
        (NewPerson("OLDQUAY", "X", there.email.upper()), f"is {there.display_name} of"),
        (NewPerson("OLDQUAY", "X", "x@x.example", "a b"), "is no username"),
        (NewPerson("OLDQUAY", "X", "x@x.example", there.username), "is taken"),
    ]
    before = found(shared_demo)
    for new, says in cases:
        with pytest.raises(Refused, match=re.escape(says)):
            shared_demo.run(joining.add, OLDQUAY, new)
    assert found(shared_demo) == before


def test_a_department_is_named_with_its_client_to_who_sees_several(shared_demo: Database) -> None:
    asked = Asked(account="OLDQUAY-CREW")
    for actor, name in ((COMMAND_LINE, "Crew Office · Old Quay Ferries"), (OLDQUAY, "Crew Office")):
        people = shared_demo.run(listing.listing, actor, asked).rows
        stored = shared_demo.run(storage.holders, actor, "DEEPSHELF", "OLDQUAY-CREW", "people", "all", "size", "", 0, 9)
        assert {each.account_name for each in (*people, *stored.rows)} == {name} and stored.rows
