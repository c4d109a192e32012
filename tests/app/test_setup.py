"""From an empty home to a first client's admin, without the command line."""

from __future__ import annotations

import io
import re
import threading
import zipfile
from datetime import timedelta
from typing import Any

import pytest
import sqlalchemy as sa
from fastapi.testclient import TestClient

from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.setup import usecases as setup
from fair_ladle.main import create_app

PASSWORD = "seventeen-wet-herons"
OPERATOR = {
    "name": "Sandpiper & Knot",
    "time_zone": "Europe/Lisbon",
    "currency": "EUR",
    "admin": {"name": "Ida Knot", "email": "Ida@sandpiper.example", "password": PASSWORD},
}
PRODUCT = {"name": "Desk suite", "vendor": "Made up", "measure": "seat", "unit": "seat"}


@pytest.fixture
def app(database: Database) -> TestClient:
    client = TestClient(create_app(database), raise_server_exceptions=False)
    client.app.state.database = database  # type: ignore[attr-defined]
    return client


def enter(app: TestClient, email: str, password: str) -> TestClient:
    client = TestClient(app.app, raise_server_exceptions=False)
    assert client.post("/api/sign-in", json={"email": email, "password": password}).status_code == 204
    client.headers["X-CSRF-Token"] = client.get("/api/me").json()["csrf_token"]
    return client


def mails(database: Database, to: str) -> list[str]:
    with database.engine.connect() as connection:
        found = sa.text("SELECT body FROM outbox WHERE to_address = :to ORDER BY id")
        return list(connection.scalars(found, {"to": to}))


def token_in(mail: str) -> str:
    found = re.search(r"/password/(\S+)", mail)
    assert found
    return found.group(1)


def set_up(app: TestClient, database: Database) -> TestClient:
    token = database.run(setup.new_link)
    assert app.post(f"/api/setup/{token}", json=OPERATOR).status_code == 204
    return enter(app, "ida@sandpiper.example", PASSWORD)


@pytest.mark.parametrize(
    "wrong, where",
    [
        ({"currency": "EUX"}, "currency"),
        ({"time_zone": "Lisbon"}, "time_zone"),
        ({"name": "  "}, "name"),
        ({"admin": {**OPERATOR["admin"], "email": "ida"}}, "email"),  # type: ignore[dict-item]
        ({"admin": {**OPERATOR["admin"], "password": "short"}}, "password"),  # type: ignore[dict-item]
        ({"admin": {**OPERATOR["admin"], "password": "passwordpassword"}}, "password"),  # type: ignore[dict-item]
    ],
)
def test_a_setup_says_which_field_is_wrong_and_changes_nothing(
    app: TestClient, database: Database, wrong: dict[str, Any], where: str
) -> None:
    token = database.run(setup.new_link)
    answer = app.post(f"/api/setup/{token}", json=OPERATOR | wrong)
    assert (answer.status_code, answer.json().get("where")) == (422, where), answer.text
    assert app.get("/api/installation").json()["set_up"] is False
    assert app.post(f"/api/setup/{token}", json=OPERATOR).status_code == 204, "and the link still works"


def test_a_setup_is_done_once_and_by_its_newest_link_alone(app: TestClient, database: Database) -> None:
    earlier, token = database.run(setup.new_link), database.run(setup.new_link)
    for unknown in (earlier, "nothing"):
        assert app.get(f"/api/setup/{unknown}").status_code == 404
    assert "Europe/Lisbon" in app.get(f"/api/setup/{token}").json()["time_zones"]
    with database.transaction() as tx:
        tx.connection.execute(sa.text("UPDATE sign_in_links SET expires_at = :at"), {"at": tx.now - timedelta(1)})
    assert "expired" in app.post(f"/api/setup/{token}", json=OPERATOR).json()["detail"]
    token, answers = database.run(setup.new_link), list[int]()

    def race() -> None:
        answers.append(TestClient(app.app).post(f"/api/setup/{token}", json=OPERATOR).status_code)

    racers = [threading.Thread(target=race) for _ in range(2)]
    for each in racers:
        each.start()
    for each in racers:
        each.join()
    assert sorted(answers) == [204, 409]
    assert database.run(setup.new_link) is None and app.get(f"/api/setup/{token}").status_code == 409
    with database.engine.connect() as connection:
        assert connection.scalar(sa.text("SELECT COUNT(*) FROM sign_ins")) == 1
        assert {"set up", "link refused"} <= set(connection.scalars(sa.text("SELECT action FROM log_entries")))


def test_a_setup_from_an_intake_is_whole_or_nothing(app: TestClient, database: Database) -> None:
    token = database.run(setup.new_link)
    who = {"token": token, "name": "Ida Knot", "email": "ida@sandpiper.example", "password": PASSWORD}

    def sent(accounts: str, **other: str) -> Any:
        packed = io.BytesIO()
        with zipfile.ZipFile(packed, "w") as tables:
            tables.writestr("accounts.csv", "code,parent,kind,name,currency,time_zone\n" + accounts)
        return app.post("/api/setup", data=who | other, files={"intake": ("intake.zip", packed.getvalue())})

    top = "SPK,,operator,Sandpiper & Knot,EUR,Europe/Lisbon\n"
    faulty = sent(top + "DOVE,NONE,client,Dove,EUR,\n")
    assert faulty.status_code == 422 and faulty.json()["faults"][0]["column"] == "parent", faulty.text
    assert sent(top, token="other").status_code == 404
    assert sent(top, password="short").json()["where"] == "password"
    assert app.post("/api/setup", data=who, files={"intake": ("x.zip", b"no zip")}).status_code == 422
    assert app.get("/api/installation").json()["set_up"] is False
    assert sent(top + "DOVE,SPK,client,Dove,EUR,\n").status_code == 204
    ida = enter(app, "ida@sandpiper.example", PASSWORD)
    assert ida.get("/api/me").json()["running"]["account"] == "SPK"
    assert ida.get("/api/accounts/DOVE").status_code == 200
    assert sent(top).status_code == 409


def test_from_nothing_to_a_clients_admin_who_gives_a_seat(app: TestClient, database: Database) -> None:
    ida = set_up(app, database)
    assert set(ida.get("/api/first-steps").json().values()) == {False}
    assert ida.put("/api/products/DESK", json=PRODUCT | {"requires": ["NONE"]}).json()["where"] == "requires"
    assert ida.put("/api/products/DESK", json=PRODUCT).status_code == 204
    again = ida.put("/api/products/DESK", params={"new": True}, json=PRODUCT)
    assert (again.status_code, again.json()["where"]) == (409, "code")
    assert ida.put("/api/products/DESK", json=PRODUCT | {"measure": "device"}).json()["where"] == "measure"
    assert [each["code"] for each in ida.get("/api/products").json()] == ["DESK"]
    operator = ida.get("/api/me").json()["running"]["account"]
    assert operator == "SANDPIPER-KNOT"
    today = ida.get("/api/me").json()["now"][:10]
    changes = [
        {
            "kind": "new lot",
            "owner": operator,
            "product": "DESK",
            "reference": "PO-1",
            "quantity": 40,
            "first_day": today,
            "unit_cost": "4",
            "currency": "EUR",
        },
        {
            "kind": "new account",
            "code": "HERON",
            "parent": operator,
            "name": "Heron Mills",
            "account_kind": "client",
            "unallocated": "free",
        },
    ]
    draft = ida.patch("/api/drafts", json={"draft": None, "revision": 0, "put": changes})
    assert draft.status_code < 300, draft.text
    applied = ida.post(f"/api/drafts/{draft.json()['id']}/apply", json={"revision": draft.json()["revision"]})
    assert applied.status_code < 300, applied.text
    new = {"account": "HERON", "display_name": "Per Reed", "email": "per@heron.example", "role": "admin"}
    assert ida.post("/api/people", json=new | {"invite": False}).status_code == 201
    mail = next(each for each in mails(database, "per@heron.example") if "/password/" in each)
    token = token_in(mail)
    assert app.get(f"/api/passwords/{token}").json() == {
        "name": "Per Reed",
        "email": "per@heron.example",
        "is_first": True,
    }
    assert (
        app.post("/api/sign-in", json={"email": new["email"], "password": "nobody has this password"}).status_code
        == 401
    )
    assert app.post(f"/api/passwords/{token}", json={"password": "per@heron.example"}).json()["where"] == "password"
    assert app.post(f"/api/passwords/{token}", json={"password": PASSWORD}).status_code == 204
    assert app.post(f"/api/passwords/{token}", json={"password": PASSWORD}).status_code == 409, "once"
    per = enter(app, "per@heron.example", PASSWORD)
    assert per.get("/api/me").json()["running"]["account"] == "HERON"
    unit = {"account": "HERON", "product": "DESK", "subject": "per.reed"}
    given = per.post("/api/assignments", json={"units": [unit]})
    assert given.status_code < 300, given.text
    assert per.get("/api/first-steps").status_code == 403 and per.get("/api/products").status_code == 403
    done = ida.get("/api/first-steps").json()
    assert done.pop("mail") is False and set(done.values()) == {True}


def test_a_forgotten_password_is_set_anew_by_mail_and_tells_nobody_who_signs_in(
    app: TestClient, database: Database
) -> None:
    ida = set_up(app, database)
    for email in ("nobody@sandpiper.example", "IDA@sandpiper.example", "ida@sandpiper.example"):
        answer = app.post("/api/passwords", json={"email": email})
        assert (answer.status_code, answer.text) == (204, "")
    assert mails(database, "nobody@sandpiper.example") == []
    [mail] = mails(database, "ida@sandpiper.example")
    database.clock.shift += timedelta(minutes=3)
    app.post("/api/passwords", json={"email": "ida@sandpiper.example"})
    first, second = (token_in(each) for each in mails(database, "ida@sandpiper.example"))
    assert app.get(f"/api/passwords/{first}").status_code == 404, "a newer one was sent"
    assert app.post(f"/api/passwords/{second}", json={"password": "another-wet-heron-42"}).status_code == 204
    assert ida.get("/api/me").json() is None, "every session ended"
    assert app.post("/api/sign-in", json={"email": "ida@sandpiper.example", "password": PASSWORD}).status_code == 401
    enter(app, "ida@sandpiper.example", "another-wet-heron-42")
    database.clock.shift += timedelta(minutes=3)
    app.post("/api/passwords", json={"email": "ida@sandpiper.example"})
    database.clock.shift += timedelta(hours=2)
    late = token_in(mails(database, "ida@sandpiper.example")[-1])
    for _ in range(3):  # noted once
        assert "expired" in app.post(f"/api/passwords/{late}", json={"password": PASSWORD}).json()["detail"]
    assert mail
    ida = enter(app, "ida@sandpiper.example", "another-wet-heron-42")
    [noted] = ida.get("/api/log", params={"kind": "link refused"}).json()["entries"]
    assert (noted["subject"], noted["actor"]) == ("ida@sandpiper.example", "Ida Knot")
    assert "This link has expired" in str(noted["changes"])
