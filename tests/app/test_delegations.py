"""Who may do what where: nothing wider than what one has oneself, and each route open to exactly one permission."""

from __future__ import annotations

import random
from datetime import date, timedelta
from typing import Any

import pytest
import sqlalchemy as sa
from fastapi.testclient import TestClient

from fair_ladle.app.drafts import usecases as drafts
from fair_ladle.app.drafts.change_types import AllocationChange, StatusChange
from fair_ladle.app.drafts.change_types import Terms as draft_terms
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.permissions import OWN, PERMISSIONS, ROLES
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.sign_in import delegating, usecases
from fair_ladle.app.sign_in import service as sign_in_service
from fair_ladle.app.sign_in.delegating import Terms, Wanted
from tests.app.test_setup import PASSWORD, enter, mails, token_in

TODAY = date(2026, 11, 24)


def given(database: Database, by: Actor, account: str, role: str = "admin", **more: Any) -> Actor:
    """Give somebody new a delegation; the actor they are with it."""
    with database.engine.connect() as connection:
        number = connection.scalar(sa.text("SELECT COUNT(*) FROM sign_ins"))
    email = f"who{number}@x.example"
    database.run(delegating.give, by, Wanted(email, f"Who {number}", account, role, **more))
    return actor(database, email, account)


def actor(database: Database, email: str, account: str) -> Actor:
    with database.transaction() as tx:
        found = sign_in_service.actor_for(tx, sign_in_service.find_by_email(tx, email).id, account)  # type: ignore[union-attr]
    assert found is not None
    return found


def delegation_of(database: Database, who: Actor) -> int:
    assert who.delegation_id is not None
    return who.delegation_id


def test_each_route_opens_to_exactly_the_permission_it_declares(app: TestClient, demo: Database) -> None:
    """For each permission somebody who has that alone: no other route lets them in, whatever is asked of it."""
    document = app.app.openapi()  # type: ignore[attr-defined]
    routes = [
        (method, path, operation["x-permission"])
        for path, methods in document["paths"].items()
        for method, operation in methods.items()
        if "x-permission" in operation
    ]
    assert {permission for _, _, permission in routes} == PERMISSIONS.keys() | {OWN}
    boss = given(demo, COMMAND_LINE, "OLDQUAY", passes_on=True)
    for permission in PERMISSIONS:
        role = demo.run(delegating.put_role, boss, None, f"Only {permission}", [permission])
        who = given(demo, boss, "OLDQUAY", str(role))
        demo.run(usecases.give_sign_in, COMMAND_LINE, who.email, who.name, "OLDQUAY", PASSWORD)
        client = enter(app, who.email, PASSWORD)
        assert client.get("/api/me").json()["running"]["permissions"] == [permission]
        for method, path, needed in routes:
            if needed == OWN:
                continue
            asked = path.replace("{", "").replace("}", "")
            answer = client.request(method, asked, headers={"Content-Length": "0"})
            shut = answer.status_code == 403 and answer.json()["detail"].startswith("Your role here")
            assert shut == (needed != permission), (permission, method, path, answer.status_code, answer.text[:200])


def test_nobody_gives_more_than_they_have(demo: Database) -> None:
    boss = given(demo, COMMAND_LINE, "OLDQUAY", passes_on=True)
    refused: list[tuple[Actor, Wanted, str]] = [
        (boss, Wanted(boss.email, "Me", "OLDQUAY-CREW", "admin"), "themselves"),
        (boss, Wanted("a@x.example", "A", "TERN", "admin"), "There is no account"),
        (boss, Wanted("a@x.example", "A", "GANNET", "admin"), "There is no account"),
        (boss, Wanted("a@x.example", "A", "OLDQUAY", "emperor"), "no role"),
        (boss, Wanted("a@x.example", "A", "OLDQUAY", "admin", last_day=TODAY - timedelta(1)), "last day"),
        (boss, Wanted("a@x.example", "A", "OLDQUAY", "admin", TODAY + timedelta(9), TODAY), "last day"),
        (boss, Wanted("nobody", "A", "OLDQUAY", "admin"), "address"),
    ]
    desk = given(demo, boss, "OLDQUAY", "desk", passes_on=True)
    keeps = given(demo, boss, "OLDQUAY", "admin")
    cover = given(demo, boss, "OLDQUAY", last_day=TODAY + timedelta(14), passes_on=True)
    refused += [
        (desk, Wanted("a@x.example", "A", "OLDQUAY", "steward"), "what your own role does not let you"),
        (keeps, Wanted("a@x.example", "A", "OLDQUAY", "desk"), "may not be passed on"),
        (cover, Wanted("a@x.example", "A", "OLDQUAY", "desk"), "ends on 8 December 2026"),
        (cover, Wanted("a@x.example", "A", "OLDQUAY", "desk", last_day=TODAY + timedelta(15)), "ends on"),
        (cover, Wanted(desk.email, "A", "OLDQUAY", "desk", last_day=TODAY), "runs Old Quay Ferries already"),
    ]
    for who, wanted, says in refused:
        with pytest.raises(Refused, match=says):
            demo.run(delegating.give, who, wanted)
    with pytest.raises(Refused, match="has more than your own"):
        demo.run(delegating.end, desk, delegation_of(demo, boss))
    with pytest.raises(Refused, match="does not let you read the log"):
        demo.run(delegating.put_role, desk, None, "Reader", ["people.see", "log.see"])
    given(demo, cover, "OLDQUAY-CREW", "desk", last_day=TODAY + timedelta(14))


def test_the_last_admin_of_an_account_goes_only_when_there_is_another(demo: Database) -> None:
    first = given(demo, COMMAND_LINE, "MARROW", passes_on=True)
    for row in demo.run(delegating.overview, first).rows:
        if row.code == "MARROW" and row.id != first.delegation_id:
            demo.run(delegating.end, COMMAND_LINE, row.id)
    with pytest.raises(Refused, match="you act through"):
        demo.run(delegating.end, first, delegation_of(demo, first))
    second = given(demo, first, "MARROW", passes_on=True)
    demo.run(delegating.end, second, delegation_of(demo, first))
    assert [each.email for each in demo.run(delegating.overview, second).rows if each.code == "MARROW"] == [
        second.email
    ]
    third = given(demo, second, "MARROW", last_day=TODAY + timedelta(3), passes_on=True)
    with pytest.raises(Refused, match="Nobody else runs"):
        demo.run(delegating.change, third, delegation_of(demo, second), Terms("admin", None, TODAY, True))
    with pytest.raises(Refused, match="Nobody else runs"):
        demo.run(delegating.end, third, delegation_of(demo, second))
    operator = given(demo, COMMAND_LINE, "GANNET", passes_on=True)
    demo.run(delegating.end, operator, delegation_of(demo, second))


def test_a_delegation_counts_in_its_days_and_ends_at_once(app: TestClient, demo: Database) -> None:
    """Leave cover: by mail, from a day on, until its last day; ended earlier, the session is over."""
    demo.run(usecases.give_sign_in, COMMAND_LINE, "boss@x.example", "Boss", "OLDQUAY", PASSWORD)
    boss = enter(app, "boss@x.example", PASSWORD)
    body = {
        "email": "cover@x.example",
        "name": "Cora Lane",
        "accounts": ["OLDQUAY"],
        "role": "steward",
        "first_day": str(TODAY + timedelta(1)),
        "last_day": str(TODAY + timedelta(3)),
    }
    made = boss.post("/api/delegations", json=body)
    assert made.status_code == 201, made.text
    number = made.json()["ids"][0]
    assert boss.post("/api/delegations", json=body).status_code == 409
    answers = boss.get(f"/api/delegations/{number}/can").json()
    assert {each["why"] for each in answers} == {"Licence steward does not have it", "From 25 November 2026 on"}
    token = token_in(mails(demo, "cover@x.example")[-1])
    assert app.post(f"/api/passwords/{token}", json={"password": PASSWORD}).status_code == 204
    sign_in = {"email": "cover@x.example", "password": PASSWORD}
    early = TestClient(app.app)
    assert early.post("/api/sign-in", json=sign_in).status_code == 204 and early.get("/api/me").json() is None
    demo.clock.shift += timedelta(days=1)
    cora = enter(app, "cover@x.example", PASSWORD)
    assert cora.get("/api/people").status_code == 200 and cora.get("/api/statements?month=2026-10").status_code == 403
    boss = enter(app, "boss@x.example", PASSWORD)
    auditor = {"role": "auditor", "first_day": None, "last_day": str(TODAY + timedelta(3)), "passes_on": False}
    assert boss.put(f"/api/delegations/{number}", json=auditor).status_code == 204
    assert cora.get("/api/log").status_code == 200, "a change of role counts from the next request on"
    assert boss.post(f"/api/delegations/{number}/end").status_code == 204
    assert cora.get("/api/log").status_code == 401 and cora.get("/api/me").json() is None
    other = TestClient(app.app)
    demo.run(usecases.give_sign_in, COMMAND_LINE, "tern@x.example", "T", "TERN", PASSWORD)
    other = enter(app, "tern@x.example", PASSWORD)
    for method, path in (("PUT", ""), ("POST", "/end"), ("POST", "/tell"), ("GET", "/can")):
        here, nowhere = (
            other.request(method, f"/api/delegations/{each}{path}", json=auditor if method == "PUT" else None)
            for each in (number, 999_999)
        )
        assert (here.status_code, here.text.replace(str(number), "")) == (404, nowhere.text.replace("999999", ""))
    with demo.engine.connect() as connection:
        told = list(connection.scalars(sa.text("SELECT action FROM log_entries WHERE subject = 'cover@x.example'")))
    assert [each for each in told if each != "signed in"] == [
        "may run it",
        "password set",
        "delegation changed",
        "runs it no more",
    ]
    wrong = {"email": "cover@x.example", "password": "not this one either"}
    assert other.post("/api/sign-in", json=wrong).status_code == 401
    entries = enter(app, "boss@x.example", PASSWORD).get("/api/log").json()["entries"]
    assert {"signed in", "sign-in refused"} & {each["action"] for each in entries} == {"signed in"}, (
        "who runs nothing here any more is not told of here"
    )


@pytest.mark.parametrize("seed", range(4))
def test_no_sequence_of_giving_ends_with_a_right_its_giver_did_not_have(demo: Database, seed: int) -> None:
    """Whoever is about gives, changes and ends at random; whoever gets something has no more than who gave it."""
    chance = random.Random(seed)
    start = given(demo, COMMAND_LINE, "OLDQUAY", "steward", passes_on=True)
    boss = given(demo, COMMAND_LINE, "OLDQUAY", passes_on=True)
    composed = demo.run(delegating.put_role, boss, None, "Desk and log", ["accounts.see", "people.see", "log.see"])
    about, done = {start.email: start}, 0
    places = ["OLDQUAY", "OLDQUAY-CREW", "OLDQUAY-ISLAND", "TERN", "GANNET"]
    for _ in range(120):
        who = chance.choice(list(about.values()))
        role = chance.choice([*ROLES, str(composed)])
        last_day = chance.choice([None, TODAY, TODAY + timedelta(chance.randrange(40))])
        try:
            if chance.random() < 0.6:
                new = given(demo, who, chance.choice(places), role, last_day=last_day, passes_on=chance.random() < 0.8)
                about[new.email] = new
            else:
                target = chance.choice([*about.values(), boss])
                terms = Terms(role, None, last_day, chance.random() < 0.8)
                what: tuple[Any, ...] = (delegating.change, who, target.delegation_id, terms)
                demo.run(*(what if chance.random() < 0.7 else (delegating.end, who, target.delegation_id)))
                about = {each.email: _now(demo, each) or each for each in about.values()}
            done += 1
        except Refused:
            continue
        for each in about.values():
            assert each.permissions <= start.permissions, "nothing that the first of them did not have"
            assert each.scope is not None and each.scope.startswith("OLDQUAY")
    assert done > 5 and _now(demo, boss) == boss, "and nobody took anything from who has more"


def _now(database: Database, who: Actor) -> Actor | None:
    with database.transaction() as tx:
        return sign_in_service.actor_for(tx, who.sign_in_id or 0, who.scope or "")


def test_a_steward_drafts_allocations_and_no_account_purchase_or_rate(demo: Database) -> None:
    boss = given(demo, COMMAND_LINE, "OLDQUAY", passes_on=True)
    steward = given(demo, boss, "OLDQUAY", "steward")
    cap = AllocationChange(
        account="OLDQUAY-CREW", product="LANTERN-MAIL", terms=draft_terms(cap=30), seen=None, was=None
    )
    status = StatusChange(account="OLDQUAY-CREW", status="suspended", charged=True)
    kept = demo.run(drafts.edit, steward, None, 0, [cap])
    with pytest.raises(Refused, match="does not let you change accounts, purchases and rates"):
        demo.run(drafts.edit, steward, kept.row.id, kept.row.revision, [status])
    whole = demo.run(drafts.edit, boss, None, 0, [cap, status])
    demo.run(delegating.change, COMMAND_LINE, boss.delegation_id, Terms("steward", None, None, False))
    with pytest.raises(Refused, match="does not let you change accounts"):
        demo.run(drafts.apply, actor(demo, boss.email, "OLDQUAY"), whole.row.id, whole.row.revision)


def test_nobody_is_removed_as_a_person_by_who_has_less_to_say(demo: Database) -> None:
    boss = given(demo, COMMAND_LINE, "OLDQUAY", passes_on=True)
    role = demo.run(delegating.put_role, boss, None, "People only", ["accounts.see", "people.see", "people.change"])
    clerk = given(demo, boss, "OLDQUAY", str(role))
    with pytest.raises(Refused, match="with more than your own role"):
        demo.run(delegating.end_of, clerk, [boss.email])
    assert _now(demo, boss) == boss


def test_giving_tells_nothing_of_who_an_address_is_elsewhere(app: TestClient, demo: Database) -> None:
    """One who signs in at another client, and one nobody knows: the same answers, lists and log."""
    demo.run(usecases.give_sign_in, COMMAND_LINE, "known@x.example", "Real Name", "TERN", PASSWORD)
    demo.run(usecases.give_sign_in, COMMAND_LINE, "boss@x.example", "Boss", "OLDQUAY", PASSWORD)
    boss, told = enter(app, "boss@x.example", PASSWORD), []
    for email in ("known@x.example", "unknown@x.example"):
        body = {"email": email, "name": "Ann Guess", "accounts": ["OLDQUAY"], "role": "desk"}
        number = boss.post("/api/delegations", json=body).json()["ids"][0]
        rows = boss.get("/api/delegations").json()["delegations"]
        [row] = [each for each in rows if each["email"] == email]
        shared = [boss.post(f"/api/delegations/{number}/tell").status_code, boss.get("/api/log").text]
        texts = [str({**row, "id": 0}), str(shared[0]), str("Real Name" in shared[1])]
        told.append([each.replace(email, "@") for each in texts])
    assert told[0] == told[1] and "Ann Guess" in told[0][0]
    account = boss.get("/api/accounts/OLDQUAY").text
    assert "Real Name" not in account
