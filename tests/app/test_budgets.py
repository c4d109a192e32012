"""What a request may send to the database, whatever the size of the installation: statements and rows, from its log."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
from fastapi.testclient import TestClient

from fair_ladle.app.assignments import service as assignments
from fair_ladle.app.devices import usecases as devices
from fair_ladle.app.people import memberships
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.sign_in import usecases as sign_in
from fair_ladle.app.usage import whose
from fair_ladle.main import create_app

PASSWORD = "harbour-gravel-birch-harbour"
STATEMENTS = {
    "/api/today": 16,
    "/api/notices": 4,
    "/api/allocations": 4,
    "/api/allocations/cell?account=OLDQUAY&product=LANTERN-MAIL": 4,
    "/api/allocations/products": 2,
    "/api/accounts?find=quay": 2,
    "/api/accounts/choices": 2,
    "/api/people": 8,
    "/api/people?account=OLDQUAY&find=a": 8,
    "/api/people?group=OLDQUAY/OLDQUAY-ALL": 9,
    "/api/people/jonas.vane": 11,
    "/api/groups": 4,
    "/api/entitlements/queue": 8,
    "/api/entitlements/queue?limit=0": 6,
    "/api/pools": 4,
    "/api/log": 4,
    "/api/log/acts": 5,
    "/api/log/days": 3,
    "/api/statements/OLDQUAY?month=2026-10": 7,
    "/api/statements/OLDQUAY/FIELD-FULL/more?month=2026-10&units=1&units=-10": 7,
    "/api/enforcement/holds": 3,
    "/api/statements?month=2026-10": 3,
    "/api/statement-sums?month=2026-10": 3,
    "/api/statements/export?form=columns&month=2026-10": 1,
    "/api/statements/margins/export?form=columns&month=2026-10": 1,
    "/api/prices/buyers/GANNET/export?form=columns": 1,
    "/api/devices": 5,
    "/api/drafts": 5,
    "/api/requests": 6,
    "/api/delegations": 8,
}
"""The most of each, once what is cached is there; finding out who asks is one of them."""


@pytest.fixture(scope="module")
def ask(
    new_demo: Callable[[], Database], tmp_path_factory: pytest.TempPathFactory
) -> Iterator[Callable[[str], dict[str, int]]]:
    database, home = new_demo(), tmp_path_factory.mktemp("home")
    database.settings = replace(database.settings, home=home)
    database.run(assignments.rebuild_stale)
    while database.run(memberships.catch_up, whose.follow):
        pass
    database.run(sign_in.give_sign_in, COMMAND_LINE, "op@x.example", "Op", "GANNET", PASSWORD)
    client = TestClient(create_app(database))  # not entered: no jobs beside
    client.app.state.database = database  # type: ignore[attr-defined]
    assert client.post("/api/sign-in", json={"email": "op@x.example", "password": PASSWORD}).status_code == 204

    key = database.run(devices.make_key, COMMAND_LINE, "OLDQUAY", "DEEPSHELF", "Filer")[1]

    def asked(path: str, **sent: Any) -> dict[str, int]:
        method = "POST" if sent else "GET"
        for _ in range(2):  # what is cached is made by the first
            answer = client.request(method, path, headers={"Authorization": f"Bearer {key}"} if sent else {}, **sent)
            assert answer.status_code in (200, 204), answer.text
        log = "".join(each.read_text() for each in sorted(Path(home / "log").glob("requests-*.jsonl")))
        entries = [json.loads(line) for line in log.splitlines()]
        found = next(each for each in reversed(entries) if each["request"] == answer.headers["X-Request-Id"])
        assert (found["method"], found["status"]) == (method, answer.status_code) and found["ms"] > 0
        return {name: int(found[name]) for name in ("statements", "rows")}

    yield asked


@pytest.mark.parametrize(("path", "most"), STATEMENTS.items())
def test_a_request_keeps_to_its_statements(ask: Callable[[str], dict[str, int]], path: str, most: int) -> None:
    assert ask(path)["statements"] <= most


@pytest.mark.parametrize(
    ("where", "most"), [({"category": "media"}, 9), ({"person": "jonas.vane"}, 14), ({"folder": "plans"}, 11)]
)
def test_what_a_storage_system_asks_keeps_to_its_statements(
    ask: Callable[..., dict[str, int]], where: dict[str, str], most: int
) -> None:
    body = {"bytes": 10**6, **({} if "person" in where else {"account": "OLDQUAY-HARBOUR"}), **where}
    assert ask("/api/public/storage/write", json=body)["statements"] <= most
    assert ask("/api/public/storage/reserve", json=body | {"seconds": 60})["statements"] <= most + 1
    assert ask("/api/public/storage/may-write", json=body)["statements"] <= most
