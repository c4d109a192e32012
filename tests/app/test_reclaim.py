"""Taking back what is idle: told first, nobody sheltered is touched, twice does nothing twice, and a run can be
undone."""

from __future__ import annotations

import re
from collections import Counter
from dataclasses import replace
from datetime import timedelta
from typing import Any

import pytest

from fair_ladle.app.assignments import usecases as assignments
from fair_ladle.app.entitlements import usecases as entitlements
from fair_ladle.app.entitlements.usecases import EntitlementTerms
from fair_ladle.app.people_admin import acting, groups, listing
from fair_ladle.app.people_admin.listing import Asked
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.reclaim import answers, idle_seats
from fair_ladle.app.reclaim import usecases as reclaim
from fair_ladle.app.reclaim.usecases import Policy, Run
from fair_ladle.jobs import ReclaimIdle
from tests.app.test_people import found, mails
from tests.conftest import actor_of, do_job, everything_locked

MARROW = Actor("Vet", "", "MARROW")
UNSEEN = Policy("GANNET", "Not seen for 60 days", "unseen", 60, (), (), 0, "release", False)


SEATS = {"LANTERN-MAIL", "FIELD-CORE", "FIELD-FULL", "DISPATCH"}


def everybody(database: Database, **asked: Any) -> dict[str, listing.Row]:
    """The rows of the list by username, a few hundred at once."""
    rows: dict[str, listing.Row] = {}
    while True:
        page = database.run(listing.listing, COMMAND_LINE, Asked(**asked), "username", False, len(rows), 500)
        rows |= {row.person.username: row for row in page.rows}
        if len(page.rows) < 500:
            return rows


def seats(database: Database) -> dict[str, set[str]]:
    """What everybody has a seat of."""
    return {name: set(row.products) & SEATS for name, row in everybody(database).items()}


def made(database: Database, policy: Policy, who: Actor = COMMAND_LINE) -> int:
    return database.run(reclaim.put, who, None, policy)


def run(database: Database, policy_id: int, who: Actor = COMMAND_LINE) -> Run:
    """Looked at first, then run: both say the same, and the counters agree."""
    with everything_locked(database):
        would = database.try_out(reclaim.run, who, policy_id)
    did = database.run(reclaim.run, who, policy_id)
    assert [(each.username, each.what, each.units) for each in did.deeds] == [
        (each.username, each.what, each.units) for each in would.deeds
    ]
    assert database.run(assignments.verify, COMMAND_LINE) == []
    return did


def done(found: Run, what: str) -> set[str]:
    return {each.username for each in found.deeds if each.what == what}


def test_who_is_idle_loses_what_they_have_and_nobody_sheltered_does(demo: Database) -> None:
    rows, had = everybody(demo, status="active", seen="60"), seats(demo)
    idle = {name for name, row in rows.items() if row.person.last_seen_at is not None}
    protected = {name for name in idle if rows[name].person.protected}
    watched = set(found(demo, group="GANNET/GANNET-WATCH"))
    policy_id = made(demo, replace(UNSEEN, exempt=("GANNET/GANNET-WATCH",)))
    having = {name for name in idle if had[name]}
    did = run(demo, policy_id)
    assert done(did, "released") == having - protected - watched and done(did, "released")
    has = seats(demo)
    assert not any(has[name] for name in done(did, "released")) and all(
        has[name] for name in having & (protected | watched)
    )
    assert {each.why for each in did.left} <= {"protected", "in a group that is exempt", "has nothing of it"}
    cost = sum(taken.cost for taken in did.taken())
    assert cost > 0 and {taken.currency for taken in did.taken()} == {"EUR"}
    assert not run(demo, policy_id).deeds, "running twice does nothing twice"
    rows = demo.run(reclaim.runs, COMMAND_LINE)
    assert len(rows) == 1 and Counter(each.what for each in rows[0].deeds) == Counter(
        {"released": len(done(did, "released"))}
    )
    back, missing = demo.run(reclaim.undo, COMMAND_LINE, rows[0].row.id)
    assert len(back) + len(missing) == len(done(did, "released")) and demo.run(assignments.verify, COMMAND_LINE) == []
    assert all("asked for" in why or "needs" in why for _, why in missing), missing
    with pytest.raises(Refused, match="taken back already, by command line"):
        demo.run(reclaim.undo, COMMAND_LINE, rows[0].row.id)


def test_who_is_told_and_still_needs_it_keeps_it(demo: Database) -> None:
    policy_id = made(demo, replace(UNSEEN, account="MARROW", notice_days=7), MARROW)
    before = len(mails(demo))
    first = run(demo, policy_id, MARROW)
    told = done(first, "told")
    assert told and not done(first, "released") and len(mails(demo)) == before + len(told)
    rows, sent = everybody(demo), mails(demo)[before:]
    asked = {name: next(each for each in sent if each.to_address == rows[name].person.email) for name in told}
    keeper = sorted(told)[0]
    assert asked[keeper].subject.startswith("Do you still need ")
    token = re.search(r"/keep/(\S+)", asked[keeper].body).group(1)  # type: ignore[union-attr]
    assert not demo.run(answers.asked, token).needed and demo.run(answers.still_need_it, token).needed
    again = run(demo, policy_id, MARROW)
    assert not again.deeds and len(mails(demo)) == before + len(told), "nobody is told twice"
    demo.clock.shift += timedelta(days=8)
    after = run(demo, policy_id, MARROW)
    assert done(after, "released") == told - {keeper} and seats(demo)[keeper]
    demo.clock.shift += timedelta(days=61)
    assert keeper in done(run(demo, policy_id, MARROW), "released"), "a word given holds as long as the policy's days"
    for wrong in ("guessed", token):
        with pytest.raises(Refused, match="no notice"):
            demo.run(answers.still_need_it, wrong)


def test_who_never_joined_is_invited_again_when_a_run_is_taken_back(demo: Database) -> None:
    rows = everybody(demo, status="invited")
    invited = next(name for name, row in rows.items() if row.products and not row.person.protected)
    did = run(demo, made(demo, replace(UNSEEN, criterion="not joined", days=1, act="suspend")))
    assert invited in done(did, "suspended") and everybody(demo)[invited].person.status == "suspended"
    demo.run(reclaim.undo, COMMAND_LINE, demo.run(reclaim.runs, COMMAND_LINE)[0].row.id)
    assert everybody(demo)[invited].person.status == "invited" and seats(demo)[invited] == SEATS & set(
        rows[invited].products
    )


CASES: list[tuple[str, dict[str, Any], str, set[str]]] = [
    ("never joined", {"criterion": "not joined", "days": 20, "act": "report"}, "reported", {"invited"}),
    ("never seen", {"criterion": "never seen", "days": 1, "act": "suspend"}, "suspended", {"active"}),
    ("one product alone", {"products": ("FIELD-FULL",), "act": "release"}, "released", {"active"}),
]


@pytest.mark.parametrize(("what", "other", "does", "status"), CASES, ids=[case[0] for case in CASES])
def test_each_policy_finds_its_own_and_does_what_it_says(
    demo: Database, what: str, other: dict[str, Any], does: str, status: set[str]
) -> None:
    rows, had = everybody(demo), seats(demo)
    did = run(demo, made(demo, replace(UNSEEN, **other)))
    assert {each.what for each in did.deeds} <= {does} and {
        rows[each.username].person.status for each in did.deeds + did.left
    } <= status
    after, has = everybody(demo), seats(demo)
    for each in did.deeds:
        assert {taken.product for taken in each.units} <= set(other.get("products", had[each.username])) and each.units
        assert has[each.username] == (
            had[each.username] if does == "reported" else had[each.username] - {taken.product for taken in each.units}
        )
        assert (after[each.username].person.status == "suspended") == (does == "suspended")
    if does == "suspended" and did.deeds:
        back, _ = demo.run(reclaim.undo, COMMAND_LINE, demo.run(reclaim.runs, COMMAND_LINE)[0].row.id)
        again = everybody(demo)
        assert all(again[each.username].person.status == "active" for each in did.deeds) and back


def test_a_seat_that_a_layer_gives_stays(demo: Database) -> None:
    demo.run(entitlements.put, COMMAND_LINE, EntitlementTerms("GANNET", None, "LANTERN-MAIL", ()))
    granted = {
        each.username
        for each in demo.run(reclaim.run, COMMAND_LINE, made(demo, replace(UNSEEN, products=("LANTERN-MAIL",)))).left
        if "by an entitlement" in each.why
    }
    has = seats(demo)
    assert all("LANTERN-MAIL" in has[name] for name in granted)


def test_daily_policies_run_once_a_day_by_themselves(demo: Database) -> None:
    made(demo, replace(UNSEEN, daily=True))
    broken = made(
        demo,
        replace(
            UNSEEN, name="With a group that goes", account="OLDQUAY", exempt=("OLDQUAY/OLDQUAY-NIGHTS",), daily=True
        ),
    )
    demo.run(groups.forget, COMMAND_LINE, "OLDQUAY/OLDQUAY-NIGHTS")
    for _ in range(2):
        do_job(demo, ReclaimIdle())
    assert [each.row.by for each in demo.run(reclaim.runs, COMMAND_LINE)] == ["policy"]
    with pytest.raises(Refused, match="There is no group OLDQUAY-NIGHTS"):
        demo.run(reclaim.run, COMMAND_LINE, broken)
    person = next(
        name
        for name, row in everybody(demo, product="LANTERN-MAIL", status="active").items()
        if not row.person.protected
    )
    demo.run(acting.act, COMMAND_LINE, "protect", Asked(usernames=(person,)))
    demo.clock.shift += timedelta(days=61)
    do_job(demo, ReclaimIdle())
    assert len(demo.run(reclaim.runs, COMMAND_LINE)) == 2 and "LANTERN-MAIL" in seats(demo)[person], (
        "protected people keep theirs"
    )


def test_a_policy_that_makes_no_sense_is_refused(demo: Database) -> None:
    mine = made(demo, UNSEEN)
    cases: list[tuple[Actor, Policy, str]] = [
        (MARROW, replace(UNSEEN, account="TERN"), "no account 'TERN'"),
        (COMMAND_LINE, replace(UNSEEN, days=0), "From 1 to 3650 days"),
        (COMMAND_LINE, replace(UNSEEN, name="x", products=("DEEPSHELF",)), "DEEPSHELF is no product"),
        (COMMAND_LINE, replace(UNSEEN, name="x", exempt=("GANNET/NONE",)), "There is no group NONE"),
        (COMMAND_LINE, UNSEEN, "There is a policy Not seen for 60 days already"),
        (COMMAND_LINE, replace(UNSEEN, name=" "), "A policy has a name"),
    ]
    for who, policy, says in cases:
        with pytest.raises(Refused, match=re.escape(says)):
            demo.run(reclaim.put, who, None, policy)
    for act in (reclaim.run, lambda tx, who, policy_id: reclaim.put(tx, who, policy_id, UNSEEN)):
        with pytest.raises(Refused):
            demo.run(act, MARROW, mine)
    assert demo.run(reclaim.policies, MARROW) == [], "a provider's policies are not the client's to see"


def test_idle_seats_counted_now_and_as_they_were_counted_last_are_the_same(
    demo: Database, monkeypatch: pytest.MonkeyPatch
) -> None:
    who = [actor_of(each) for each in (None, "OLDQUAY", "BRAMBLE")]
    live = [demo.run(idle_seats.unseen, each) for each in who]
    assert live[0].seats > live[1].seats > 0 and live[0].cost and not live[1].cost, "what a pool above was bought for"
    demo.run(idle_seats.count_all)
    demo.run(idle_seats.count_all)
    monkeypatch.setattr(idle_seats, "SMALL_BRANCH", 0)
    kept = [demo.run(idle_seats.unseen, each) for each in who]
    assert [(e.people, e.seats, e.cost) for e in kept] == [(e.people, e.seats, e.cost) for e in live]
