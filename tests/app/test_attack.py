"""What an attack tried, each as somebody who may not: nothing of it does harm, and nothing is told."""

from __future__ import annotations

import io
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import openpyxl
import pytest
import sqlalchemy as sa
from fastapi.testclient import TestClient

from fair_ladle.app.assignments import usecases as assignments
from fair_ladle.app.drafts import usecases as drafts
from fair_ladle.app.drafts.change_types import AllocationChange, NewAccount, StatusChange, Terms
from fair_ladle.app.log import service as log_service
from fair_ladle.app.people_admin import acting, listing
from fair_ladle.app.people_admin.listing import Asked
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.sign_in import delegating
from fair_ladle.app.sign_in import usecases as sign_in
from fair_ladle.connectors.sheets_in import Unreadable, read_table
from fair_ladle.connectors.sheets_out import as_csv, as_xlsx
from fair_ladle.main import create_app
from tests.conftest import actor_of

PASSWORD = "correct-ferry-staple"
ADMINS = ("GANNET", "BRAMBLE", "OLDQUAY", "HAZEL", "MARROW")
Enter = Callable[[str], TestClient]


@pytest.fixture(scope="module")
def database(new_demo: Callable[[], Database]) -> Database:
    found = new_demo()
    for account in ADMINS:
        found.run(sign_in.give_sign_in, COMMAND_LINE, f"{account.lower()}@x.example", account, account, PASSWORD)
    return found


@pytest.fixture(scope="module")
def enter(database: Database) -> Iterator[Enter]:
    with TestClient(create_app(database, jobs_beside=True)) as first:
        clients: dict[str, TestClient] = {}

        def of(account: str) -> TestClient:
            if account not in clients:
                client = TestClient(first.app)
                body = {"email": f"{account.lower()}@x.example", "password": PASSWORD}
                client.post("/api/sign-in", json=body).raise_for_status()
                client.headers["X-CSRF-Token"] = client.get("/api/me").json()["csrf_token"]
                clients[account] = client
            return clients[account]

        yield of


def test_nested_groups_cost_what_there_is(enter: Enter) -> None:
    """Each names the two before it: as a tree that would be two to the thirtieth."""
    client = enter("OLDQUAY")
    for n in range(30):
        members = [f"n{each}" for each in (n - 2, n - 1) if each >= 0]
        body = {
            "account": "OLDQUAY",
            "code": f"n{n}",
            "name": f"n{n}",
            "rule": None,
            "members": members,
            "precedence": None,
        }
        assert client.put("/api/groups", json=body).status_code == 204
    begin = time.monotonic()
    assert enter("GANNET").get("/api/groups").status_code == 200
    assert enter("OLDQUAY").get("/api/people").status_code == 200
    assert time.monotonic() - begin < 20, "it ended for nobody before"


def test_a_draft_that_clashes_tells_nothing_of_others(enter: Enter) -> None:
    change = {
        "kind": "allocation",
        "account": "MARROW",
        "product": "FIELD-FULL",
        "terms": {"reserve": 0, "cap": 1},
        "seen": None,
    }
    for account, about in (("OLDQUAY", "MARROW"), ("HAZEL", "BRAMBLE")):
        body = {"changes": [change | {"account": about}]}
        answer = enter(account).post("/api/drafts/preview", json=body).json()
        assert answer["clashes"] == [] and [each["detail"] for each in answer["faults"]] == [
            f"There is no account '{about}' here."
        ]


def test_what_the_provider_pays_is_told_nobody_below(enter: Enter) -> None:
    client = enter("OLDQUAY")
    policy = {
        "account": "OLDQUAY",
        "name": "p",
        "criterion": "unseen",
        "days": 1,
        "products": [],
        "exempt": [],
        "notice_days": 0,
        "act": "release",
        "daily": False,
    }
    number = client.post("/api/reclaim", json=policy).json()["id"]
    found = client.post(f"/api/reclaim/{number}/preview", json={}).json()
    assert found["deeds"] and all(each.get("cost") in (None, {}, []) for each in found["deeds"] if "cost" in each)
    for text in (str(found), client.get("/api/reclaim/unseen").text):
        for price in ("2.40", "16.25", "7.10", "5.00", "93.60"):
            assert price not in text
    assert enter("GANNET").get("/api/reclaim/unseen").json()["cost"], "its owner sees it"


def test_units_reach_nobody_of_another_account(enter: Enter, database: Database) -> None:
    with database.engine.connect() as connection:
        foreign = connection.scalar(
            sa.text(
                "SELECT username FROM people p JOIN accounts a ON a.id = p.account_id WHERE a.code = 'MARROW' LIMIT 1"
            )
        )
    client = enter("OLDQUAY")
    taken = {}
    for product in ("WATCHGLASS", "NUMBERS", "CHARTROOM", "FIELD-CORE"):
        unit = {"account": "OLDQUAY-CREW", "product": product, "subject": foreign}
        taken[product] = client.post("/api/assignments", json={"units": [unit]}).status_code
    assert taken == {"WATCHGLASS": 200, "NUMBERS": 422, "CHARTROOM": 422, "FIELD-CORE": 422}, (
        "a device may be called anything"
    )
    page = enter("MARROW").get(f"/api/people/{foreign}")
    assert page.status_code == 200 and "OLDQUAY" not in page.text and "WATCHGLASS" not in str(page.json()["holdings"])
    act = {"act": "suspend", "people": {"usernames": [foreign]}, "keep_seats": False}
    assert enter("MARROW").post("/api/people/preview", json=act).json()["done"] == 1, "it blocks nobody's leaving"
    draft = {"kind": "units", "account": "OLDQUAY-CREW", "product": "FIELD-FULL", "subjects": [foreign], "give": True}
    fault = client.post("/api/drafts/preview", json={"changes": [draft]}).json()["faults"][0]["detail"]
    assert "is not a person of" in fault and "already" not in fault


def test_who_is_out_is_out_at_once(demo: Database) -> None:
    with demo.engine.connect() as connection:
        person = connection.execute(
            sa.text(
                "SELECT p.username, p.email FROM people p JOIN accounts a ON a.id = p.account_id"
                " WHERE a.code = 'OLDQUAY-CREW' AND p.status = 'active' AND p.email IS NOT NULL LIMIT 1"
            )
        ).one()
    demo.run(sign_in.give_sign_in, COMMAND_LINE, person.email, "Ada", "OLDQUAY-CREW", PASSWORD)
    app = create_app(demo, jobs_beside=True)
    with TestClient(app) as client:
        body = {"email": person.email, "password": PASSWORD}
        client.post("/api/sign-in", json=body).raise_for_status()
        assert client.get("/api/people").status_code == 200
        demo.run(acting.act, actor_of("OLDQUAY"), "suspend", Asked(usernames=(person.username,)))
        assert client.get("/api/people").status_code == 401
        client.post("/api/sign-in", json=body)
        assert client.get("/api/people").status_code == 401, "nor by signing in anew"
    demo.run(sign_in.give_sign_in, COMMAND_LINE, "boss@x.example", "Boss", "MARROW", PASSWORD)
    with TestClient(app) as client:
        client.post("/api/sign-in", json={"email": "boss@x.example", "password": PASSWORD}).raise_for_status()
        assert client.get("/api/people").status_code == 200
        assert client.get("/api/people", headers={"X-Running": "GANNET"}).status_code == 403, "no other branch instead"
        demo.run(drafts.apply_changes, COMMAND_LINE, [StatusChange(account="MARROW", status="closed")], "closing")
        assert client.get("/api/people").status_code == 401, "a closed account has no admins"
    demo.run(delegating.end_delegation, COMMAND_LINE, "boss@x.example", "MARROW")


def test_tries_are_counted_before_they_are_verified(database: Database) -> None:
    with TestClient(create_app(database, jobs_beside=True)) as client:

        def guess(_: int) -> int:
            body = {"email": "marrow@x.example", "password": "guess"}
            return client.post("/api/sign-in", json=body).status_code

        with ThreadPoolExecutor(20) as threads:
            codes = list(threads.map(guess, range(40)))
        assert codes.count(401) <= 5 and 429 in codes, codes
    fine = database.run(sign_in.count_try, "marrow@x.example", "another origin")
    assert fine is not None, "others do not lock an address out"


def test_signing_in_starves_nobody(enter: Enter, database: Database) -> None:
    operator, stop = enter("GANNET"), threading.Event()

    def guess(n: int) -> None:
        client = TestClient(operator.app)
        while not stop.is_set():
            client.post("/api/sign-in", json={"email": f"nobody{n}@x.example", "password": "guess"})

    threads = [threading.Thread(target=guess, args=(n,)) for n in range(30)]
    for thread in threads:
        thread.start()
    try:
        time.sleep(1)
        begin = time.monotonic()
        assert operator.get("/api/people/views").status_code == 200
        took = time.monotonic() - begin
    finally:
        stop.set()
        for thread in threads:
            thread.join()
    assert took < 10, "it took 20 to 49 s before"


def test_numbers_say_nothing_of_whom_they_are(enter: Enter, database: Database) -> None:
    client = enter("OLDQUAY")
    for n in range(1, 40):
        for answer in (
            client.post("/api/notices/seen", json={"ids": [n]}),
            client.post(f"/api/requests/{n}/withdraw", json={}),
            client.get(f"/api/requests/{n}/effect"),
        ):
            assert (
                answer.status_code in (204, 404, 403, 409) and "account" not in answer.json()["detail"].lower()
                if answer.content
                else True
            )


def test_a_ladder_and_room_end_at_the_top_of_ones_branch(enter: Enter) -> None:
    client = enter("OLDQUAY")
    for product in ("FIELD-CORE", "WATCHGLASS", "DISPATCH"):
        cell = client.get("/api/allocations/cell", params={"account": "OLDQUAY-CREW", "product": product}).json()
        assert {each["account"] for each in cell["ladder"]["limits"]} <= {"OLDQUAY-CREW", "OLDQUAY"}
        assert cell["ladder"]["ask"] == "Gannet & Rowe Managed Services" or cell["ladder"]["ask"].startswith("Gannet")
    grid = client.get("/api/allocations").json()
    for pool in grid["pools"]:
        if pool["owned"]:
            continue
        top = grid["accounts"]["code"].index("OLDQUAY")
        cap, room = pool["cap"][top], pool["headroom"][top]
        at_most = None if cap is None else cap - pool["load"][top]
        assert room is None or at_most is None or room >= at_most, "to its own cap and no less, whatever is free above"
        assert "supply" not in pool["bound_by"]
    assert "GANNET" not in client.get("/api/statements?month=2026-10").text


def test_only_what_lies_above_refuses_and_says_no_figure(demo: Database) -> None:
    client = actor_of("OLDQUAY")
    demo.run(
        drafts.apply_changes,
        COMMAND_LINE,
        [_allocation(demo, "OLDQUAY", "WATCHGLASS", Terms(reserve=0, cap=None))],
        "no cap of its own",
    )
    big = [_allocation(demo, "OLDQUAY-CREW", "WATCHGLASS", Terms(reserve=50_000, cap=None))]
    assert demo.run(drafts.preview, client, big).impact is not None
    with pytest.raises(Exception) as refused:
        demo.run(drafts.apply_changes, client, big, "too much")
    problem = refused.value.problem  # type: ignore[attr-defined]
    assert problem.kind == "not-available" and problem.detail.startswith("Not available now; ask Gannet")
    assert not any(each.isdigit() for each in problem.detail)


def _allocation(database: Database, account: str, product: str, terms: Terms) -> AllocationChange:
    from fair_ladle.app.allocations import views
    from fair_ladle.app.drafts.reversing import terms_of

    version = database.run(lambda tx: views.cell(tx, COMMAND_LINE, account, product).version)
    return AllocationChange(
        account=account, product=product, terms=terms, seen=version.id if version else None, was=terms_of(version)
    )


@pytest.mark.parametrize(
    "pairs", [[("A", "B"), ("B", "A")], [("A", "A")], [("A", "GANNET"), ("a", "A")], [("A", "NOWHERE"), ("B", "A")]]
)
def test_new_accounts_in_a_ring_are_faults(shared_demo: Database, pairs: list[tuple[str, str]]) -> None:
    changes = [NewAccount(code=code, parent=parent, account_kind="client", name=code) for code, parent in pairs]
    assert shared_demo.run(drafts.preview, COMMAND_LINE, changes).faults


def test_new_accounts_hold_nothing_unallocated(demo: Database) -> None:
    def made(code: str, **other: Any) -> Any:
        new = NewAccount(code=code, parent="OLDQUAY", account_kind="sub-account", name=code, **other)
        demo.run(drafts.apply_changes, COMMAND_LINE, [new], "a test")
        unit = assignments.Wanted(code, "WATCHGLASS", f"till of {code}")
        return demo.run(assignments.assign, COMMAND_LINE, [unit])

    with pytest.raises(Exception, match="cap of 0"):
        made("NONE-YET")
    demo.run(
        drafts.apply_changes,
        COMMAND_LINE,
        [_allocation(demo, "OLDQUAY", "WATCHGLASS", Terms(reserve=0, cap=None))],
        "room",
    )
    made("FREE-ONE", unallocated="free")
    assert demo.run(assignments.verify, COMMAND_LINE) == []


@pytest.mark.parametrize(
    "path",
    [
        "/api/allocations?at=9999-12-31T23:59:59-14:00",
        "/api/allocations?on=9999-12-31",
        "/api/statements/OLDQUAY/DISPATCH/evidence?day=9999-12-31",
        "/api/statements?month=9999-12",
        "/api/allocations?at=0001-01-01T00:00:00%2B14:00",
        '/api/people?filter=lastSeenAt gt "0001-01-01T00:00:00%2B14:00"',
        '/api/people?filter=title eq "a%0bb"',
        '/api/people?filter=title eq "\\ud800"',
    ],
)
def test_odd_input_is_refused_and_breaks_nothing(enter: Enter, path: str) -> None:
    answer = enter("GANNET").get(path)
    assert answer.status_code in (200, 422), answer.text


def test_what_nobody_expected_is_an_answer_with_a_reference(
    enter: Enter, monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture
) -> None:
    monkeypatch.setattr(listing, "listing", lambda *_, **__: 1 / 0)
    answer = enter("GANNET").get("/api/people")
    assert answer.status_code == 500 and answer.headers["content-type"] == "application/problem+json"
    assert "Content-Security-Policy" in answer.headers and answer.json()["reference"] in caplog.text


def test_sheets_are_bounded() -> None:
    workbook = openpyxl.Workbook()
    workbook.active["A1"] = "name"
    for row in range(2, 400):
        workbook.active.cell(row, 16384, "x")
    wide = io.BytesIO()
    workbook.save(wide)
    begin = time.monotonic()
    table = read_table("wide.xlsx", wide.getvalue())
    with pytest.raises(Unreadable):
        for _ in range(2):
            for row in table.rows:
                assert len(row[1]) <= 201
            raise Unreadable
    assert time.monotonic() - begin < 5


def test_exports_run_nothing_and_break_on_nothing() -> None:
    row = ["＝1+1", "\n=1+1", "Bad\x0bName", "=1"]
    assert as_csv(["a"], [row]).decode().count("'") == 3
    for title in ("t", "", "'t'", "\U000277c5" * 40):  # a letter that a workbook counts as two
        assert as_xlsx(title, ["a"], [row]).startswith(b"PK")


@pytest.mark.parametrize(
    ("harm", "says"),
    [
        ("UPDATE log_entries SET subject = 'another' ORDER BY id LIMIT 1", "was changed"),
        (
            "DELETE e, s FROM log_entries e JOIN log_seals s ON s.entry_id = e.id"
            " JOIN (SELECT MAX(number) AS last FROM log_seals) m ON s.number > m.last - 5",
            "gone from the end",
        ),
        ("DELETE FROM log_entries ORDER BY id LIMIT 1", "is gone"),
        (
            "INSERT INTO log_entries (at, actor, action, subject) VALUES ('2026-01-01', 'Mallory', 'x', 'forged')",
            "was not written by Fair Ladle",
        ),
    ],
)
def test_the_log_tells_what_was_done_to_it(demo: Database, harm: str, says: str) -> None:
    demo.run(
        lambda tx: log_service.write(
            tx, COMMAND_LINE, None, [log_service.Entry("note", f"n{each}") for each in range(9)]
        )
    )
    demo.run(log_service.seal_new)
    with demo.engine.begin() as connection:
        connection.execute(sa.text(harm))
    found = [where for what, where, _, _ in demo.snapshot(assignments.verify, COMMAND_LINE) if what == "log"]
    assert any(says in each for each in found), found


def test_counters_are_right_again_after_a_clock_that_jumped(demo: Database) -> None:
    from fair_ladle.app.assignments import service

    product = demo.run(
        lambda tx: next(each for each in service.pools_service.products(tx) if each.code == "WATCHGLASS")
    )
    shift = demo.clock.shift
    demo.clock.set_to(demo.clock.now().replace(year=2100))
    demo.run(service.rebuild_stale, [product])
    demo.clock.shift = shift
    demo.run(assignments.assign, COMMAND_LINE, [assignments.Wanted("OLDQUAY-ISLAND", "WATCHGLASS", "after the jump")])
    assert demo.run(assignments.verify, COMMAND_LINE) == []


def test_nobody_calls_a_route_that_is_not_theirs(enter: Enter, database: Database) -> None:
    """Every operation with addresses of another branch: as a client's admin 404, 403 or 422, never anything of it."""
    app = enter("OLDQUAY").app
    foreign = {
        "account": "MARROW",
        "buyer": "MARROW",
        "owner": "GANNET",
        "product": "WATCHGLASS",
        "code": "MARROW-LEADS",
        "username": "viggo.pike",
    }
    tried = 0
    for path, methods in app.openapi()["paths"].items():  # type: ignore[attr-defined]
        if not any(f"{{{name}}}" in path for name in ("account", "buyer", "username")):
            continue
        address = path
        for name, value in foreign.items():
            address = address.replace(f"{{{name}}}", value)
        if "{" in address:
            continue
        for method in methods:
            answer = enter("OLDQUAY").request(
                method, address, params={"month": "2026-10", "day": "2026-10-05"}, json={}
            )
            tried += 1
            assert answer.status_code in (404, 403, 422, 405), (method, path, answer.text)
            assert "Marrow" not in answer.text, (method, path)
    assert tried > 8


def test_a_key_of_the_log_is_kept_outside_the_database(demo: Database) -> None:
    key = Path(demo.settings.home) / "log.key"
    assert key.exists() and key.stat().st_mode & 0o077 == 0
