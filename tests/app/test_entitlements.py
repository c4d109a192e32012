"""Layers over people: rules give seats and take them back, who waits is served in order, and nothing happens twice."""

from __future__ import annotations

import re
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from typing import Any

import pytest
import sqlalchemy as sa

from fair_ladle.app.assignments import service as assignment_service
from fair_ladle.app.assignments import usecases as assignments
from fair_ladle.app.entitlements import of_person, reconciling
from fair_ladle.app.entitlements import usecases as entitlements
from fair_ladle.app.entitlements.reconciling import ReconcileResult
from fair_ladle.app.entitlements.usecases import EntitlementTerms
from fair_ladle.app.people_admin import acting, groups, listing
from fair_ladle.app.people_admin.groups import GroupTerms
from fair_ladle.app.people_admin.listing import Asked
from fair_ladle.app.people_admin.seat_acts import ActOptions
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import LOCK_WAIT, Database, code_of
from fair_ladle.app.plumbing.problems import Refused
from tests.app.test_people import found, products
from tests.conftest import everything_locked

OLDQUAY = Actor("Maren", "", "OLDQUAY")
LEADS = EntitlementTerms("OLDQUAY", "OLDQUAY-LEADS", "LANTERN-MAIL", ())


@pytest.fixture(autouse=True)
def everything_agrees(demo: Database) -> Iterator[None]:
    """Whatever was given and taken, the counters say so in the end."""
    yield
    assert demo.run(assignments.verify, COMMAND_LINE) == []


def give(database: Database, wanted: EntitlementTerms, who: Actor = OLDQUAY) -> ReconcileResult:
    """Looked at first, then done: both say the same, and a second time does nothing."""
    with everything_locked(database):
        would = database.try_out(entitlements.put, who, wanted)
    did = database.run(entitlements.put, who, wanted)
    assert (would.granted, would.taken, would.waiting) == (did.granted, did.taken, did.waiting)
    again = database.run(reconciling.reconcile)
    assert not again.granted and not again.taken and sorted(again.waiting) == sorted(did.waiting), (
        "twice does nothing twice"
    )
    return did


def in_group(database: Database, code: str) -> set[str]:
    return {
        name
        for name in found(database, OLDQUAY, group=f"OLDQUAY/{code}")
        if database.run(listing.person, OLDQUAY, name).row.person.status != "suspended"
    }


def waiting(database: Database) -> list[str]:
    return [each.username for each in database.run(entitlements.queue, OLDQUAY).rows]


def test_a_group_gives_a_product_and_takes_it_back_from_who_leaves_it(demo: Database) -> None:
    leads = in_group(demo, "OLDQUAY-LEADS")
    had = {name for name in leads if "LANTERN-MAIL" in products(demo, name)}
    did = give(demo, LEADS)
    assert {name for _, name, _ in did.granted} | {name for name, _, _ in did.waiting} == leads - had, (
        "who has one keeps that one"
    )
    newest = next(name for _, name, _ in did.granted)
    assert (
        demo.run(acting.act, OLDQUAY, "release", Asked(usernames=(newest,)), ActOptions("LANTERN-MAIL"))
        .could_not[0]
        .why.startswith("has Lantern Mail by an entitlement")
    )
    narrower = GroupTerms(
        "OLDQUAY",
        "OLDQUAY-LEADS",
        "Leads",
        f'userName ne "{newest}" and (title eq "Manager" or title eq "Director")',
        (),
        20,
    )
    result = demo.run(groups.put, OLDQUAY, narrower)
    assert result.taken == [(newest, "LANTERN-MAIL")] and "LANTERN-MAIL" not in products(demo, newest)
    with pytest.raises(Refused, match="gives Lantern Mail; take that away first"):
        demo.run(groups.forget, OLDQUAY, "OLDQUAY/OLDQUAY-LEADS")
    gone = demo.run(entitlements.forget, OLDQUAY, LEADS)
    assert {name for name, _ in gone.taken} == {name for _, name, _ in did.granted} - {newest}
    assert {name for name in leads if "LANTERN-MAIL" in products(demo, name)} == had and waiting(demo) == []


def test_who_gets_no_seat_waits_by_priority_and_is_served_when_one_comes_free(demo: Database) -> None:
    """Everybody of Old Quay shall have mail; there are too few seats for all. Leads go first."""
    everybody = give(demo, EntitlementTerms("OLDQUAY", None, "LANTERN-MAIL", (), 500))
    short = [name for name, _, _ in everybody.waiting]
    if not short:
        with demo.transaction() as tx:
            left = assignment_service.room(
                tx,
                COMMAND_LINE,
                "OLDQUAY",
                next(each for each in entitlements.pools_service.products(tx) if each.code == "LANTERN-MAIL"),
            )
        assert left.real == 0, "nobody waits while there is room"
    assert waiting(demo) and set(waiting(demo)) == set(short)
    give(demo, EntitlementTerms("OLDQUAY", "OLDQUAY-LEADS", "LANTERN-MAIL", (), 1))
    leads = in_group(demo, "OLDQUAY-LEADS")
    order = waiting(demo)
    assert [name in leads for name in order] == sorted((name in leads for name in order), reverse=True), (
        "leads stand first"
    )
    whole = demo.run(entitlements.queue, OLDQUAY)
    for offset in range(0, whole.total, 7):
        part = demo.run(entitlements.queue, OLDQUAY, None, offset, 7)
        assert (part.total, part.rows) == (whole.total, whole.rows[offset : offset + 7]), "places too"
    of_mail = [each for each in whole.rows if each.product.code == "LANTERN-MAIL"]
    assert [each.place for each in of_mail if not each.why] == [*range(1, 1 + sum(not each.why for each in of_mail))]
    assert demo.run(entitlements.queue, OLDQUAY, "LANTERN-MAIL", 0, 1).total == len(of_mail)
    reasons = {name: why for name, _, why in demo.run(reconciling.reconcile).waiting}
    first = next(name for name in order if "cap of" in reasons[name] or "supply" in reasons[name])
    account = demo.run(listing.person, COMMAND_LINE, first).row.account
    free = next(name for name in found(demo, account=account, product="LANTERN-MAIL") if name not in leads)
    demo.run(acting.act, COMMAND_LINE, "remove", Asked(usernames=(free,)))
    served = [name for _, name, _ in demo.run(reconciling.reconcile).granted]
    assert served == [first], "the seat that came free goes to who stands first, by itself"
    assert demo.run(assignments.verify, COMMAND_LINE) == []


def test_of_a_family_the_highest_is_theirs_and_a_lower_one_only_until_it_has_room(demo: Database) -> None:
    """Core is given to the leads and some have it by hand; then Full, which there is too little of."""
    leads = in_group(demo, "OLDQUAY-LEADS")
    by_hand = next(name for name in sorted(leads) if not products(demo, name) & {"FIELD-CORE", "FIELD-FULL"})
    demo.run(acting.act, OLDQUAY, "assign", Asked(usernames=(by_hand,)), ActOptions("FIELD-CORE"))
    give(demo, replace(LEADS, product="FIELD-CORE"))
    better = {name for name in leads if "FIELD-FULL" in products(demo, name)}
    assert not better & set(waiting(demo)), "who has a better one waits for nothing"
    core = {name for name in leads if "FIELD-CORE" in products(demo, name)}
    assert by_hand in core and core | better | set(waiting(demo)) == leads
    did = give(demo, replace(LEADS, product="FIELD-FULL", priority=50))
    swapped = {name for _, name, code in did.granted if code == "FIELD-FULL"}
    assert {name for name, code in did.taken if code == "FIELD-CORE"} == swapped & core, "given and taken in one"
    assert {name for name, code, _ in did.waiting if code == "FIELD-FULL"} == leads - better - swapped
    assert all("FIELD-CORE" in products(demo, name) for name in core - swapped), "kept while the higher has no room"
    assert all("family" not in why for _, _, why in did.waiting)
    gone = demo.run(entitlements.forget, OLDQUAY, replace(LEADS, product="FIELD-FULL"))
    kept = swapped - {name for name, code in gone.taken if code == "FIELD-FULL"}
    assert kept <= {name for name, code, _ in gone.waiting if code == "FIELD-CORE"}, "kept until theirs has room again"
    demo.run(entitlements.forget, OLDQUAY, replace(LEADS, product="FIELD-CORE"))
    left = {name for name in leads if "FIELD-CORE" in products(demo, name)}
    assert by_hand in left, "what was given by hand lasts until it is taken back by hand"
    assert not set(waiting(demo)) - {by_hand} and demo.run(assignments.verify, COMMAND_LINE) == []


def test_who_keeps_what_no_layer_gives_any_more_keeps_its_components(demo: Database) -> None:
    """Leads have Core with meetings, and wait for Full, of which there is too little; then no layer gives Core."""
    named = replace(LEADS, product="FIELD-CORE", on=("INSPECTIONS",))
    before = {name for name in in_group(demo, "OLDQUAY-LEADS") if "FIELD-CORE" in products(demo, name)}
    give(demo, named)
    give(demo, replace(LEADS, product="FIELD-FULL", priority=50))
    demo.run(entitlements.forget, OLDQUAY, named)
    kept = [
        name
        for name in sorted(in_group(demo, "OLDQUAY-LEADS") - before)
        if "FIELD-CORE" in products(demo, name) and name in waiting(demo)
    ]
    assert kept, "somebody keeps it while the higher one has no room"
    for name in kept:
        with demo.transaction() as tx:
            row = listing.found_in_scope(tx, OLDQUAY, name)[1]
            core = next(each for each in of_person.layers_of(tx, OLDQUAY, row) if each.product.code == "FIELD-CORE")
        assert (core.on, core.reaches, core.direct) == (["JOBS", "ROUTES", "INSPECTIONS"], False, False)
    for component, has in (("INSPECTIONS", True), ("TIMESHEETS", False)):
        listed = found(demo, OLDQUAY, component=f"FIELD-CORE/{component}")
        assert [name in listed for name in kept] == [has] * len(kept)
    with demo.engine.begin() as connection:  # a seat from before components were noted
        connection.execute(sa.text("UPDATE rule_seats SET components = NULL"))
    with demo.transaction() as tx:
        row = listing.found_in_scope(tx, OLDQUAY, kept[0])[1]
        core = next(each for each in of_person.layers_of(tx, OLDQUAY, row) if each.product.code == "FIELD-CORE")
    assert core.on == list(core.product.components)
    assert kept[0] in found(demo, OLDQUAY, component="FIELD-CORE/TIMESHEETS")


def test_layers_laid_out_by_many_at_once_give_each_one_seat(demo: Database) -> None:
    wanted = [replace(LEADS, product=product) for product in ("LANTERN-MAIL", "FIELD-FULL", "DISPATCH")] + [
        replace(LEADS, group=None, priority=300)
    ]

    def patiently(*work: Any) -> None:
        """Whoever waits too long for the others, on a slow machine, asks again."""
        while True:
            try:
                demo.run(*work)
                return
            except sa.exc.OperationalError as trouble:
                if code_of(trouble) != LOCK_WAIT:
                    raise

    with ThreadPoolExecutor(6) as pool:
        for done in [pool.submit(patiently, entitlements.put, OLDQUAY, each) for each in wanted] + [
            pool.submit(patiently, reconciling.reconcile) for _ in range(4)
        ]:
            done.result()
    again = demo.run(reconciling.reconcile)
    assert not again.granted and not again.taken and demo.run(assignments.verify, COMMAND_LINE) == []
    with demo.engine.connect() as connection:
        twice = connection.execute(
            sa.text(
                "SELECT subject, product_id FROM assignments a JOIN products p ON p.id = a.product_id AND p.measure = "
                "'seat' WHERE begins <= NOW() AND (ends IS NULL OR ends > NOW() + INTERVAL 1 DAY) GROUP BY "
                "subject, product_id HAVING COUNT(*) > 1"
            )
        ).all()
    assert twice == [], "one seat a person and product"


def test_components_come_by_any_layer_and_a_direct_switch_turns_one_off(demo: Database) -> None:
    person = next(
        iter(
            in_group(demo, "OLDQUAY-LEADS")
            & set(found(demo, OLDQUAY, without="FIELD-FULL"))
            & set(found(demo, OLDQUAY, without="FIELD-CORE"))
        ),
        None,
    )
    person = person or next(iter(in_group(demo, "OLDQUAY-LEADS")))
    give(demo, EntitlementTerms("OLDQUAY", None, "FIELD-CORE", ("JOBS",), 500))
    give(demo, EntitlementTerms("OLDQUAY", "OLDQUAY-LEADS", "FIELD-CORE", ("INSPECTIONS", "TIMESHEETS"), 10))

    def core() -> of_person.PersonLayers:
        with demo.transaction() as tx:
            return next(
                each
                for each in of_person.layers_of(tx, OLDQUAY, listing.found_in_scope(tx, OLDQUAY, person)[1])
                if each.product.code == "FIELD-CORE"
            )

    assert core().on == ["JOBS", "ROUTES", "INSPECTIONS", "TIMESHEETS"] and {each.layer for each in core().cells} == {
        "everybody of Old Quay Ferries",
        "Leads",
    }

    def switch(component: str, on: bool) -> None:
        with demo.transaction() as tx:
            of_person.switch(tx, OLDQUAY, listing.found_in_scope(tx, OLDQUAY, person)[1], "FIELD-CORE", component, on)

    switch("TIMESHEETS", False)
    assert core().on == ["JOBS", "ROUTES", "INSPECTIONS"] and core().off == ["TIMESHEETS"]
    switch("TIMESHEETS", True)
    assert core().on == ["JOBS", "ROUTES", "INSPECTIONS", "TIMESHEETS"]
    for component, says in (("JOBS", "always on"), ("SAILS", "has no component SAILS")):
        with pytest.raises(Refused, match=says):
            switch(component, False)


def test_a_component_is_barred_for_a_branch_or_a_group_and_the_list_agrees(demo: Database) -> None:
    """An account's bar holds whatever is switched, a group's gives way to a switch; the list filters by the same."""
    leads = sorted(in_group(demo, "OLDQUAY-LEADS"))
    give(demo, EntitlementTerms("OLDQUAY", None, "FIELD-CORE", ()))

    def on(username: str) -> list[str]:
        with demo.transaction() as tx:
            row = listing.found_in_scope(tx, OLDQUAY, username)[1]
            layers = of_person.layers_of(tx, OLDQUAY, row)
            return next((each.on for each in layers if each.product.code == "FIELD-CORE"), [])

    def switch(username: str, component: str, to: bool) -> None:
        with demo.transaction() as tx:
            row = listing.found_in_scope(tx, OLDQUAY, username)[1]
            of_person.switch(tx, OLDQUAY, row, "FIELD-CORE", component, to)

    def agrees() -> None:
        having = {each: on(each) for each in found(demo, OLDQUAY, product="FIELD-CORE")}
        for component in ("JOBS", "INSPECTIONS", "TIMESHEETS"):
            listed = set(found(demo, OLDQUAY, component=f"FIELD-CORE/{component}"))
            assert listed == {each for each, those in having.items() if component in those}, component

    bar = ("OLDQUAY", "OLDQUAY-LEADS", "FIELD-CORE", "TIMESHEETS")
    person = next(each for each in leads if "TIMESHEETS" in on(each))
    agrees()
    demo.run(entitlements.bar, OLDQUAY, *bar, True)
    assert "TIMESHEETS" not in on(person)
    agrees()
    switch(person, "TIMESHEETS", True)
    assert "TIMESHEETS" in on(person), "switched for the person, it is on"
    agrees()
    demo.run(entitlements.bar, COMMAND_LINE, "GANNET", None, "FIELD-CORE", "TIMESHEETS", True)
    assert "TIMESHEETS" not in on(person) and demo.run(entitlements.bars, OLDQUAY)[0][0] == "OLDQUAY"
    agrees()
    with pytest.raises(Refused, match="is barred for their account"):
        switch(person, "TIMESHEETS", True)
    with pytest.raises(Refused, match="cannot be barred"):
        demo.run(entitlements.bar, OLDQUAY, "OLDQUAY", None, "FIELD-CORE", "JOBS", True)
    demo.run(entitlements.bar, COMMAND_LINE, "GANNET", None, "FIELD-CORE", "TIMESHEETS", False)
    demo.run(entitlements.bar, OLDQUAY, *bar, False)
    switch(person, "TIMESHEETS", False)
    assert "TIMESHEETS" not in on(person) and demo.run(entitlements.bars, OLDQUAY) == []
    agrees()


def test_what_no_layer_can_give_is_refused(demo: Database) -> None:
    cases: list[tuple[Actor, EntitlementTerms, str]] = [
        (OLDQUAY, EntitlementTerms("TERN", None, "LANTERN-MAIL", ()), "no account 'TERN'"),
        (OLDQUAY, EntitlementTerms("OLDQUAY", "NONE", "LANTERN-MAIL", ()), "no group 'NONE'"),
        (OLDQUAY, EntitlementTerms("OLDQUAY", None, "DEEPSHELF", ()), "is no product that people have seats of"),
        (OLDQUAY, EntitlementTerms("OLDQUAY", None, "FIELD-CORE", ("SAILS",)), "has no component SAILS"),
        (OLDQUAY, EntitlementTerms("OLDQUAY", None, "LANTERN-MAIL", (), 0), "A priority from 1"),
    ]
    for who, wanted, says in cases:
        with pytest.raises(Refused, match=re.escape(says)):
            demo.run(entitlements.put, who, wanted)
    with pytest.raises(Refused, match="no entitlement to"):
        demo.run(entitlements.forget, OLDQUAY, LEADS)
    above: list[Any] = demo.run(entitlements.entitlements, OLDQUAY)
    give(demo, EntitlementTerms("GANNET", None, "LANTERN-MAIL", ()), COMMAND_LINE)
    assert demo.run(entitlements.entitlements, OLDQUAY) == above, (
        "what the provider gives to everybody is not the client's to see"
    )
