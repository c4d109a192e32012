"""The log: who did what through what, what was refused, and finding it again."""

from __future__ import annotations

import zlib
from dataclasses import replace
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest
import sqlalchemy as sa
from cryptography.fernet import Fernet
from fastapi.testclient import TestClient

from fair_ladle.app.assignments import usecases as assignments
from fair_ladle.app.devices import usecases as devices
from fair_ladle.app.log import service as log_service
from fair_ladle.app.log.tables import log_entries, log_seals
from fair_ladle.app.people_admin import joining
from fair_ladle.app.people_admin.joining import NewPerson
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.sign_in import delegating, roles
from fair_ladle.app.sign_in.delegating import Terms
from fair_ladle.app.storage_systems import usecases as storage_systems
from fair_ladle.app.storage_systems.usecases import Report, Where
from fair_ladle.jobs import SealLog
from tests.app.test_delegations import TODAY, delegation_of, given
from tests.app.test_keys import signs_in, with_key
from tests.app.test_setup import PASSWORD
from tests.conftest import do_job


def found(client: TestClient, **sought: Any) -> list[tuple[str, str]]:
    return [(each["action"], each["subject"]) for each in client.get("/api/log", params=sought).json()["entries"]]


def test_each_act_and_refusal_says_who_through_what_and_from_where(app: TestClient, demo: Database) -> None:
    _, client = signs_in(demo, app)
    made = client.post(
        "/api/keys", json={"name": "Till", "last_day": str(TODAY), "permissions": None, "current": PASSWORD}
    ).json()
    program = with_key(app, made["key"])
    refused = program.put("/api/people/no.body/quota", json={})
    draft = [{"kind": "allocation", "account": "OLDQUAY", "product": "DISPATCH", "terms": {"cap": 9}, "seen": None}]
    program.patch("/api/drafts", json={"draft": None, "revision": 0, "put": draft})
    answer = program.post("/api/delegations", json={})
    denied = program.post("/api/delegations/99999/end")
    assert (answer.status_code, denied.status_code) == (422, 404) and refused.status_code in (404, 405, 422)
    for _ in range(3):  # looking at what is not one's own is noted once, however often it is asked
        assert program.get("/api/server").status_code == 403
    looked, entry = client.get("/api/log", params={"kind": "refused"}).json()["entries"]
    assert looked["subject"] == "GET /api/server"
    assert entry["subject"] == "POST /api/delegations/99999/end"
    assert entry["via"] == f"Branch admin of OLDQUAY, key Till …{made['key'][-4:]}"
    assert entry["request"] == denied.headers["X-Request-Id"] and entry["origin"] == "testclient"
    assert entry["changes"][0]["after"] == "There is no delegation '99999' here."
    do_job(demo, SealLog())
    assert demo.run(log_service.broken_seals) == []
    with demo.engine.begin() as connection:
        connection.exec_driver_sql("UPDATE log_entries SET origin = '10.0.0.1' WHERE action = 'refused'")
    assert demo.run(log_service.broken_seals) != []


@pytest.mark.parametrize("secret", [None, Fernet.generate_key().decode()], ids=["none", "shared"])
def test_servers_of_one_database_seal_with_one_key(demo: Database, tmp_path: Path, secret: str | None) -> None:
    """Each has a home of its own: they share a secret, or are told that they do not."""
    with demo.engine.begin() as connection:
        connection.execute(sa.delete(log_seals))
        connection.execute(sa.delete(log_entries))
    homes = [replace(demo.settings, home=tmp_path / name, secret_key=secret) for name in "ab"]
    for demo.settings in homes:
        demo.run(joining.add, COMMAND_LINE, NewPerson("OLDQUAY-CREW", "Key Probe", invite=False))
    demo.settings = homes[0]
    assert demo.run(log_service.is_another_key) is (secret is None)
    assert demo.run(log_service.seal_new) > 0
    assert (demo.run(log_service.broken_seals) == []) is (secret is not None)


def test_the_log_is_found_by_kind_days_and_words(app: TestClient, demo: Database) -> None:
    _, client = signs_in(demo, app, passes_on=True)
    body = {"email": "zoë.quill@x.example", "name": "Zoë Quill", "accounts": ["OLDQUAY-CREW"], "role": "desk"}
    assert client.post("/api/delegations", json=body).status_code == 201
    whole = [("delegation created", "zoë.quill@x.example")]
    assert found(client, find="Zoë service") == found(client, kind="delegation created", find="quill") == whole
    assert found(client, find="zoë.quill 100%") == found(client, find="quill", account="OLDQUAY-ISLAND") == []
    assert found(client, find="quill", first_day=str(TODAY), last_day=str(TODAY)) == whole
    assert found(client, find="quill", last_day=str(TODAY - timedelta(1))) == []
    _, beside = signs_in(demo, app, "TERN")
    assert found(beside, find="quill") == []
    exported = client.get("/api/log/export", params={"find": "quill"}).text
    assert "Branch admin of OLDQUAY" in exported and exported.startswith("at,who,account")


def test_who_could_do_what_on_a_past_day(app: TestClient, demo: Database) -> None:
    """As it was then, whatever became of the role and the delegation since."""
    boss = given(demo, COMMAND_LINE, "OLDQUAY", passes_on=True)
    role = demo.run(roles.put, boss, None, "Counter", ["people.see", "accounts.see"])
    who = given(demo, boss, "OLDQUAY-CREW", str(role))
    demo.clock.shift += timedelta(days=2)
    demo.run(roles.put, boss, role, "Counter", ["people.see"])
    demo.clock.shift += timedelta(days=2)
    demo.run(delegating.change, boss, delegation_of(demo, who), Terms("desk", None, None, False))
    demo.clock.shift += timedelta(days=2)
    demo.run(delegating.end, boss, delegation_of(demo, who))
    demo.clock.shift += timedelta(days=2)
    _, client = signs_in(demo, app, "OLDQUAY")

    def then(days: int) -> list[tuple[str, int]]:
        could = client.get("/api/delegations/past", params={"day": str(TODAY + timedelta(days))}).json()
        return [(each["role_name"], len(each["permissions"])) for each in could if each["email"] == who.email]

    assert [then(day) for day in (-1, 0, 1, 2, 4, 6, 7)] == [
        [],
        [("Counter", 2)],
        [("Counter", 2)],
        [("Counter", 1)],
        [("Service desk", 3)],
        [("Service desk", 3)],
        [],
    ]


def test_who_is_erased_is_named_nowhere_and_the_chain_holds(app: TestClient, demo: Database) -> None:
    _, client = signs_in(demo, app)
    new = {"account": "OLDQUAY", "display_name": "Ilse Brook", "username": "ilse.brook", "email": "ilse@brook.example"}
    assert client.post("/api/people", json=new).status_code == 201
    seat = {"units": [{"account": "OLDQUAY", "product": "LANTERN-MAIL", "subject": "ilse.brook"}]}
    assert client.post("/api/assignments", json=seat).status_code == 200
    groups = {"add": ["ilse.brook"], "take": []}
    client.post("/api/groups/OLDQUAY/OLDQUAY-LEADS/members", json=groups).raise_for_status()
    do_job(demo, SealLog())
    key = demo.run(devices.make_key, COMMAND_LINE, "OLDQUAY", "DEEPSHELF", "Filer")[1]
    theirs = [Where("OLDQUAY", person="ilse.brook"), Where("OLDQUAY", person="ilse.brook", part="mail")]
    theirs += [Where("OLDQUAY-CREW", person="ilse.brook"), Where("OLDQUAY", folder="CHARTS", part="ilse.brook")]
    for hours in (3, 2, 1):  # said again and again
        at = demo.clock.now() - timedelta(hours=hours)
        demo.run(storage_systems.report, key, [Report(each, at, 7 * 10**9) for each in theirs])
    assert client.post("/api/people/ilse.brook/erase").json()["detail"] == "Ilse Brook is invited; remove them first."
    act = {"act": "remove", "people": {"usernames": ["ilse.brook"]}}
    assert client.post("/api/people/act", json=act).json()["done"] == 1
    _, beside = signs_in(demo, app, "TERN")
    assert beside.post("/api/people/ilse.brook/erase").status_code == 404
    called = client.post("/api/people/ilse.brook/erase").json()["username"]
    again = client.post(f"/api/people/{called}/erase")
    assert (again.status_code, client.get("/api/people/ilse.brook").status_code) == (409, 404)
    back = {"act": "restore", "people": {"usernames": [called], "status": "removed"}}
    assert client.post("/api/people/act", json=back).json()["done"] == 0, "not to be restored"
    with demo.engine.connect() as connection:
        tables = ("people", "assignments", "group_members", "outbox", "claims", "stored", "storage_samples")
        for table in tables:
            rows = str(connection.exec_driver_sql(f"SELECT * FROM {table}").all()).lower()  # noqa: S608
            assert "ilse" not in rows and "brook" not in rows, table
        sets = connection.exec_driver_sql("SELECT categories FROM sample_sets").scalars().all()
        assert len(sets) > 1 and not any(b"ilse" in zlib.decompress(each) for each in sets)
        kept = connection.exec_driver_sql(
            "SELECT category, COUNT(*) FROM storage_samples WHERE category LIKE %s GROUP BY category", (f"%{called}%",)
        ).all()
        assert dict(map(tuple, kept)) == {f"home/{called}": 2, f"home/{called}/mail": 1, f"folder/CHARTS/{called}": 1}
        logged = connection.exec_driver_sql("SELECT * FROM log_entries WHERE action <> 'refused'").all()
        assert "brook" not in str(logged).lower()
        held = connection.exec_driver_sql("SELECT COUNT(*) FROM assignments WHERE subject = %s", (called,)).scalar()
    assert held == 1, "what they held is counted as before"
    do_job(demo, SealLog())
    assert demo.run(assignments.verify, COMMAND_LINE) == [], "counters, claims and the log"
    with demo.engine.begin() as connection:
        connection.exec_driver_sql(
            "UPDATE log_entries SET subject = 'somebody' WHERE salt IS NULL AND digest IS NOT NULL"
        )
    assert any("names was changed" in each for each in demo.run(log_service.broken_seals))


def test_how_somebody_above_acted_is_not_told_below(app: TestClient, demo: Database) -> None:
    _, operator = signs_in(demo, app, "GANNET", passes_on=True)
    _, client = signs_in(demo, app)
    body = {"email": "new@x.example", "name": "New", "accounts": ["OLDQUAY-CREW"], "role": "desk"}
    assert operator.post("/api/delegations", json=body).status_code == 201
    [whole] = operator.get("/api/log", params={"find": "new@x.example"}).json()["entries"]
    [seen] = client.get("/api/log", params={"find": "new@x.example"}).json()["entries"]
    assert (whole["via"], whole["origin"]) == ("Branch admin of GANNET", "testclient") and whole["request"]
    assert (seen["via"], seen["origin"], seen["request"]) == (None, None, None)
    assert (whole["actor"], seen["actor"]) == ("Who 0", "Gannet & Rowe Managed IT"), "but the account above"
    assert found(client, by="Who 0", find="new@x.example") == []
    assert found(client, by=seen["actor"], find="new@x.example rowe") != []
    lists = (client.get(path, params={"by": seen["actor"]}).json() for path in ("/api/log", "/api/log/acts"))
    assert [("Who 0" in each["actors"], seen["actor"] in each["actors"]) for each in lists] == [(False, True)] * 2
    for hidden in ("Branch", "testclient", whole["request"], whole["actor"]):
        assert found(client, find=f"new@x.example {hidden}") == [], "nor found by it"
        assert found(operator, find=f"new@x.example {hidden}") != []
    exported = client.get("/api/log/export", params={"find": "new@x.example"}).text
    assert "GANNET" not in exported and "testclient" not in exported
