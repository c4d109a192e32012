"""People brought in from a table: mapped, every fault seen first, done part by part, stopped and gone on with."""

from __future__ import annotations

import csv
import io
from dataclasses import asdict, replace
from datetime import timedelta
from typing import Any

import openpyxl
import pytest

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.assignments import usecases as assignments
from fair_ladle.app.drafts import usecases as drafts
from fair_ladle.app.drafts.change_types import StatusChange
from fair_ladle.app.people_admin import acting, groups, joining, listing
from fair_ladle.app.people_admin.groups import GroupTerms
from fair_ladle.app.people_admin.listing import Asked
from fair_ladle.app.people_admin.seat_acts import ActOptions
from fair_ladle.app.people_import import store, usecases
from fair_ladle.app.people_import.planning import ImportChoices, have
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.plumbing.schedule import failed
from fair_ladle.app.pools import service as pools
from fair_ladle.app.sign_in import service as sign_in_service
from fair_ladle.app.sign_in import usecases as sign_in
from fair_ladle.connectors import sheets_in
from fair_ladle.jobs import ImportPeople
from tests.conftest import do_job

HEADER = ["Full name", "Work e-mail", "Login", "Site", "Job title", "Licences", "Group", "State"]


def admin(database: Database, account: str = "OLDQUAY") -> Actor:
    email = f"{account.lower()}@import.example"
    database.run(sign_in.give_sign_in, COMMAND_LINE, email, "Maren", account, "correct-ferry-staple")
    actor = database.run(lambda tx: sign_in_service.actor_for(tx, sign_in_service.find_by_email(tx, email).id, account))
    assert actor is not None
    return actor


def as_csv(rows: list[list[str]], delimiter: str = ",", header: list[str] = HEADER) -> bytes:
    out = io.StringIO()
    csv.writer(out, delimiter=delimiter).writerows([header, *rows])
    return out.getvalue().encode()


def people(database: Database, **asked: Any) -> list[listing.Row]:
    return database.run(listing.listing, COMMAND_LINE, Asked(**asked), "name", False, 0, 500).rows


def received(database: Database, who: Actor, name: str, content: bytes) -> int:
    """A table with one's own account as the one for rows that name none."""
    number: int = database.run(usecases.receive, who, name, content)
    previewed = database.run(usecases.preview, who, number)
    database.run(usecases.preview, who, number, replace(previewed.how, account=who.scope or ""))
    return number


def test_no_account_is_taken_for_new_people_that_none_was_named_for(demo: Database) -> None:
    who = admin(demo)
    number = demo.run(usecases.receive, who, "new.csv", b"name,email\nIda,ida@x.example\n")
    [fault] = demo.run(usecases.preview, who, number).plan.faults
    assert (fault.row, fault.expected) == (2, "an account in the file, or a default account for the file")
    leaver = people(demo, account="OLDQUAY", status="active")[0].person
    known = f"name,email\n,{leaver.email}\n".encode()
    plan = demo.run(usecases.preview, who, demo.run(usecases.receive, who, "known.csv", known)).plan
    assert plan.faults == [], "who is known stays where they are"


def bring(database: Database, who: Actor, content: bytes, name: str = "new.csv", **how: Any) -> tuple[int, list[Any]]:
    number = received(database, who, name, content)
    previewed = database.run(usecases.preview, who, number)
    plan = database.run(usecases.preview, who, number, replace(previewed.how, **how)).plan
    assert plan.faults == []
    database.run(usecases.begin, who, number)
    usecases.work(database, number)
    return number, database.run(usecases.outcomes, who, number)


def test_what_a_row_asks_for_and_its_person_cannot_have_is_said_before(demo: Database) -> None:
    """Two of a family, an add-on without its base, one of a family that somebody has: as it is then told after."""
    who = admin(demo)
    has = next(each.person for each in people(demo, account="OLDQUAY", product="FIELD-CORE", status="active"))
    add_on = next(each for each in demo.run(pools.products) if each.requires and each.is_personal)
    rows = [
        ["Ida Blom", "ida@new.example", "", "", "", "FIELD-CORE; FIELD-FULL", "", ""],
        ["Ivo Blom", "ivo@new.example", "", "", "", add_on.code, "", ""],
        [has.display_name, has.email, has.username, "", "", "FIELD-FULL", "", ""],
        ["Una Blom", "una@new.example", "", "", "", f"{add_on.code};{add_on.requires[0]}", "", ""],
    ]
    number = received(demo, who, "new.csv", as_csv(rows))
    said = demo.run(usecases.preview, who, number).conflicts
    assert [(each.row, each.name) for each in said] == [(2, "Ida Blom"), (3, "Ivo Blom"), (4, has.display_name)]
    demo.run(usecases.begin, who, number)
    usecases.work(demo, number)
    told = {outcome[0]: outcome[3] for outcome in demo.run(usecases.outcomes, who, number) if outcome[3]}
    assert {each.row for each in said} <= set(told)
    for each in said:
        assert each.why in told[each.row], (each, told[each.row])


def test_columns_are_known_by_their_names_whatever_stands_between_them(demo: Database) -> None:
    who, rows = admin(demo), [["Ida Blom", "ida.blom@oldquay.example", "", "", "", "", "", ""]]
    workbook, kept = openpyxl.Workbook(), io.BytesIO()
    for row in [HEADER, *rows]:
        workbook.active.append(row)
    workbook.save(kept)
    for name, content in (
        ("a.csv", as_csv(rows)),
        ("pasted", as_csv(rows, "\t")),
        ("b.csv", as_csv(rows, ";")),
        ("c.xlsx", kept.getvalue()),
    ):
        previewed = demo.run(usecases.preview, who, received(demo, who, name, content))
        assert previewed.how.columns == {
            "name": 0,
            "email": 1,
            "username": 2,
            "account": 3,
            "title": 4,
            "products": 5,
            "groups": 6,
            "status": 7,
        }, name
        assert previewed.plan.counts() == {"create": 1, "link": 0, "update": 0, "leave": 0, "fault": 0, "left_out": 0}


def test_rows_are_created_brought_up_to_date_put_into_groups_given_seats_and_suspended(demo: Database) -> None:
    who = admin(demo)
    demo.run(groups.put, COMMAND_LINE, GroupTerms("OLDQUAY", "night", "Night desk", None, (), None))
    known = people(demo, account="OLDQUAY", status="active", filter='not (title eq "Harbour pilot")')[0]
    number, outcome = bring(
        demo,
        who,
        as_csv(
            [
                ["Ida Blom", "Ida.Blom@oldquay.example", "", "OLDQUAY-CREW", "Pilot", "Lantern Mail", "night", ""],
                ["Ida Blom", "ida.blom2@oldquay.example", "", "", "", "", "", "active"],
                ["", known.person.email, "", "", "Harbour pilot", "", "Night desk", "suspended"],
            ]
        ),
    )
    assert [(row[0], row[1], row[2]) for row in sorted(outcome)] == [
        (2, "ida.blom", "created"),
        (3, "ida.blom2", "created"),
        (4, known.person.username, "brought up to date"),
    ]
    ida = demo.run(listing.person, COMMAND_LINE, "ida.blom")
    assert (ida.row.person.status, ida.row.account, ida.row.person.email, ida.row.person.title) == (
        "invited",
        "OLDQUAY-CREW",
        "ida.blom@oldquay.example",
        "Pilot",
    )
    assert ida.row.products == ["LANTERN-MAIL"] or "No seat left" in sorted(outcome)[0][3], "given, or said why not"
    assert "Night desk" in ida.row.groups
    changed = demo.run(listing.person, COMMAND_LINE, known.person.username)
    assert (changed.row.person.title, changed.row.person.status) == (
        "Harbour pilot",
        "suspended",
    ) and "Night desk" in changed.row.groups
    assert demo.run(usecases.one, who, number).state == "done" and demo.run(assignments.verify, COMMAND_LINE) == []
    again = bring(
        demo, who, as_csv([["Ida Blom", "ida.blom@oldquay.example", "ida.blom", "OLDQUAY-CREW", "Pilot", "", "", ""]])
    )[1]
    assert again[0][1:4] == ["ida.blom", "as it was", ""], "twice changes nothing"


def test_every_fault_has_its_place_and_what_would_be_right(demo: Database) -> None:
    who = admin(demo)
    outsider, mine = (
        people(demo, account="TERN", status="active")[0],
        people(demo, account="OLDQUAY-CREW", status="active")[0],
    )
    wrong = [
        (["", "a@x.example", "", "", "", "", "", ""], "Full name", "a name"),
        (["A", "", "", "", "", "", "", ""], "Work e-mail", "an invitation goes there"),
        (["A", "<script>alert(1)</script>@x.example", "", "", "", "", "", ""], "Work e-mail", "an e-mail address"),
        (["A", "b@x.example", "no spaces", "", "", "", "", ""], "Login", "letters, digits"),
        (["A", "c@x.example", "", "TERN", "", "", "", ""], "Site", "an account of the branch"),
        (
            ["A", "d@x.example", "", "", "", "Deepshelf Storage", "", ""],
            "Licences",
            "a product that people have seats of",
        ),
        (["A", "e@x.example", "", "", "", "", "nobody", ""], "Group", "a group of the branch"),
        (["A", "f@x.example", "", "", "", "", "", "retired"], "State", "active, invited, suspended"),
        (["A", "", outsider.person.username, "", "", "", "", ""], "Login", "this one is taken"),
        (
            [mine.person.display_name, mine.person.email, "", "OLDQUAY", "", "", "", ""],
            "Site",
            f"{mine.account_name.split(' · ')[0]}, where",
        ),
    ]
    number = received(demo, who, "new.csv", as_csv([row for row, _, _ in wrong]))
    plan = demo.run(usecases.preview, who, number).plan
    assert [(each.row, each.column) for each in plan.faults] == [
        (place, column) for place, (_, column, _) in enumerate(wrong, 2)
    ]
    for fault, (_, _, expected) in zip(plan.faults, wrong, strict=True):
        assert expected in fault.expected and outsider.person.display_name not in fault.expected
    with pytest.raises(Refused, match="10 rows have faults"):
        demo.run(usecases.begin, who, number)
    with pytest.raises(Refused, match="no row left"):
        demo.run(
            usecases.preview,
            who,
            number,
            replace(ImportChoices(columns=plan_columns(demo, who, number)), leave_faults=True),
        )
        demo.run(usecases.begin, who, number)


def plan_columns(database: Database, who: Actor, number: int) -> dict[str, int]:
    return database.run(usecases.preview, who, number).how.columns


def test_three_thousand_rows_with_one_address_are_three_thousand_faults_but_one(demo: Database) -> None:
    who = admin(demo)
    number = received(
        demo,
        who,
        "new.csv",
        as_csv([[f"Person {n}", "Same@x.example", "", "", "", "", "", ""] for n in range(3000)]),
    )
    plan = demo.run(usecases.preview, who, number).plan
    assert len(plan.faults) == 2999 and len(plan.steps) == 1
    assert plan.faults[-1].row == 3001 and "row 2" in plan.faults[-1].expected
    assert not people(demo, find="Person 1"), "looking changes nothing"


def test_a_known_address_is_linked_to_another_account_when_that_is_chosen(demo: Database) -> None:
    who, known = admin(demo), people(demo, account="OLDQUAY-CREW", status="active")[0]
    outcome = bring(
        demo, who, as_csv([["", known.person.email, "", "OLDQUAY", "Board", "", "", ""]]), elsewhere="link"
    )[1]
    assert outcome[0][2] == "linked"
    there, here = (
        demo.run(listing.person, COMMAND_LINE, outcome[0][1]),
        demo.run(listing.person, COMMAND_LINE, known.person.username),
    )
    assert (there.row.account, there.row.person.title, there.row.person.display_name) == (
        "OLDQUAY",
        "Board",
        known.person.display_name,
    )
    assert here.row.account == "OLDQUAY-CREW" and [each[0] for each in here.also] == [outcome[0][1]]


def test_what_changed_between_looking_and_doing_is_left_alone_and_told(demo: Database) -> None:
    who, (mover, renamed, staying) = admin(demo), people(demo, account="OLDQUAY-CREW", status="active")[:3]
    number = received(
        demo,
        who,
        "new.csv",
        as_csv(
            [
                ["", mover.person.email, "", "", "Pilot", "", "", ""],
                ["", "fresh@oldquay.example", renamed.person.username, "", "", "", "", ""],
                ["", staying.person.email, "", "", "Pilot", "", "", ""],
                ["Ida Blom", "ida.blom@oldquay.example", "", "OLDQUAY-ISLAND", "", "", "", "active"],
                ["Ina Blom", "ina.blom@oldquay.example", "", "", "", "", "", "active"],
            ]
        ),
    )
    assert demo.run(usecases.preview, who, number).plan.faults == []
    demo.run(usecases.begin, who, number)
    demo.run(
        acting.act,
        COMMAND_LINE,
        "move",
        Asked(usernames=(mover.person.username,)),
        ActOptions(to_account="TERN"),
    )
    demo.run(drafts.apply_changes, COMMAND_LINE, [StatusChange(account="OLDQUAY-ISLAND", status="suspended")], "hand")
    for name in ("fresh", "ina.blom"):
        demo.run(joining.add, COMMAND_LINE, joining.NewPerson("OLDQUAY", "Somebody", f"{name}@oldquay.example"))
    usecases.work(demo, number)
    assert [(each[0], each[2], each[3]) for each in sorted(demo.run(usecases.outcomes, who, number))] == [
        (2, "not done", "they are not here any more."),
        (3, "not done", "the address has come in otherwise meanwhile."),
        (4, "brought up to date", ""),
        (5, "not done", "Island Pier is suspended by now."),
        (6, "not done", "the address has come in otherwise meanwhile."),
    ]
    assert demo.run(listing.person, COMMAND_LINE, mover.person.username).row.person.title == mover.person.title, (
        "who left the branch is not touched"
    )


def test_it_is_cancelled_between_parts_breaks_off_whole_and_goes_on(
    demo: Database, monkeypatch: pytest.MonkeyPatch
) -> None:
    who = admin(demo)
    monkeypatch.setattr(usecases, "AT_ONCE", 10)
    number = received(
        demo,
        who,
        "new.csv",
        as_csv([[f"Guest {n:02}", f"guest{n}@x.example", "", "", "", "", "", "active"] for n in range(35)]),
    )
    demo.run(usecases.begin, who, number)
    assert demo.run(usecases._next_part, number)
    demo.run(usecases.cancel, who, number)
    do_job(demo, ImportPeople())
    assert len(people(demo, find="Guest")) == 10 == demo.run(usecases.one, who, number).done

    demo.run(usecases.resume, who, number)
    real = store.note_outcome
    monkeypatch.setattr(store, "note_outcome", lambda *given: (_ for _ in ()).throw(RuntimeError("the disk is full")))
    do_job(demo, ImportPeople())
    with demo.transaction() as tx:
        assert "the disk is full" in failed(tx)[0][1]
    demo.clock.shift += timedelta(minutes=2)
    row = demo.run(usecases.one, who, number)
    assert (
        (row.state, row.done) == ("broken", 10)
        and "nothing of this part" in row.trouble
        and len(people(demo, find="Guest")) == 10
    )
    monkeypatch.setattr(store, "note_outcome", real)
    demo.run(usecases.resume, who, number)
    do_job(demo, ImportPeople())
    assert len(people(demo, find="Guest")) == 35 and demo.run(usecases.one, who, number).state == "done"
    with pytest.raises(Refused, match="only what was cancelled or broke off"):
        demo.run(usecases.resume, who, number)
    with pytest.raises(Refused, match="has been begun"):
        demo.run(usecases.preview, who, number, ImportChoices(columns={"name": 0}))


def test_names_that_end_in_a_number_make_usernames_that_are_nobody_elses(demo: Database) -> None:
    who = admin(demo)
    first = bring(
        demo,
        who,
        as_csv([[name, "", "", "", "", "", "", "active"] for name in ("Bay 1", "Bay 1", "Bay 11", "Bay 12", "Bay 12")]),
    )[1]
    assert [row[1] for row in sorted(first)] == ["bay.1", "bay.12", "bay.11", "bay.122", "bay.123"]
    again = bring(demo, who, as_csv([["Bay 1", "", "", "", "", "", "", "active"]]), known="leave")[1]
    assert again[0][1] == "bay.13"


def test_somebody_elses_import_is_not_there(demo: Database) -> None:
    who, other = admin(demo), admin(demo, "TERN")
    number = received(demo, who, "new.csv", as_csv([["A", "a@x.example", *[""] * 6]]))
    for asked in (usecases.preview, usecases.begin, usecases.cancel, usecases.forget, usecases.outcomes):
        with pytest.raises(Refused, match="no import"):
            demo.run(asked, other, number)
    assert asdict(usecases.how_of(demo.run(usecases.one, who, number)))["account"] == "OLDQUAY"


def test_a_workbook_that_unpacks_to_too_much_is_refused(demo: Database, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(sheets_in, "MOST_OF_ONE_TABLE", 1000)
    workbook, kept = openpyxl.Workbook(), io.BytesIO()
    workbook.save(kept)
    with pytest.raises(Refused, match="unpacks to"):
        demo.run(usecases.receive, admin(demo), "big.xlsx", kept.getvalue())


@pytest.mark.parametrize(
    ("name", "content", "why"),
    [
        ("a.csv", b"", "a header row"),
        ("a.csv", b"Name\n", "no row under it"),
        ("a.csv", b'Name\n"open\n', "row 2: .*quotes closed"),
        ("a.csv", b"Name\n\xff\n", "row 2: .*UTF-8"),
        ("a.xlsx", b"PK\x03\x04broken", "damaged"),
        ("a.csv", b"Name\n" + b"x" * 3000, "2000 characters"),
    ],
)
def test_what_is_no_table_is_refused_with_its_place(demo: Database, name: str, content: bytes, why: str) -> None:
    with pytest.raises(Refused, match=why):
        demo.run(usecases.receive, admin(demo), name, content)


@pytest.mark.parametrize("leaving", ["suspend", "release", "remove"])
def test_leavers_go_as_chosen_and_come_back_with_what_they_had(demo: Database, leaving: str) -> None:
    who = admin(demo)
    staff = [each.person for each in people(demo, account="OLDQUAY-CREW", status="active")][:6]
    had = demo.run(have, [each.username for each in staff])
    assert had
    rows = [["Someone Else Entirely", each.email or "", "nobody's product"] for each in staff if each.email]
    content = as_csv(rows, header=["name", "email", "products"])
    number, outcome = bring(demo, who, content, leaving=leaving)
    gone = {each.username for each in staff if each.email}
    assert {each[1] for each in outcome} == gone and {each[2] for each in outcome} == {usecases.LEFT[leaving]}
    after = {each.person.username: each.person for each in people(demo) if each.person.username in gone}
    assert {each.status for each in after.values()} <= {"suspended"} and bool(after) == (leaving != "remove")
    assert all(each.display_name != "Someone Else Entirely" for each in after.values()), "nothing else is read"
    kept = demo.run(have, sorted(gone))
    assert kept == ({each for each in had if each[0] in gone} if leaving == "suspend" else set())
    back = demo.run(usecases.reverse, who, number)
    usecases.work(demo, back)
    assert {each[2] for each in demo.run(usecases.outcomes, who, back)} == {"reinstated"}
    assert {each.person.status for each in people(demo) if each.person.username in gone} == {"active"}
    assert demo.run(have, sorted(gone)) == {each for each in had if each[0] in gone}
    with pytest.raises(Refused, match="reversed already"):
        demo.run(usecases.reverse, who, number)
    assert demo.run(assignments.verify, COMMAND_LINE) == []


def test_a_leaver_nobody_knows_is_a_fault(demo: Database) -> None:
    who = admin(demo)
    number = received(demo, who, "leavers.csv", b"email\nnobody@x.example\n")
    how = demo.run(usecases.preview, who, number).how
    [fault] = demo.run(usecases.preview, who, number, replace(how, leaving="suspend")).plan.faults
    assert (fault.row, fault.found, fault.expected) == (
        2,
        "nobody@x.example",
        "somebody of the branch, by address or username",
    )


def test_leavers_of_a_day_ahead_go_on_that_day(demo: Database) -> None:
    who = admin(demo)
    staff = [each.person for each in people(demo, account="OLDQUAY-CREW", status="active") if each.person.email][:3]
    names, today = {each.username for each in staff}, demo.run(accounts_service.today)

    def planned() -> int:
        number = received(demo, who, "leavers.csv", as_csv([[each.email] for each in staff], header=["email"]))
        how = demo.run(usecases.preview, who, number).how
        demo.run(usecases.preview, who, number, replace(how, leaving="release"))
        demo.run(usecases.begin, who, number, today + timedelta(days=3))
        return number

    def leave_after(days: int) -> set[str]:
        demo.clock.set_to(demo.clock.now() + timedelta(days=days))
        do_job(demo, ImportPeople())
        return {each.person.username for each in people(demo, status="suspended")} & names

    first, second = planned(), planned()
    demo.run(usecases.cancel, who, first)
    assert demo.run(usecases.one, who, first).state == "open", "it can be changed, and begun anew"
    with pytest.raises(Refused, match="today or a later"):
        demo.run(usecases.begin, who, first, today - timedelta(days=1))
    with pytest.raises(Refused, match="Cancel it first"):
        demo.run(usecases.forget, who, second)
    assert leave_after(2) == set()
    demo.run(acting.act, who, "remove", Asked(usernames=(staff[0].username,)))
    assert leave_after(1) == {each.username for each in staff[1:]}
    assert demo.run(usecases.one, who, second).state == "done" and demo.run(usecases.one, who, first).state == "open"
    assert {each[1]: each[2] for each in demo.run(usecases.outcomes, who, second)}[staff[0].username] == "not done"
