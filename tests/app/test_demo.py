"""The demo shows everything that stands: no screen opens empty."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from fastapi.testclient import TestClient

from fair_ladle.app.plumbing.database import Database
from fair_ladle.demo import reporting
from fair_ladle.demo.load import prepare
from fair_ladle.main import create_app
from tests.app.test_setup import enter


def test_no_screen_of_the_demo_opens_empty(new_database: Callable[[], Database], tmp_path: Path) -> None:
    database = new_database()
    signs = prepare(database, tmp_path, lambda said: None)
    app = TestClient(create_app(database), raise_server_exceptions=False)
    app.app.state.database = database  # type: ignore[attr-defined]
    operator, reseller, client = (enter(app, email, password) for email, password, _ in signs)
    day = operator.get("/api/today").json()
    groups = {each["client"] for each in day["pressed"] if each["state"] != "near"}
    assert len(groups) + bool(day["endings"]) + len(day["requests"]) <= 12, "a day's work at a glance"
    assert {each["state"] for each in client.get("/api/requests?account=OLDQUAY").json()} == {
        "waiting",
        "granted",
        "refused",
    }
    drafts = operator.get("/api/drafts").json()
    assert sorted({each["state"] for each in drafts}) == ["applied", "scheduled"] and len(drafts) >= 7
    assert len({each["name"] for each in drafts}) == len(drafts), "told apart by their names"
    assert reseller.get("/api/drafts/current").json()["name"] == "Hazel & Moor grows"
    assert operator.get("/api/reclaim/policies").json() and operator.get("/api/reclaim/runs").json()
    assert client.get("/api/entitlements/queue").json()["total"], "people wait for a seat"
    assert client.get("/api/today").json()["joins"]
    assert [each["domain"] for each in client.get("/api/domains").json()] == ["ferry-crew.example"]
    delegations = operator.get("/api/delegations").json()["delegations"]
    assert any(each["last_day"] for each in delegations) and len(delegations) >= 7
    days = operator.get("/api/log/days").json()["days"]
    assert len(days) > 8 and days[0]["day"] < "2026-10-01", "months of a life"
    assert len([each for each in drafts if each["state"] == "applied"]) >= 10
    assert day["allocations_ending"], "a raise that ends by itself"
    assert [each["offline_until"] is not None for each in operator.get("/api/sessions").json()["rows"]] == [True]
    offline = operator.get("/api/sessions").json()["rows"][0]["username"]
    assert offline not in reporting.who_works(database), "the demo's sessions end nobody's"
    (scanner,) = operator.get("/api/storage-sources").json()
    assert [(each["outcome"], each["recorded"]) for each in scanner["runs"]] == [("done", 2)]
    for path in ("/api/devices?account=OLDQUAY", "/api/items/NUMBERS?account=NORTHFOLD"):
        assert any(each["username"] for each in operator.get(path).json()["rows"]), "some belong to people"
