"""Every route of the OpenAPI document: who may ask it what, and that nothing sent to it ends in a server's error."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterator
from datetime import date
from typing import Any

import pytest
import schemathesis
import sqlalchemy as sa
from fastapi.testclient import TestClient
from hypothesis import HealthCheck, Phase, given, settings

from fair_ladle.app.devices import usecases as devices
from fair_ladle.app.drafts import usecases as drafts
from fair_ladle.app.drafts.change_types import UnitsChange
from fair_ladle.app.people_admin import groups
from fair_ladle.app.people_admin.listing import Asked, listing
from fair_ladle.app.people_import import usecases as people_import
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.permissions import ROLES
from fair_ladle.app.pools import service as pools
from fair_ladle.app.reclaim import usecases as reclaim
from fair_ladle.app.requests import usecases as requests
from fair_ladle.app.sign_in import keys as api_keys
from fair_ladle.app.sign_in import roles
from fair_ladle.app.sign_in import service as sign_in_service
from fair_ladle.app.sign_in import usecases as sign_in
from fair_ladle.main import create_app
from tests import statements
from tests.conftest import actor_of

PASSWORD = "correct-ferry-staple"
THEIRS, OTHER, BELOW, BESIDE = "OLDQUAY", "MARROW", "OLDQUAY-CREW", "OLDQUAY-ISLAND"
OPEN = {
    "/api/installation",
    "/api/passwords",
    "/api/passwords/{token}",
    "/api/setup",
    "/api/setup/{token}",
    "/api/sign-in",
    "/api/sign-out",
    "/api/me",
    "/api/joining",
    "/api/joining/{token}",
    "/api/invitations/{token}",
    "/api/keep/{token}",
    "/api/calendar/{token}.ics",
}
"""Routes for whoever is not signed in; besides them those of clients, which show a key or a token."""
EXAMPLES = int(os.environ.get("FAIR_LADLE_FUZZ", "2"))
"""Calls generated of each route; more of them find more than a check has time for."""
MONTH, DAY, INSTANT = "2026-10", "2026-11-24", "2026-11-24T10:00:00Z"
Facts = dict[str, Any]


@pytest.fixture(scope="module")
def database(new_demo: Callable[[], Database]) -> Database:
    found = new_demo()
    for account in (THEIRS, OTHER, BELOW, BESIDE, "GANNET"):
        found.run(sign_in.give_sign_in, COMMAND_LINE, f"{account.lower()}@x.example", account, account, PASSWORD)
    return found


@pytest.fixture(scope="module")
def app(database: Database) -> TestClient:
    """Without its lifespan: no job runs beside the calls."""
    made = create_app(database)
    made.state.database = database
    return TestClient(made)


def enter(app: TestClient, account: str) -> TestClient:
    client = TestClient(app.app, raise_server_exceptions=False)
    body = {"email": f"{account.lower()}@x.example", "password": PASSWORD}
    client.post("/api/sign-in", json=body).raise_for_status()
    client.headers["X-CSRF-Token"] = client.get("/api/me").json()["csrf_token"]
    return client


@pytest.fixture(scope="module")
def theirs(database: Database) -> Facts:
    return things_of(database, THEIRS)


@pytest.fixture(scope="module")
def a_departments(database: Database) -> Facts:
    return things_of(database, BELOW)


def things_of(database: Database, account: str) -> Facts:
    """Things that are one account's: a person, a group, a draft, a request, a policy and so on."""
    email = f"{account.lower()}@x.example"
    person = database.run(lambda tx: sign_in_service.find_by_email(tx, email))
    actor = database.run(lambda tx: sign_in_service.actor_for(tx, person.id, account))
    assert actor is not None
    asked_of = Asked(account=account, product="LANTERN-MAIL")
    username = database.run(listing, actor_of(account), asked_of, "username", False, 0, 1).rows[0].person.username
    change = UnitsChange(account=account, product="LANTERN-MAIL", subjects=(username,), give=False)
    draft = database.run(drafts.edit, actor, None, 0, [change])
    asked = database.run(requests.ask, actor, account, "LANTERN-MAIL", 5, "cap", "growing", None)
    policy = reclaim.Policy(account, "Unseen", "unseen", 60, (), (), 0, "report", False)
    policy_id = database.run(reclaim.put, actor, None, policy)
    database.run(reclaim.run, actor, policy_id)
    group = f"{account}-SEEN"
    database.run(groups.put, actor, groups.GroupTerms(account, group, "Seen", None, (username,), None))
    device = next(each for each in database.run(pools.products) if each.measure == "device")
    key_id, _ = database.run(devices.make_key, actor, account, device.code, "Till")
    with database.engine.connect() as connection:
        run_id = connection.scalar(sa.text("SELECT MAX(id) FROM reclaim_runs"))
        notice_id = connection.scalar(sa.text("SELECT MAX(id) FROM notices"))
    database.run(api_keys.make, actor, "Program", date.fromisoformat(DAY), None)
    [made] = database.run(api_keys.keys, actor)
    return {
        "account": account,
        "username": username,
        "group": group,
        "draft_id": draft.row.id,
        "request_id": asked.row.id,
        "policy_id": policy_id,
        "run_id": run_id,
        "import_id": database.run(people_import.receive, actor, "new.csv", b"name,email\nIda,ida@x.example\n"),
        "key_id": key_id,
        "api_key_id": made.id,
        "delegation_id": actor.delegation_id,
        "role_id": database.run(roles.put, actor, None, f"Readers of {account}", ["people.see"]),
        "ids": notice_id,
    }


NOTHING: Facts = {
    "account": "NOWHERE",
    "username": "no.body",
    "group": "NO-GROUP",
    "draft_id": 987654,
    "request_id": 987654,
    "policy_id": 987654,
    "run_id": 987654,
    "import_id": 987654,
    "key_id": 987654,
    "api_key_id": 987654,
    "delegation_id": 987654,
    "role_id": 987654,
    "ids": 987654,
}
CALLED = {
    **dict.fromkeys(("account", "owner", "buyer", "to_account", "under", "parent"), "account"),
    **dict.fromkeys(("username", "subject", "usernames", "names", "members", "add", "take"), "username"),
    **dict.fromkeys(("group", "code"), "group"),
    **{
        name: name
        for name in ("draft_id", "request_id", "policy_id", "run_id", "import_id", "delegation_id", "role_id")
    },
    **{name: name for name in ("key_id", "api_key_id", "ids")},
    "draft": "draft_id",
}
PLAIN: Facts = {
    "product": "LANTERN-MAIL",
    "month": MONTH,
    "day": DAY,
    "first_day": DAY,
    "form": "csv",
    "kind": "allocation",
    "filter": 'userName eq "x"',
    "email": "ida@x.example",
    "name": "Some name",
    "form_": "csv",
}


def example(schema: Facts, whole: Facts, name: str, facts: Facts) -> Any:
    """A value a schema allows, with the facts where the name calls for one."""
    if "$ref" in schema:
        schema = whole["components"]["schemas"][schema["$ref"].rsplit("/", 1)[1]]
    for union in ("anyOf", "oneOf"):
        if union in schema:
            return example(schema[union][0], whole, name, facts)
    kind = schema.get("type")
    if kind == "object" or "properties" in schema:
        needed = set(schema.get("required", ()))
        return {
            key: example(each, whole, key, facts)
            for key, each in schema.get("properties", {}).items()
            if key in needed or key in CALLED
        }
    if kind == "array":
        return [example(schema.get("items", {}), whole, name, facts)]
    if name in CALLED:
        return facts[CALLED[name]]
    if "enum" in schema or "const" in schema:
        return schema.get("const", (schema.get("enum") or [None])[0])
    if name in PLAIN:
        return PLAIN[name]
    if kind in ("integer", "number"):
        return int(schema.get("minimum", 1))
    if kind == "boolean":
        return False
    return {"date": DAY, "date-time": INSTANT}.get(schema.get("format", ""), "x" * max(1, schema.get("minLength", 1)))


def calls(document: Facts) -> Iterator[tuple[str, str, Facts]]:
    for path, methods in document["paths"].items():
        for method, operation in methods.items():
            yield method, path, operation


def ask(client: TestClient, document: Facts, method: str, path: str, operation: Facts, facts: Facts) -> Any:
    """The answer to one call that names these facts; ``told`` is its status and its words without those names."""
    query: Facts = {}
    for each in operation.get("parameters", []):
        optional = not each["required"] and each["name"] not in CALLED
        if each["in"] in ("header", "cookie") or optional:
            continue
        value = example(each["schema"], document, each["name"], facts)
        if each["in"] == "path":
            path = path.replace(f"{{{each['name']}}}", str(value))
        else:
            query[each["name"]] = value
    content = operation.get("requestBody", {}).get("content", {})
    body = (
        example(content["application/json"]["schema"], document, "", facts) if "application/json" in content else None
    )
    return client.request(method, path, params=query, json=body)


def heard_asking(*asked: Any) -> tuple[Any, list[str]]:
    """The answer to a call, and the statements it was made of."""
    with statements.hearing() as heard:
        answer = ask(*asked)
    return answer, heard


def told(answer: Any, facts: Facts) -> tuple[int, str]:
    """The status of an answer, and its words without the names that were sent."""
    sent = f"{answer.request.url} {answer.request.content.decode()}"
    text = re.sub(r"/calendar/[\w-]+|flk_[\w-]+|\d{4}-\d\d-\d\dT[\d:.]+(?:\+00:00|Z)", "@", answer.text)
    for each in facts.values():
        whole = rf"(?<![\w.-]){re.escape(str(each))}(?![\w-])"
        if re.search(whole, sent):
            text = re.sub(whole, "·", text)
    return answer.status_code, text


def test_nobody_gets_an_answer_but_of_what_is_open(app: TestClient, theirs: Facts) -> None:
    document = app.app.openapi()  # type: ignore[attr-defined]
    nobody = TestClient(app.app, raise_server_exceptions=False)
    opened = {
        path
        for method, path, operation in calls(document)
        if ask(nobody, document, method, path, operation, theirs).status_code != 401
    }
    assert {each for each in opened if not each.startswith("/api/public/")} <= OPEN | {"/api/demo/mail"}


@pytest.mark.parametrize("account", [OTHER, BELOW, BESIDE])
@pytest.mark.parametrize("role", ROLES if os.environ.get("FAIR_LADLE_SEARCHES") else ["admin"])
def test_what_is_anothers_answers_like_what_is_not_there(
    app: TestClient, database: Database, request: pytest.FixtureRequest, account: str, role: str
) -> None:
    """A client beside, a department below, and a department beside that: the same status, the same words but for the
    names they sent, and the same statements."""
    theirs: Facts = request.getfixturevalue("a_departments" if account == BESIDE else "theirs")
    document = app.app.openapi()  # type: ignore[attr-defined]
    who = f"{account}-{role}" if role != "admin" else account
    if role != "admin":
        database.run(sign_in.give_sign_in, COMMAND_LINE, f"{who.lower()}@x.example", who, account, PASSWORD)
        with database.transaction() as tx:
            tx.connection.execute(
                sa.text(
                    "UPDATE delegations SET role = :role WHERE sign_in_id = (SELECT id FROM sign_ins WHERE email = :email)"
                ),
                {"role": role, "email": f"{who.lower()}@x.example"},
            )
    client, owner = enter(app, who), enter(app, theirs["account"])
    differ, errors, holding, good = list[str](), list[Any](), list[str](), 0

    def entries() -> int:
        with database.engine.connect() as connection:
            asked = (
                "SELECT COUNT(*) FROM log_entries e JOIN accounts a ON a.id = e.account_id WHERE a.code = :code AND "
                "e.action <> 'refused'"
            )
            return int(connection.scalar(sa.text(asked), {"code": theirs["account"]}) or 0)

    before = entries()
    for method, path, operation in calls(document):
        if (
            path in OPEN
            or path in ("/api/sign-out", "/api/demo/mail")
            or path.startswith(("/api/public/", "/api/own", "/api/keys"))
        ):
            continue
        for _ in range(2):  # what was asked first may have kept something
            (here, ran), (nowhere, ran_for_nothing) = (
                heard_asking(client, document, method, path, operation, facts) for facts in (theirs, NOTHING)
            )
            if ran == ran_for_nothing:
                break
        else:
            differ.append(f"{method} {path}: other statements, {len(ran)} and {len(ran_for_nothing)}")
        if here.status_code >= 500:
            errors.append((method, path, here.text[:200]))
        if told(here, theirs) != told(nowhere, NOTHING):
            differ.append(f"{method} {path}: {told(here, theirs)} {told(nowhere, NOTHING)}"[:500])
        if account == OTHER and "Idempotency-Key" not in str(operation.get("parameters", "")):
            with statements.hearing() as heard:
                status = ask(owner, document, method, path, operation, theirs).status_code
            good += status == 200
            if status != 403:  # which is noted
                holding += [f"{method} {path}: {each}" for each in statements.that_hold(heard)]
    assert errors == []
    assert differ == [], "\n".join(differ)
    assert holding == [], "looking holds nobody back"
    assert entries() == before, "nothing of theirs was changed"
    assert good > 35 or account != OTHER, "what was asked is answered to whom it belongs"


def refused_badly(client: TestClient, operation: Any) -> list[str]:
    """What of some generated calls of a route ended in a server's error."""
    failed: list[str] = []

    @given(case=operation.as_strategy())
    @settings(
        max_examples=EXAMPLES,
        derandomize=True,
        database=None,
        phases=[Phase.generate],
        suppress_health_check=list(HealthCheck),
    )
    def send(case: Any) -> None:
        request = case.as_transport_kwargs(base_url="http://testserver")
        request["headers"] = {**dict(request.get("headers") or {}), "X-CSRF-Token": client.headers["X-CSRF-Token"]}
        request.pop("cookies", None)
        if isinstance(request.get("data"), bytes | str):
            request["content"] = request.pop("data")
        answer = client.request(**request)
        if answer.status_code >= 500:
            failed.append(f"{operation.method} {operation.path}: {answer.status_code} {answer.text[:200]}")

    send()
    return failed


def test_nothing_sent_to_a_route_is_a_servers_error(app: TestClient) -> None:
    client = enter(app, "GANNET")
    schema = schemathesis.openapi.from_dict(app.app.openapi())  # type: ignore[attr-defined]
    failed: list[str] = []
    for found in schema.get_all_operations():
        operation = found.ok()
        if operation.path not in ("/api/sign-in", "/api/sign-out"):
            failed += refused_badly(client, operation)
    assert failed == [], "\n".join(failed)
