"""Who may do what where: nothing wider than what one has oneself, and each route open to exactly one permission."""

from __future__ import annotations

import os
import random
from dataclasses import dataclass, replace
from datetime import date, timedelta
from typing import Any

import pytest
import sqlalchemy as sa
from fastapi.testclient import TestClient

from fair_ladle.app.drafts import usecases as drafts
from fair_ladle.app.drafts.change_types import AllocationChange, StatusChange
from fair_ladle.app.drafts.change_types import Terms as AllocationTerms
from fair_ladle.app.drafts.change_types import Terms as draft_terms
from fair_ladle.app.people_admin import listing as people
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.limits import Ceiling, Limits, limits_of
from fair_ladle.app.plumbing.permissions import OWN, PERMISSIONS, ROLES
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.sign_in import delegating, delegation_store, keys, own, roles, usecases
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
    """For each permission somebody who has that alone, whom its routes let in, and somebody who has all others, whom
    they do not, whatever is asked of them."""
    document = app.app.openapi()  # type: ignore[attr-defined]
    routes = [
        (method, path, operation["x-permission"])
        for path, methods in document["paths"].items()
        for method, operation in methods.items()
        if "x-permission" in operation
    ]
    assert {permission for _, _, permission in routes} == PERMISSIONS.keys() | {OWN}
    boss = given(demo, COMMAND_LINE, "OLDQUAY", passes_on=True)
    app.app.state.note_refusal = lambda *_: None  # type: ignore[attr-defined]  # thousands of them
    for permission in PERMISSIONS:
        for name, having in (("Only", {permission}), ("All but", PERMISSIONS.keys() - {permission})):
            role = demo.run(roles.put, boss, None, f"{name} {permission}", sorted(having))
            who = given(demo, boss, "OLDQUAY", str(role))
            assert who.permissions == having
            app.app.state.find_actor = lambda request, database, see, who=who: who  # type: ignore[attr-defined]
            for method, path, needed in routes:
                if needed != permission:
                    continue
                asked = path.replace("{", "").replace("}", "")
                answer = app.request(method, asked, headers={"Content-Length": "0"})
                shut = answer.status_code == 403 and answer.json()["detail"].startswith("Your role here")
                assert shut == (permission not in having), (name, method, path, answer.status_code, answer.text[:200])


def test_nobody_gives_more_than_they_have(demo: Database) -> None:
    boss = given(demo, COMMAND_LINE, "OLDQUAY", passes_on=True)
    refused: list[tuple[Actor, Wanted, str]] = [
        (boss, Wanted(boss.email, "Me", "OLDQUAY-CREW", "admin"), "for yourself"),
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
        (cover, Wanted("a@x.example", "A", "OLDQUAY", "desk"), "ends on 8 Dec 2026"),
        (cover, Wanted("a@x.example", "A", "OLDQUAY", "desk", last_day=TODAY + timedelta(15)), "ends on"),
        (cover, Wanted(desk.email, "A", "OLDQUAY", "desk", last_day=TODAY), "runs Old Quay Ferries already"),
    ]
    for who, wanted, says in refused:
        with pytest.raises(Refused, match=says):
            demo.run(delegating.give, who, wanted)
    with pytest.raises(Refused, match="has more permissions than yours"):
        demo.run(delegating.end, desk, delegation_of(demo, boss))
    with pytest.raises(Refused, match="does not let you read the log"):
        demo.run(roles.put, desk, None, "Reader", ["people.see", "log.see"])
    given(demo, cover, "OLDQUAY-CREW", "desk", last_day=TODAY + timedelta(14))


def test_the_last_admin_of_an_account_goes_only_when_there_is_another(demo: Database) -> None:
    first = given(demo, COMMAND_LINE, "MARROW", passes_on=True)
    for row in demo.run(delegating.overview, first).rows:
        if row.code == "MARROW" and row.id != first.delegation_id:
            demo.run(delegating.end, COMMAND_LINE, row.id)
    with pytest.raises(Refused, match="working through"):
        demo.run(delegating.end, first, delegation_of(demo, first))
    second = given(demo, first, "MARROW", passes_on=True)
    demo.run(delegating.end, second, delegation_of(demo, first))
    assert [each.email for each in demo.run(delegating.overview, second).rows if each.code == "MARROW"] == [
        second.email
    ]
    third = given(demo, second, "MARROW", last_day=TODAY + timedelta(3), passes_on=True)
    with pytest.raises(Refused, match="has no other permanent admin"):
        demo.run(delegating.change, third, delegation_of(demo, second), Terms("admin", None, TODAY, True))
    with pytest.raises(Refused, match="has no other permanent admin"):
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
    assert {each["why"] for each in answers} == {"Licence steward does not have it", "From 25 Nov 2026 on"}
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
        "delegation created",
        "password set",
        "delegation changed",
        "delegation ended",
    ]
    wrong = {"email": "cover@x.example", "password": "not this one either"}
    assert other.post("/api/sign-in", json=wrong).status_code == 401
    entries = enter(app, "boss@x.example", PASSWORD).get("/api/log").json()["entries"]
    assert {"signed in", "sign-in refused"} & {each["action"] for each in entries} == {"signed in"}, (
        "who runs nothing here any more is not told of here"
    )


START = Limits(
    products=frozenset({"LANTERN-MAIL", "FIELD-CORE"}),
    ceilings={"LANTERN-MAIL": Ceiling(40, 5)},
    roles=frozenset({"admin", "steward", "desk"}),
    prices=False,
)


def _asked(chance: random.Random, composed: list[str], numbers: list[int]) -> tuple[str, str, dict[str, Any] | None]:
    """Some call of what gives, widens or takes rights, now and then beyond what can be."""
    limits = {
        "products": chance.choice([None, ["LANTERN-MAIL"], ["LANTERN-MAIL", "FIELD-CORE"], ["DISPATCH"]]),
        "ceilings": [
            {
                "product": "LANTERN-MAIL",
                "in_all": chance.choice([None, 10, 40, 41]),
                "at_once": chance.choice([None, 2, 9]),
            }
        ],
        "roles": chance.choice([None, ["desk"], ["desk", "admin"], ["auditor"]]),
        **{name: chance.random() < 0.3 for name in ("caps", "prices", "rules")},
    }
    terms = {
        "role": chance.choice([*ROLES, *composed]),
        "last_day": chance.choice([None, str(TODAY), str(TODAY + timedelta(chance.randrange(40)))]),
        "passes_on": chance.random() < 0.8,
        "limits": chance.choice([None, limits, limits, limits]),
    }
    number, key = chance.choice(numbers), chance.randrange(1, 6)
    places = ["OLDQUAY", "OLDQUAY-CREW", "OLDQUAY-ISLAND", "TERN", "GANNET"]
    person = {"email": f"new{chance.randrange(10**6)}@x.example", "name": "New", "accounts": [chance.choice(places)]}
    role = {"name": f"R{chance.randrange(8)}", "permissions": chance.sample(sorted(PERMISSIONS), 3)}
    added = {"account": person["accounts"][0], "display_name": "New", "email": person["email"], "role": "admin"}
    until = {"name": "K", "last_day": str(TODAY + timedelta(chance.randrange(40))), "permissions": None, "current": ""}
    until["limits"] = chance.choice([None, limits])
    return chance.choice(
        [
            *[("POST", "/api/delegations", {**person, **terms})] * 4,
            ("PUT", f"/api/delegations/{number}", terms),
            ("POST", f"/api/delegations/{number}/end", None),
            ("POST", "/api/delegations/roles", role),
            ("PUT", f"/api/delegations/roles/{chance.choice(composed or ['1'])}", role),
            ("POST", "/api/people", added),
            ("POST", "/api/keys", until),
            ("POST", f"/api/keys/{key}/replace", until),
        ]
    )


@pytest.mark.parametrize("seed", range(int(os.environ.get("FAIR_LADLE_SEARCHES", "2"))))
def test_no_sequence_of_calls_ends_with_a_right_its_giver_did_not_have(
    app: TestClient, demo: Database, seed: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Whoever is about calls at random what gives, widens or takes rights: nobody has more than the first of them, what
    is given is never more than its giver has, and who has more keeps it."""
    chance, keys_made = random.Random(seed), list[str]()
    monkeypatch.setattr(own, "show_password", lambda *asked: None)
    cover = TODAY + timedelta(30)
    start = given(demo, COMMAND_LINE, "OLDQUAY", "admin", passes_on=True, limits=START, last_day=cover)
    boss = given(demo, COMMAND_LINE, "OLDQUAY", passes_on=True)
    demo.run(roles.put, boss, None, "Desk and log", ["accounts.see", "people.see", "log.see"])
    before = _rights(demo)
    first = before.pop(delegation_of(demo, start))
    acting: dict[str, Actor] = {}
    app.app.state.find_actor = lambda request, database, see: acting["now"]  # type: ignore[attr-defined]
    outcomes = {True: 0, False: 0}
    for _ in range(int(os.environ.get("FAIR_LADLE_STEPS", "120"))):
        rights = _rights(demo)
        about = sorted(rights.keys() - before.keys())
        if not about:  # the last of them ended who was left: another one begins
            given(demo, COMMAND_LINE, "OLDQUAY", "admin", passes_on=True, limits=START, last_day=cover)
            continue
        mine = chance.choice(about)
        acting["now"] = rights[mine].actor
        composed = [each.key for each in demo.run(delegating.overview, COMMAND_LINE).roles if each.id is not None]
        method, path, body = _asked(chance, composed, sorted(rights))
        answer = app.request(method, path, json=body)
        assert answer.status_code < 500, (method, path, body, answer.text)
        outcomes[answer.is_success] += 1
        after = _rights(demo)
        for number in after.keys() - rights.keys():
            assert after[number].within(rights[mine]), (rights[mine], path, body, after[number])
        for number in after.keys() - before.keys():
            assert after[number].within(first), (path, body, after[number])
        for number in before:
            assert after[number] == before[number], "who has more is changed by nobody who has less"
        keys_made += [answer.json()["key"]] if answer.is_success and path.startswith("/api/keys") else []
    for key in keys_made:
        found = demo.run(keys.actor_of, key, "here")
        assert found is None or found.permissions <= first.actor.permissions
        assert found is None or not found.limits.beyond(first.actor.limits)
    assert min(outcomes.values()) > 10, outcomes


@dataclass(frozen=True)
class Rights:
    """What somebody can do by a delegation."""

    actor: Actor
    path: str
    last_day: date | None

    def within(self, other: Rights) -> bool:
        """Whether it is nothing that the other does not have."""
        return (
            self.actor.permissions <= other.actor.permissions
            and self.actor.limits.beyond(other.actor.limits) == []
            and self.path.startswith(other.path)
            and (other.last_day is None or (self.last_day is not None and self.last_day <= other.last_day))
        )


def _rights(database: Database) -> dict[int, Rights]:
    """What every delegation that is not ended lets its owner do."""
    found = {}
    with database.transaction() as tx:
        for row in delegation_store.given_in(tx.connection, sa.true()):
            permissions = sign_in_service.permissions_of(tx, row)
            limits = limits_of(row.limits)
            who = Actor(row.name, row.email, row.code, row.sign_in_id, row.role, permissions, row.id, limits)
            found[row.id] = Rights(who, row.path, row.last_day)
    return found


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
    role = demo.run(roles.put, boss, None, "People only", ["accounts.see", "people.see", "people.change"])
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


def test_the_product_is_looked_at_as_a_role_before_it_is_given(app: TestClient, demo: Database) -> None:
    demo.run(usecases.give_sign_in, COMMAND_LINE, "boss@x.example", "Boss", "GANNET", PASSWORD)
    boss = enter(app, "boss@x.example", PASSWORD)
    shown = {"X-Shown-As": "OLDQUAY desk"}
    me = boss.get("/api/me", headers=shown).json()
    assert (me["running"]["account"], me["shown_as"]) == ("OLDQUAY", "Service desk")
    assert set(me["running"]["permissions"]) == ROLES["desk"].permissions
    assert boss.get("/api/people", headers=shown).status_code == 200
    for path, status in (("/api/people?account=TERN", 404), ("/api/log", 403), ("/api/pools", 403)):
        assert boss.get(path, headers=shown).status_code == status, path
    body = {"units": [{"account": "OLDQUAY", "product": "LANTERN-MAIL", "subject": "x"}]}
    refused = boss.post("/api/assignments", json=body, headers={"X-Shown-As": "OLDQUAY admin"})
    assert (refused.status_code, "read-only preview" in refused.json()["detail"]) == (403, True)
    steward = given(demo, COMMAND_LINE, "OLDQUAY", "steward")
    lower = given(demo, COMMAND_LINE, "OLDQUAY", passes_on=True)
    for who, account, role, says in (
        (steward, "OLDQUAY-CREW", "desk", "does not let you have others"),
        (lower, "TERN", "desk", "no account"),
        (lower, "OLDQUAY", "emperor", "no role"),
    ):
        with pytest.raises(Refused, match=says):
            demo.run(delegating.as_role, who, account, role)


def test_the_people_of_a_group_are_run_and_no_figure_of_an_account_is_seen(app: TestClient, demo: Database) -> None:
    wanted = Wanted("lead@x.example", "Lead", "OLDQUAY", "admin", passes_on=True, people_of="OLDQUAY-LEADS")
    demo.run(delegating.give, COMMAND_LINE, wanted)
    demo.run(usecases.give_sign_in, COMMAND_LINE, "lead@x.example", "Lead", "GANNET", PASSWORD)
    demo.run(delegating.end_delegation, COMMAND_LINE, "lead@x.example", "GANNET")
    demo.run(usecases.give_sign_in, COMMAND_LINE, "boss@x.example", "Boss", "OLDQUAY", PASSWORD)
    boss, lead = (enter(app, f"{name}@x.example", PASSWORD) for name in ("boss", "lead"))
    assert lead.get("/api/me").json()["running"]["permissions"] == [
        *("accounts.see", "people.invite", "people.see", "seats.give")
    ]

    def names(client: TestClient, **asked: Any) -> set[str]:
        return {each["username"] for each in client.get("/api/people", params={"limit": 500, **asked}).json()["rows"]}

    mine, whole = names(boss, group="OLDQUAY/OLDQUAY-LEADS"), names(boss)
    assert mine and mine < whole and names(lead) == mine
    assert lead.get("/api/people/count").json()["count"] == len(mine)
    assert set(lead.get("/api/people/export").text.split("\n")[0].split(",")) >= {"username"}
    beside = sorted(whole - mine)[0]
    assert lead.get(f"/api/people/{sorted(mine)[0]}").status_code == 200
    assert lead.get(f"/api/people/{beside}").json() == {
        **lead.get("/api/people/no.body").json(),
        "detail": f"There is no person '{beside}' here.",
    }
    for product in ("FIELD-FULL", "DISPATCH", "LANTERN-MAIL"):
        body = {"act": "assign", "people": {"find": ""}, "product": product}
        told = lead.post("/api/people/preview", json=body)
        assert told.status_code == 200 and told.json()["asked"] == len(mine) and told.json()["seats"] == []
        assert "limited by" not in told.text and "cap" not in told.text and " more" not in told.text, told.text
        done = lead.post("/api/people/seats", json={**body, "people": {"find": "", "usernames": [beside]}})
        assert done.status_code in (200, 404) and (done.status_code == 404 or done.json()["asked"] == 0)
    document = app.app.openapi()  # type: ignore[attr-defined]
    opened = set()
    for path, methods in document["paths"].items():
        for method, operation in methods.items():
            if operation.get("x-permission", OWN) in who_may(lead):
                asked = path.replace("{", "").replace("}", "")
                answer = lead.request(method, asked, headers={"Content-Length": "0"})
                if not (answer.status_code == 403 and "people of a group" in answer.text):
                    opened.add(path)
    named = {"/api/groups/names", "/api/accounts/choices", "/api/allocations/products", "/api/entitlements/products"}
    acts = (
        "",
        "/count",
        "/export",
        "/preview",
        "/seats",
        "/invitations",
        "/views",
        "/views/{name}",
        "/{username}",
        "/{username}/components",
        "/{username}/unlock",
    )
    assert opened == named | {f"/api/people{each}" for each in acts}
    assert [each["code"] for each in lead.get("/api/groups/names").json()] == ["OLDQUAY-LEADS"]
    assert [each["account"] for each in lead.get("/api/accounts/choices").json()["accounts"]] == ["OLDQUAY"]
    assert lead.get("/api/people", params={"group": "OLDQUAY/OLDQUAY-EVERYONE"}).status_code == 404
    with pytest.raises(Refused, match="nothing to do with people"):
        demo.run(delegating.give, COMMAND_LINE, replace(wanted, email="b@x.example", role="billing"))
    with pytest.raises(Refused, match="no group"):
        demo.run(delegating.give, COMMAND_LINE, replace(wanted, email="b@x.example", people_of="NO-GROUP"))


def who_may(client: TestClient) -> set[str]:
    return set(client.get("/api/me").json()["running"]["permissions"])


def test_who_runs_what_is_found_and_counted(demo: Database) -> None:
    boss = given(demo, COMMAND_LINE, "GANNET", passes_on=True)
    soon = given(demo, boss, "OLDQUAY-CREW", "desk", last_day=TODAY + timedelta(14))
    given(demo, boss, "TERN", "desk", last_day=TODAY + timedelta(15))
    whole = demo.run(delegating.overview, boss)
    assert whole.standing.count == len(whole.rows) and whole.standing.ending == 1
    assert whole.standing.by_role["desk"] == 2

    def found(words: str) -> list[str]:
        return [each.email for each in demo.run(delegating.overview, boss, words).rows]

    assert found("crew service") == found(soon.email.upper()) == [soon.email]
    assert (found("crew billing"), found("100%")) == ([], [])


def test_those_who_only_look_are_notified_of_nothing(demo: Database) -> None:
    admin, auditor, desk = (given(demo, COMMAND_LINE, "PENNANT", role) for role in ("admin", "auditor", "desk"))
    change = AllocationChange(account="PENNANT", product="CHARTROOM", terms=AllocationTerms(cap=3), seen=None)
    operator = given(demo, COMMAND_LINE, "GANNET")
    draft = demo.run(drafts.edit, operator, None, 0, [change])
    demo.run(drafts.apply, operator, draft.row.id, draft.row.revision, "As agreed.")
    mailed = {each.email: mails(demo, each.email) for each in (admin, auditor, desk)}
    assert "Note from" in mailed[admin.email][-1] and "/accounts/PENNANT" in mailed[admin.email][-1]
    assert not any("allocations changed" in body for each in (auditor, desk) for body in mailed[each.email])


def test_who_runs_nothing_any_more_is_not_shown_as_an_admin(demo: Database) -> None:
    made = demo.run(delegating.give, COMMAND_LINE, Wanted("jonas.vane@oldquay.example", "J", "OLDQUAY", "auditor"))
    operator = given(demo, COMMAND_LINE, "GANNET")

    def shown() -> tuple[list[tuple[str, str]], bool]:
        runs = demo.snapshot(people.person, operator, "jonas.vane").runs
        admins = demo.snapshot(people.listing, operator, people.Asked(account="OLDQUAY", admin=True)).rows
        return runs, "jonas.vane" in {each.person.username for each in admins}

    assert shown() == ([("Old Quay Ferries", "Auditor")], True)
    demo.run(delegating.end, COMMAND_LINE, made)
    assert shown() == ([], False)
