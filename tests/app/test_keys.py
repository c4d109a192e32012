"""Keys for programs, second factors that are required, and addresses that are tried from everywhere."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta
from typing import Any

import pyotp
import pytest
import sqlalchemy as sa
from cryptography.fernet import Fernet
from fastapi.testclient import TestClient

from fair_ladle.app.people_admin import joining, listing
from fair_ladle.app.people_admin.joining import NewPerson
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.limits import Ceiling, Limits
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.plumbing.sealing import unseal
from fair_ladle.app.sign_in import delegating, keys, usecases
from tests.app.test_delegations import TODAY, delegation_of, given
from tests.app.test_setup import PASSWORD, enter, mails, token_in

WEEK = TODAY + timedelta(7)


def with_key(app: TestClient, key: str) -> TestClient:
    client = TestClient(app.app, raise_server_exceptions=False)
    client.headers["Authorization"] = f"Bearer {key}"
    return client


def signs_in(database: Database, app: TestClient, account: str = "OLDQUAY", **more: Any) -> tuple[Actor, TestClient]:
    who = given(database, COMMAND_LINE, account, **more)
    database.run(usecases.give_sign_in, COMMAND_LINE, who.email, who.name, account, PASSWORD)
    return who, enter(app, who.email, PASSWORD)


def test_a_key_does_what_its_delegation_lets_it_and_no_more(app: TestClient, demo: Database) -> None:
    who, client = signs_in(demo, app, passes_on=True, limits=Limits(ceilings={"LANTERN-MAIL": Ceiling(at_once=1)}))
    made = client.post(
        "/api/keys", json={"name": "Reports", "last_day": str(WEEK), "permissions": None, "current": PASSWORD}
    )
    assert made.status_code == 201, made.text
    key = made.json()["key"]
    program = with_key(app, key)
    assert program.get("/api/people?limit=1").status_code == 200
    assert program.get("/api/accounts/TERN").status_code == 404
    two = [{"account": "OLDQUAY", "product": "LANTERN-MAIL", "subject": each} for each in ("a", "b")]
    assert program.post("/api/assignments", json={"units": two}).json()["type"] == "urn:fair-ladle:above-ceiling"
    for path in ("/api/keys", "/api/own"):
        assert program.get(path).json()["detail"] == "A key is not for this; sign in."
    [listed] = client.get("/api/keys").json()["keys"]
    assert (listed["ending"], listed["last_origin"]) == (key[-4:], "testclient") and listed["last_used"]
    with demo.engine.connect() as connection:
        assert key not in str(connection.execute(sa.text("SELECT * FROM api_keys")).all())

    narrow = client.post(
        "/api/keys", json={"name": "N", "last_day": str(WEEK), "permissions": ["people.see"], "current": PASSWORD}
    )
    reads = with_key(app, narrow.json()["key"])
    session_alone = client.post("/api/keys", json={"name": "S", "last_day": str(WEEK), "current": "not it"})
    assert (session_alone.status_code, session_alone.json()["where"]) == (422, "current")
    assert (reads.get("/api/people?limit=1").status_code, reads.get("/api/log").status_code) == (200, 403)

    other = client.post(f"/api/keys/{listed['id']}/replace", json={"last_day": str(WEEK), "current": PASSWORD}).json()[
        "key"
    ]
    assert [with_key(app, each).get("/api/pools").status_code for each in (key, other)] == [200, 200]
    demo.clock.shift += timedelta(days=1, minutes=1)
    assert [with_key(app, each).get("/api/pools").status_code for each in (key, other)] == [401, 200]
    demo.run(delegating.end, COMMAND_LINE, delegation_of(demo, who))
    demo.clock.shift += timedelta(minutes=1)
    for _ in range(3):
        assert with_key(app, other).get("/api/pools").status_code == 401
    with demo.engine.connect() as connection:
        noted = connection.scalars(sa.text("SELECT subject FROM log_entries WHERE action = 'key refused' ORDER BY id"))
        assert [each[-4:] for each in noted] == [key[-4:], other[-4:]], "once a minute, of a key that was made"


def test_a_key_goes_no_further_than_its_limits_and_its_delegations(demo: Database) -> None:
    who = given(demo, COMMAND_LINE, "OLDQUAY", limits=Limits(ceilings={"DISPATCH": Ceiling(at_once=2)}, caps=False))
    wide = Limits(
        frozenset({"DISPATCH", "LANTERN-MAIL"}), {"DISPATCH": Ceiling(at_once=9, in_all=30)}, caps=True, rules=False
    )
    found = demo.run(keys.actor_of, demo.run(keys.make, who, "Till", WEEK, None, wide), "here")
    assert found is not None
    assert found.limits == Limits(wide.products, {"DISPATCH": Ceiling(at_once=2, in_all=30)}, caps=False, rules=False)
    with pytest.raises(Refused, match="There is no product 'NOTHING' here"):
        demo.run(keys.make, who, "Odd", WEEK, None, Limits(products=frozenset({"NOTHING"})))


def test_a_second_factors_secret_is_sealed_in_the_database(app: TestClient, demo: Database) -> None:
    who, client = signs_in(demo, app)
    refused = client.post("/api/own/second-factor", json={"current": "not it"})
    assert (refused.status_code, refused.json()["where"]) == (422, "current")
    secret = client.post("/api/own/second-factor", json={"current": PASSWORD}).json()["secret"]
    with demo.engine.connect() as connection:
        kept = connection.scalar(
            sa.text("SELECT secret FROM second_factors WHERE sign_in_id = :id"), {"id": who.sign_in_id}
        )
    assert kept.startswith("sealed:") and secret not in kept
    assert unseal(demo.settings, kept) == secret
    assert unseal(replace(demo.settings, secret_key=Fernet.generate_key().decode()), kept) is None
    assert (demo.settings.home / "secret.key").stat().st_mode & 0o077 == 0


def test_what_is_shown_once_cannot_be_guessed(app: TestClient, demo: Database) -> None:
    """Keys, sessions, their tokens and links: 192 bits at least, none like another."""
    who, client = signs_in(demo, app)
    cookies = [each.value or "" for each in client.cookies.jar]
    made = [demo.run(keys.make, who, "K", WEEK, None).removeprefix(keys.BEGINS) for _ in range(5)]
    links = [token_in(each) for each in mails(demo, who.email) if "/password/" in each]
    shown = [*cookies, client.headers["X-CSRF-Token"], *made, *links]
    assert len(shown) >= 8 and all(len(each) * 6 >= 192 for each in shown) and len(set(shown)) == len(shown)


def test_a_key_asks_so_often_a_minute(app: TestClient, demo: Database, monkeypatch: pytest.MonkeyPatch) -> None:
    who = given(demo, COMMAND_LINE, "OLDQUAY")
    program = with_key(app, demo.run(keys.make, who, "Busy", WEEK, None))
    monkeypatch.setattr(keys, "MOST_A_MINUTE", 3)
    codes = [program.get("/api/pools").status_code for _ in range(5)]
    assert codes[:3] == [200] * 3 and set(codes[3:]) <= {200, 429} and 429 in codes
    assert 0 < int(program.get("/api/pools").headers["Retry-After"]) <= 60


def test_no_key_lasts_longer_or_may_more_than_who_makes_it(demo: Database) -> None:
    who = given(demo, COMMAND_LINE, "OLDQUAY", "desk", last_day=WEEK)
    for last_day, permissions, says in (
        (WEEK + timedelta(1), None, "ends on"),
        (TODAY - timedelta(1), None, "from today"),
        (TODAY + timedelta(400), None, "from today"),
        (WEEK, ["log.see"], "does not let you read the log"),
        (WEEK, ["emperor"], "Name one or more"),
        (WEEK, [], "Name one or more"),
    ):
        with pytest.raises(Refused, match=says):
            demo.run(keys.make, who, "K", last_day, permissions)
    for number in range(keys.MOST_KEYS):
        demo.run(keys.make, who, f"K{number}", WEEK, None)
    with pytest.raises(Refused, match="at most 20 keys"):
        demo.run(keys.make, who, "K", WEEK, None)
    other = given(demo, COMMAND_LINE, "OLDQUAY")
    mine = demo.run(keys.keys, who)[0]
    for act in (lambda: demo.run(keys.end, other, mine.id), lambda: demo.run(keys.replace, other, mine.id, WEEK)):
        with pytest.raises(Refused, match="There is no key"):
            act()


def test_who_lacks_a_required_second_factor_can_only_set_it_up(app: TestClient, demo: Database) -> None:
    who, client = signs_in(demo, app)
    key = client.post(
        "/api/keys", json={"name": "K", "last_day": str(WEEK), "permissions": None, "current": PASSWORD}
    ).json()["key"]
    assert client.get("/api/people?limit=1").status_code == 200
    demo.run(delegating.require_second_factor, COMMAND_LINE, "GANNET", "steward", True)
    assert client.get("/api/people?limit=1").status_code == 200
    demo.run(delegating.require_second_factor, COMMAND_LINE, "GANNET", None, True)
    for asks in (client, with_key(app, key)):
        answer = asks.get("/api/people?limit=1")
        assert (answer.status_code, answer.json()["type"]) == (403, "urn:fair-ladle:second-factor-required")
    assert client.get("/api/me").json()["lacks_second_factor"] is True
    secret = client.post("/api/own/second-factor", json={"current": PASSWORD}).json()["secret"]
    now = demo.clock.now().timestamp()
    client.post("/api/own/second-factor/confirm", json={"code": pyotp.TOTP(secret).at(int(now))})
    assert client.get("/api/people?limit=1").status_code == 200
    assert with_key(app, key).get("/api/pools").status_code == 200
    refused = client.post("/api/own/second-factor/end", json={"current": PASSWORD})
    assert (refused.status_code, "requires" in refused.json()["detail"]) == (409, True)


def test_an_address_tried_from_everywhere_stays_open_to_its_owner(demo: Database, app: TestClient) -> None:
    who, _ = signs_in(demo, app)
    for number in range(40):
        with pytest.raises(Refused):
            usecases.sign_in(demo, who.email, "wrong wrong wrong", f"10.0.0.{number}")
    with pytest.raises(Refused, match="Too many tries"):
        usecases.sign_in(demo, who.email, PASSWORD, "10.9.9.9")
    new = NewPerson("OLDQUAY", "Who", who.email, username="who")
    demo.run(joining.add, COMMAND_LINE, new)
    desk = given(demo, COMMAND_LINE, "OLDQUAY", "desk")
    demo.run(listing.unlock, desk, "who")
    assert usecases.sign_in(demo, who.email, PASSWORD, "10.9.9.8").token, "the service desk lets them try again"
    with pytest.raises(Refused, match="There is no person"):
        demo.run(listing.unlock, given(demo, COMMAND_LINE, "TERN", "desk"), "who")
    for number in range(40):
        with pytest.raises(Refused):
            usecases.sign_in(demo, who.email, "wrong wrong wrong", f"10.0.1.{number}")
    assert usecases.sign_in(demo, who.email, PASSWORD, "testclient").token, "where they are signed in it stays open"
    demo.run(usecases.forgotten, who.email, "10.9.9.9")
    usecases.set_password(
        demo,
        token_in([each for each in mails(demo, who.email) if "/password/" in each][-1]),
        "another-long-passphrase-7",
        "10.9.9.9",
    )
    assert usecases.sign_in(demo, who.email, "another-long-passphrase-7", "10.9.9.9").token
