"""One's own password, sessions and second factor."""

from __future__ import annotations

from datetime import timedelta

import pyotp
from fastapi.testclient import TestClient

from fair_ladle.app.plumbing.database import Database
from tests.app.test_setup import PASSWORD, app, enter, set_up  # noqa: F401

IDA = {"email": "ida@sandpiper.example", "password": PASSWORD}


def test_ones_sessions_are_listed_and_ended_one_by_one_or_all(app: TestClient, database: Database) -> None:  # noqa: F811
    first = set_up(app, database)
    second, third = enter(app, **IDA), enter(app, **IDA)
    listed = first.get("/api/own").json()["sessions"]
    assert len(listed) == 4 and [each["here"] for each in listed].count(True) == 1, "the setup began one as well"
    other = next(each["name"] for each in second.get("/api/own").json()["sessions"] if each["here"])
    assert first.post(f"/api/own/sessions/{other}/end").status_code == 204
    assert second.get("/api/me").json() is None and third.get("/api/me").json() is not None
    assert first.post("/api/own/sessions/abcdefabcdef/end").status_code == 404
    assert first.post("/api/own/sessions/end").status_code == 204
    assert third.get("/api/me").json() is None and len(first.get("/api/own").json()["sessions"]) == 1


def test_a_password_is_changed_by_who_knows_it_and_ends_other_sessions(
    app: TestClient,  # noqa: F811
    database: Database,
) -> None:
    first = set_up(app, database)
    second = enter(app, **IDA)
    for current, password, where in (("wrong", "another-wet-heron-42", "current"), (PASSWORD, "short", "password")):
        answer = first.post("/api/own/password", json={"current": current, "password": password})
        assert (answer.status_code, answer.json()["where"]) == (422, where)
    changed = {"current": PASSWORD, "password": "another-wet-heron-42"}
    assert first.post("/api/own/password", json=changed).status_code == 204
    assert first.get("/api/me").json() is not None and second.get("/api/me").json() is None
    enter(app, "ida@sandpiper.example", "another-wet-heron-42")


def test_a_second_factor_is_asked_for_each_code_taken_once_and_a_recovery_code_instead(
    app: TestClient,  # noqa: F811
    database: Database,
) -> None:
    ida = set_up(app, database)
    begun = ida.post("/api/own/second-factor", json={"current": PASSWORD}).json()
    codes = pyotp.TOTP(begun["secret"])

    def now() -> str:
        return codes.at(database.clock.now())

    assert begun["picture"].startswith("data:image/svg+xml") and "ida%40sandpiper.example" in begun["address"]
    assert enter(app, **IDA), "it does not count before a code of it was shown"
    assert ida.post("/api/own/second-factor/confirm", json={"code": "000000"}).json()["where"] == "code"
    spares = ida.post("/api/own/second-factor/confirm", json={"code": now()}).json()["codes"]
    assert len(set(spares)) == 10 and ida.get("/api/own").json()["recovery_codes"] == 10
    assert ida.post("/api/own/second-factor", json={"current": PASSWORD}).status_code == 409

    def sign_in(code: str | None) -> tuple[int, bool]:
        answer = app.post("/api/sign-in", json={**IDA, "code": code})
        return answer.status_code, answer.status_code == 401 and answer.json().get("code", False)

    assert sign_in(None) == (401, True) and sign_in(now()) == (401, True), "the code that set it up was taken already"
    database.clock.shift += timedelta(seconds=60)
    shown = now()
    assert sign_in(shown) == (204, False) and sign_in(shown) == (401, True), "a code is taken once"
    refused = ida.get("/api/log", params={"kind": "sign-in refused"}).json()["entries"]
    assert len(refused) == 2, "both codes that were shown again stand in the log"
    assert sign_in(spares[0].upper()) == (204, False) and sign_in(spares[0]) == (401, True)
    assert app.post("/api/sign-in", json={**IDA, "password": "wrong", "code": now()}).json().get("code") is None
    assert ida.post("/api/own/second-factor/end", json={"current": "wrong"}).status_code == 422
    assert ida.post("/api/own/second-factor/end", json={"current": PASSWORD}).status_code == 204
    assert ida.get("/api/own").json()["recovery_codes"] is None and sign_in(None)[0] == 204
