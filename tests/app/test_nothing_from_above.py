"""Of what lies above an account and beside it nothing is told below: whatever happens there, every answer that an admin
gets here, and what would come of what they might do, stays letter for letter the same."""

from __future__ import annotations

import itertools
import re
from collections.abc import Collection
from typing import Any

from fastapi.testclient import TestClient

from fair_ladle.app.allocations import views
from fair_ladle.app.assignments import service as assignments
from fair_ladle.app.devices import usecases as devices
from fair_ladle.app.drafts.change_types import AllocationChange, Change, NewAccount, NewLot, StatusChange, Terms
from fair_ladle.app.drafts.preview import apply_changes
from fair_ladle.app.drafts.reversing import terms_of
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.pools import service as pools
from fair_ladle.app.sign_in import usecases as sign_in
from fair_ladle.main import create_app

MINE, BELOW, PASSWORD = "OLDQUAY", "OLDQUAY-CREW", "correct-ferry-staple"
PRODUCTS = ["FIELD-CORE", "WATCHGLASS", "DEEPSHELF"]
ASKED = {
    "account": [MINE, BELOW],
    "buyer": [MINE],
    "seller": [MINE],
    "owner": [MINE],
    "product": PRODUCTS,
    "month": ["2026-11"],
    "day": ["2026-10-05"],
    "on": ["2026-11-01"],
    "from": ["2026-09-01"],
    "until": ["2026-10-31"],
    "first_day": ["2027-01-01"],
    "code": ["OLDQUAY-LEADS"],
    "username": ["lev.birch2"],
    "name": ["lev.birch2"],
    "what": ["people", "categories"],
    "table": ["charges", "discounts"],
    "currency": ["EUR"],
    "more": ["5"],
    "units": ["5"],
    "quantity": ["5"],
}
INSTANT = re.compile(r"\d{4}-\d\d-\d\d[T ]\d\d:\d\d:\d\d[.\d]*(Z|[+-]\d\d:?\d\d)?")


def tried() -> list[tuple[str, Any]]:
    """What an admin might do, looked at before."""
    found: list[tuple[str, Any]] = [("/api/allocations/rows", {"all_open": True})]
    for account, product in itertools.product((MINE, BELOW), PRODUCTS):
        cell = {"account": account, "product": product}
        draft = {"kind": "allocation", **cell, "terms": {"reserve": 3, "cap": 5000}, "seen": None, "was": None}
        found += [
            ("/api/people/preview", {"act": "assign", "product": product, "people": {"account": account}}),
            ("/api/people/preview", {"act": "reserve", "product": product, "people": {"account": account}}),
            ("/api/drafts/preview", {"changes": [draft], "look_at": cell}),
            ("/api/entitlements/preview", cell),
            ("/api/storage/preview", cell | {"limit": 5000}),
            ("/api/public/storage/may-write", {"account": account, "category": "x", "bytes": 10**9}),
        ]
    ways = ("even", "people", "use", "reserve", "max-min", "need")
    for product, way, amount in itertools.product(PRODUCTS[::2], ways, (10, None)):
        accounts = [{"account": each} for each in (BELOW, "OLDQUAY-HARBOUR")]
        share = {"product": product, "way": way, "amount": amount, "as_what": "cap", "draft": None}
        found.append(("/api/drafts/share-out", share | {"accounts": accounts}))
    return found


def answers(client: TestClient, key: str, but: Collection[str] = ()) -> dict[str, str]:
    """Every answer to who looks (but at these), and to what is only tried, without the instants in it."""
    found: dict[str, str] = {}
    for path, methods in client.app.openapi()["paths"].items():  # type: ignore[attr-defined]
        named = [
            (each["name"], each["in"])
            for each in methods.get("get", {}).get("parameters", [])
            if each["in"] != "header" and (each.get("required") or each["name"] in ("product", "account", "month"))
        ]
        if "get" not in methods or path in but or any(name not in ASKED for name, _ in named):
            continue
        for values in itertools.product(*(ASKED[name] for name, _ in named)):
            address, query = path, {}
            for (name, where), value in zip(named, values, strict=True):
                address = address.replace(f"{{{name}}}", value)
                query |= {name: value} if where == "query" else {}
            answer = client.get(address, params=query)
            found[f"{address} {query}"] = f"{answer.status_code} {answer.text}"
    for path, body in tried():
        headers = {"Authorization": f"Bearer {key}"} if "public" in path else {}
        answer = client.post(path, json=body, headers=headers)
        found[f"{path} {body}"] = f"{answer.status_code} {answer.text}"
    return {asked: INSTANT.sub("then", said) for asked, said in found.items()}


def test_what_happens_above_and_beside_changes_no_answer(demo: Database) -> None:
    def change(*changes: Change) -> None:
        demo.run(apply_changes, COMMAND_LINE, list(changes), "a test")

    def allocate(account: str, product: str, terms: Terms) -> None:
        with demo.transaction() as tx:
            version = views.cell(tx, COMMAND_LINE, account, product).version
        seen, was = version.id if version else None, terms_of(version)
        change(AllocationChange(account=account, product=product, terms=terms, seen=seen, was=was))

    demo.run(sign_in.give_sign_in, COMMAND_LINE, "oq@x.example", "Oq", MINE, PASSWORD)
    key = demo.run(devices.make_key, COMMAND_LINE, MINE, "DEEPSHELF", "ours")[1]
    for product in PRODUCTS:  # what is above limits, and nothing of their own
        allocate(MINE, product, Terms(reserve=5))
    demo.run(assignments.rebuild_stale)
    with TestClient(create_app(demo, jobs_beside=True)) as client:
        client.post("/api/sign-in", json={"email": "oq@x.example", "password": PASSWORD}).raise_for_status()
        client.headers["X-CSRF-Token"] = client.get("/api/me").json()["csrf_token"]
        first = answers(client, key)
        refused = [asked.split(" {")[0] for asked, said in first.items() if said.startswith("403")]
        before = answers(client, key, refused)  # what is refused stands in the log
        assert sum(each.startswith("200") for each in before.values()) > 200
        today = demo.clock.now().date().isoformat()
        with demo.transaction() as tx:
            products = [each.code for each in pools.products(tx)]
        for product in products:
            more = {"reference": "MORE", "quantity": 7777, "first_day": today, "unit_cost": 1, "currency": "EUR"}
            change(NewLot(owner="GANNET", product=product, **more))
            allocate("TERN", product, Terms(reserve=300))
        change(NewAccount(code="NEWONE", parent="GANNET", name="New One", account_kind="client"))
        change(StatusChange(account="TERN", status="suspended"))
        demo.run(devices.make_key, COMMAND_LINE, "MARROW", "WATCHGLASS", "theirs")
        demo.run(sign_in.give_sign_in, COMMAND_LINE, "mw@x.example", "Mw", "MARROW", PASSWORD)
        demo.run(assignments.rebuild_stale)
        then = answers(client, key, refused)
    assert {asked: (said, then[asked]) for asked, said in before.items() if said != then[asked]} == {}
