"""How far a delegation goes beside its role: what is above it is refused everywhere, and asked for instead."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest
import sqlalchemy as sa

from fair_ladle.app.assignments import places
from fair_ladle.app.assignments import service as assignment_service
from fair_ladle.app.assignments import usecases as assignments
from fair_ladle.app.assignments.eligibility import Wanted
from fair_ladle.app.drafts import usecases as drafts
from fair_ladle.app.drafts.change_types import NewAccount, RateChange, TierTerms, UnitsChange
from fair_ladle.app.drafts.preview import preview
from fair_ladle.app.enforcement import usecases as enforcement
from fair_ladle.app.entitlements import usecases as entitlements
from fair_ladle.app.entitlements.usecases import EntitlementTerms
from fair_ladle.app.people_admin import groups, joining
from fair_ladle.app.people_admin.groups import GroupTerms
from fair_ladle.app.people_admin.joining import NewPerson
from fair_ladle.app.people_admin.listing import Asked, listing
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.limits import FREE, Ceiling, Limits, limits_of
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.sign_in import delegating, history
from fair_ladle.app.sign_in.delegating import Terms as DelegationTerms
from fair_ladle.app.sign_in.delegating import Wanted as WantedDelegation
from tests import statements
from tests.app.test_assignments import small
from tests.app.test_delegations import delegation_of, given
from tests.app.test_drafts import allocation, lot


def box(*subjects: str, account: str = "C0-A") -> list[Wanted]:
    return [Wanted(account, "BOX", subject) for subject in subjects]


def names(count: int, letter: str = "a") -> list[str]:
    return [f"{letter}{number}" for number in range(count)]


def limited(database: Database, account: str = "C0", **limits: Any) -> Actor:
    return given(database, COMMAND_LINE, account, limits=Limits(**limits))


def test_seats_are_given_up_to_the_ceilings_of_a_delegation(database: Database, tmp_path: Path) -> None:
    small(database, tmp_path / "in")
    who = limited(database, ceilings={"BOX": Ceiling(in_all=8, at_once=3)})
    with pytest.raises(Refused, match="at most 3 devices of Box in one change; here are 4 devices") as refused:
        database.run(assignments.assign, who, box(*names(4)))
    assert refused.value.problem.kind == "above-ceiling"
    assert refused.value.problem.more["ask"] == [
        {"kind": "units", "account": "C0-A", "product": "BOX", "subjects": names(4), "give": True}
    ]
    database.run(assignments.assign, who, box(*names(3)))
    # C0 holds its own 10 of reserve in no way: its load is what A's reserve of 5 or its use comes to.
    database.run(assignments.assign, who, box(*names(3, "b")))
    database.run(assignments.assign, who, box("c0", "c1"))
    with pytest.raises(Refused, match="as long as 8 devices of Box are held here; with this there were 9 devices"):
        database.run(assignments.assign, who, box("c2"))
    database.run(assignments.assign, COMMAND_LINE, box("c2"))
    database.run(assignments.release, who, box("c2"))
    assert database.run(assignments.verify, COMMAND_LINE) == []


def test_each_pool_has_its_ceiling_on_every_way_to_give(demo: Database) -> None:
    """Old Quay gets a pool of Lantern Mail of its own, below the top of what the delegation is for."""
    admin = given(demo, COMMAND_LINE, "GANNET")
    applied(demo, admin, lot("LANTERN-MAIL", 500, owner="OLDQUAY"))
    office = Asked(account="OLDQUAY-TICKET", product="LANTERN-MAIL", status="active")
    free = [each.person.username for each in demo.run(listing, COMMAND_LINE, office, "username", False, 0, 2).rows]
    demo.run(assignments.release, admin, [Wanted("OLDQUAY-TICKET", "LANTERN-MAIL", name) for name in free])
    with demo.engine.connect() as connection:
        load = connection.scalar(
            sa.text(
                "SELECT c.load FROM counters c JOIN pools p ON p.id = c.pool_id JOIN products d ON d.id = p.product_id "
                "JOIN accounts a ON a.id = p.owner_id AND a.id = c.account_id WHERE a.code = 'OLDQUAY' AND "
                "d.code = 'LANTERN-MAIL'"
            )
        )

    def limited_to(in_all: int | None, at_once: int | None) -> Actor:
        pools = {("OLDQUAY", "LANTERN-MAIL"): Ceiling(in_all, at_once)}
        return limited(demo, "GANNET", ceilings={"LANTERN-MAIL": Ceiling(0, 0)}, pools=pools)

    def seats(count: int) -> list[Wanted]:
        return [Wanted("OLDQUAY-TICKET", "LANTERN-MAIL", name) for name in free[:count]]

    def units(count: int) -> UnitsChange:
        return UnitsChange(account="OLDQUAY-TICKET", product="LANTERN-MAIL", subjects=tuple(free[:count]), give=True)

    layer = EntitlementTerms("OLDQUAY", "OLDQUAY-LEADS", "LANTERN-MAIL", ())
    for who, says, count in ((limited_to(None, 1), "at most 1 seat", 2), (limited_to(load, None), "as long as", 1)):
        for way in (
            lambda who, count: demo.run(assignments.assign, who, seats(count)),
            lambda who, count: applied(demo, who, units(count)),
            lambda who, count: demo.run(entitlements.put, who, layer),
        ):
            with pytest.raises(Refused, match=says) as refused:
                way(who, count)
            assert refused.value.problem.kind == "above-ceiling"
    demo.run(assignments.assign, limited_to(load + 1, 1), seats(1))
    assert demo.run(assignments.verify, COMMAND_LINE) == []


def test_whoever_has_no_ceiling_costs_nothing_to_judge(demo: Database) -> None:
    """However many are given something, in however many accounts."""
    whom = [(account, "x") for account in ("OLDQUAY-CREW", "OLDQUAY-ISLAND", "MARROW-NIGHT")]
    free = given(demo, COMMAND_LINE, "GANNET")
    with demo.transaction() as tx:
        product = pools_service.product(tx, "LANTERN-MAIL")
        places.directory(tx).places.clear()
        with statements.hearing() as heard:
            assignment_service.judge_whole(tx, free, product, whom)
    assert heard == []


def test_a_product_that_is_not_theirs_is_given_by_no_way(database: Database, tmp_path: Path) -> None:
    small(database, tmp_path / "in")
    who = limited(database, products=frozenset())
    for way in (
        lambda: database.run(assignments.assign, who, box("x")),
        lambda: applied(database, who, allocation(database, "C0-A", "BOX", reserve=6, cap=12)),
        lambda: applied(database, who, UnitsChange(account="C0-A", product="BOX", subjects=("x",), give=True)),
    ):
        with pytest.raises(Refused, match="does not let you give Box"):
            way()
    applied(database, who, allocation(database, "C0-A", "BOX", reserve=4, cap=11))


def applied(database: Database, who: Actor, *changes: Any) -> None:
    draft = database.run(drafts.edit, who, None, 0, changes)
    try:
        database.run(drafts.apply, who, draft.row.id, draft.row.revision)
    except Refused:
        database.run(drafts.discard, who, draft.row.id)
        raise


NEW = NewAccount(code="NEWQUAY", parent="GANNET", account_kind="client", name="New Quay")
RATE = RateChange(
    seller="GANNET",
    buyer="NEWQUAY",
    product="FIELD-CORE",
    first_day="2026-12-01",
    basis="used",
    aggregate="average",
    tier_mode="graduated",
    tiers=(TierTerms(from_quantity=0, unit_price=1),),
)


def test_drafts_keep_to_the_limits_of_who_applies_them(demo: Database) -> None:
    who = limited(demo, "GANNET", ceilings={"FIELD-CORE": Ceiling(at_once=4)}, prices=False)
    no_caps = limited(demo, "GANNET", caps=False, rules=False)
    with demo.transaction() as tx:
        looked = preview(tx, who, [NEW, RATE])
    assert looked.above is not None and "change prices" in looked.above.detail
    for by, change, says in (
        (who, (NEW, RATE), "does not let you change prices"),
        (
            who,
            allocation(demo, "OLDQUAY", "FIELD-CORE", reserve=22, cap=28),
            "at most 4 seats .* this gives 5 seats more",
        ),
        (who, allocation(demo, "OLDQUAY", "FIELD-CORE", reserve=22, cap=None), "this gives no cap"),
        (no_caps, allocation(demo, "OLDQUAY", "FIELD-CORE", reserve=22, cap=22, at_cap="grace"), "change caps"),
    ):
        with pytest.raises(Refused, match=says):
            applied(demo, by, *(change if isinstance(change, tuple) else (change,)))
    with pytest.raises(Refused, match="change rules"):
        demo.run(enforcement.set_levels, no_caps, "OLDQUAY", "FIELD-CORE", [50])
    applied(demo, who, allocation(demo, "OLDQUAY", "FIELD-CORE", reserve=22, cap=25, at_cap="grace", grace_days=14))


def test_what_is_above_a_ceiling_is_asked_for_and_done_by_who_may(database: Database, tmp_path: Path) -> None:
    """Asked of who runs the account without limits; with nobody there, of who runs the account above."""
    small(database, tmp_path / "in")
    above = given(database, COMMAND_LINE, "MSP")
    who = limited(database, ceilings={"BOX": Ceiling(at_once=1)})
    wanted = [UnitsChange(account="C0-A", product="BOX", subjects=("x", "y"), give=True)]
    with pytest.raises(Refused, match="Give a reason"):
        database.run(drafts.ask_for, who, "Two boxes", wanted, " ")
    draft = database.run(drafts.ask_for, who, "Two boxes", wanted, "New desks")
    assert (draft.row.state, draft.shared_with) == ("asked", []), "who is above is told to nobody below"
    assert database.run(drafts.get, above, draft.row.id).row.id == draft.row.id
    with pytest.raises(Refused, match="in one change"):
        database.run(drafts.apply, who, draft.row.id, draft.row.revision)
    declined = database.run(drafts.decline, above, draft.row.id, "Not this month")
    assert (declined.row.state, declined.row.reason) == ("held", "Msp: Not this month")
    with pytest.raises(Refused, match="There is no draft"):
        database.run(drafts.get, above, draft.row.id)
    database.run(drafts.ask, who, draft.row.id, draft.row.revision, "They are here")
    with pytest.raises(Refused, match="for who asked"):
        database.run(drafts.open_again, above, draft.row.id)
    beside = limited(database, "C1")
    with pytest.raises(Refused, match="There is no draft"):
        database.run(drafts.apply, beside, draft.row.id, draft.row.revision)
    database.run(drafts.apply, above, draft.row.id, draft.row.revision)
    with pytest.raises(Refused, match="in one change"):
        database.run(assignments.assign, who, box("p", "q"))
    colleague = given(database, COMMAND_LINE, "C0")
    again = database.run(drafts.ask_for, who, "Two more", wanted, "More desks")
    assert database.run(drafts.get, colleague, again.row.id).row.state == "asked"
    with database.engine.connect() as connection:
        mails = connection.execute(sa.text("SELECT to_address, subject FROM outbox ORDER BY id")).all()
    asked = [each for each in mails if "asks you to apply" in each.subject or "declined" in each.subject]
    assert [each.to_address for each in asked] == [above.email, who.email, above.email, colleague.email]


def test_nobody_passes_on_more_than_their_limits(demo: Database) -> None:
    own = Limits(
        products=frozenset({"FIELD-CORE", "DISPATCH"}),
        ceilings={"FIELD-CORE": Ceiling(10, 5)},
        roles=frozenset({"desk", "admin"}),
        prices=False,
    )
    boss = given(demo, COMMAND_LINE, "OLDQUAY", passes_on=True, limits=own)
    inside = own.kept()
    assert inside is not None and limits_of(inside) == own
    wider: list[tuple[str, Limits, str]] = [
        ("admin", FREE, "which products"),
        ("admin", limits_of({**inside, "ceilings": {}}), "how much of FIELD-CORE"),
        ("admin", limits_of({**inside, "ceilings": {"FIELD-CORE": [10, 6]}}), "how much of FIELD-CORE"),
        ("admin", limits_of({**inside, "pools": [["OLDQUAY-CREW", "FIELD-CORE", 10, 6]]}), "how much of FIELD-CORE"),
        ("admin", limits_of({**inside, "pools": [["OLDQUAY-CREW", "FIELD-CORE", 9, 5]]}), "has no pool of Fieldbook"),
        ("admin", limits_of({**inside, "pools": [["MARROW", "FIELD-CORE", 9, 5]]}), "no account"),
        ("admin", limits_of({**inside, "prices": True}), "changing prices"),
        ("steward", own, "does not let you give the role"),
        ("admin", limits_of({**inside, "products": ["WATCHGLASS"]}), "which products"),
        ("admin", limits_of({**inside, "ceilings": {"FIELD-CORE": [-1, 5]}}), "0 or more"),
        ("admin", limits_of({**inside, "groups": ["OLDQUAY/no-such"]}), "no group"),
    ]
    for role, limits, says in wider:
        with pytest.raises(Refused, match=says):
            demo.run(delegating.give, boss, WantedDelegation("n@x.example", "N", "OLDQUAY-CREW", role, limits=limits))
    narrower = limits_of({**inside, "ceilings": {"FIELD-CORE": [3, 1]}, "products": ["FIELD-CORE"]})
    below = given(demo, boss, "OLDQUAY-CREW", passes_on=True, limits=narrower)
    with pytest.raises(Refused, match="is not available here"):
        demo.run(delegating.give, below, WantedDelegation(boss.email, "B", "OLDQUAY-CREW", "desk", limits=narrower))
    peer = given(demo, boss, "OLDQUAY", passes_on=True, limits=narrower)
    with pytest.raises(Refused, match="has more permissions than yours"):
        demo.run(delegating.end, peer, delegation_of(demo, boss))
    with pytest.raises(Refused, match="does not go that far: .*how much of FIELD-CORE"):
        demo.run(delegating.change, peer, delegation_of(demo, below), DelegationTerms("desk", None, None, False, own))


def test_a_ceiling_of_a_pool_above_is_passed_on_with_what_takes_from_it(demo: Database) -> None:
    """Old Quay owns the pool of Chartroom that its departments take from: neither has more of it than who gave it."""
    own = Limits(ceilings={"CHARTROOM": Ceiling(9, 9)}, pools={("OLDQUAY", "CHARTROOM"): Ceiling(2, 1)})
    boss = given(demo, COMMAND_LINE, "OLDQUAY", passes_on=True, limits=own)
    wanted = WantedDelegation("n@x.example", "N", "OLDQUAY-CREW", "admin")
    for limits in (FREE, Limits(ceilings={"CHARTROOM": Ceiling(9, 9)}), Limits(ceilings={"CHARTROOM": Ceiling(2, 2)})):
        with pytest.raises(Refused, match="does not go that far: how much of CHARTROOM"):
            demo.run(delegating.give, boss, replace(wanted, limits=limits))
    demo.run(delegating.give, boss, replace(wanted, limits=Limits(ceilings={"CHARTROOM": Ceiling(2, 1)})))
    demo.run(joining.add, boss, NewPerson("OLDQUAY-CREW", "Other", "o@x.example", "o", role="admin"))
    with demo.transaction() as tx:
        [kept] = [each.limits for each in delegating.overview(tx, boss, "o@x.example").rows]
    assert limits_of(kept) == Limits(ceilings={"CHARTROOM": Ceiling(2, 1)}), "and whoever is added gets the same"


def test_groups_are_changed_by_whom_they_are_for(demo: Database) -> None:
    every = demo.run(lambda tx: groups.groups(tx, COMMAND_LINE)).rows
    mine = next(each for each in every if each.account != "GANNET" and each.group.source == "here")
    name = f"{mine.account}/{mine.group.code}"
    who = limited(demo, "GANNET", groups=frozenset({name}))
    wanted = GroupTerms(mine.account, mine.group.code, "Other name", mine.group.rule, mine.group.members, None)
    demo.run(groups.put, who, wanted)
    with pytest.raises(Refused, match="not for that group"):
        demo.run(groups.put, who, GroupTerms(mine.account, "new", "New", None, (), None))


def test_several_accounts_are_given_at_once_and_told_once(demo: Database) -> None:
    wanted = WantedDelegation("several@x.example", "Several", "", "desk")
    ids = demo.run(delegating.give_all, COMMAND_LINE, wanted, ["OLDQUAY", "TERN", "OLDQUAY"])
    assert len(ids) == 2
    with demo.engine.connect() as connection:
        told = (
            connection.execute(sa.text("SELECT subject FROM outbox WHERE to_address = 'several@x.example'"))
            .scalars()
            .all()
        )
    assert told == ["You run Old Quay Ferries and 1 more"]
    with pytest.raises(Refused, match="From 1 to 50"):
        demo.run(delegating.give_all, COMMAND_LINE, wanted, [f"X{n}" for n in range(51)])
    with pytest.raises(Refused, match="already"):
        demo.run(delegating.give_all, COMMAND_LINE, wanted, ["OLDQUAY-CREW", "OLDQUAY"])
    assert [each.account for each in past(demo, "several@x.example")] == ["OLDQUAY", "TERN"]


def past(database: Database, email: str, days_ago: int = 0) -> list[history.Could]:
    day = database.clock.now().date() - timedelta(days_ago)
    with database.transaction() as tx:
        return [each for each in history.on_day(tx, COMMAND_LINE, day) if each.email == email]
