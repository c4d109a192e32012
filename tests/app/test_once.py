"""A change happens once for its key: asked again, at the same moment, with another body, and when COMMIT is lost."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from datetime import timedelta
from typing import Any

import MySQLdb
import pytest
import sqlalchemy as sa
from fastapi.testclient import TestClient

from fair_ladle.app.people_admin import joining
from fair_ladle.app.people_admin.joining import NewPerson
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import Database, Opening, OutcomeUnknown, Transaction
from fair_ladle.app.plumbing.once import KEPT, KeyedDatabase, Replayed, RequestKey, happens_once
from fair_ladle.app.plumbing.problems import KeptRefusal, Problem, Refused, invalid
from fair_ladle.app.sign_in import usecases as sign_in
from fair_ladle.main import create_app

PASSWORD = "correct-ferry-staple"
PERSON = {"account": "OLDQUAY-CREW", "display_name": "Twice Probe", "invite": False}


@pytest.fixture
def client(demo: Database) -> Iterator[TestClient]:
    demo.run(sign_in.give_sign_in, COMMAND_LINE, "admin@x.example", "Maren", "OLDQUAY", PASSWORD)
    with TestClient(create_app(demo, jobs_beside=True)) as client:
        client.post("/api/sign-in", json={"email": "admin@x.example", "password": PASSWORD}).raise_for_status()
        client.headers["X-CSRF-Token"] = client.get("/api/me").json()["csrf_token"]
        yield client


def probes(database: Database) -> int:
    with database.engine.connect() as connection:
        return int(connection.scalar(sa.text("SELECT COUNT(*) FROM people WHERE display_name = 'Twice Probe'")) or 0)


def test_the_same_key_gives_the_same_answer_and_another_body_is_refused(client: TestClient, demo: Database) -> None:
    def add(key: str, **other: Any) -> Any:
        return client.post("/api/people", json=PERSON | other, headers={"Idempotency-Key": key})

    first, again = add("k1"), add("k1")
    assert (first.status_code, first.json()) == (again.status_code, again.json()) == (201, {"username": "twice.probe"})
    other = add("k1", display_name="Somebody Else")
    assert (other.status_code, other.json()["where"]) == (422, "Idempotency-Key")
    for wrong in ("", "k" * 129):
        assert (add(wrong).status_code, add(wrong).json()["where"]) == (422, "Idempotency-Key")
    refused = add("k2", account="TERN")
    assert refused.status_code == 404 and add("k2", account="OLDQUAY").status_code == 201, "a refusal keeps no key"
    assert probes(demo) == 2


def test_the_same_key_at_the_same_moment_waits_and_happens_once(client: TestClient, demo: Database) -> None:
    def add(_: int) -> Any:
        return client.post("/api/people", json=PERSON, headers={"Idempotency-Key": "at once"})

    with ThreadPoolExecutor(8) as threads:
        answers = list(threads.map(add, range(8)))
    assert {(each.status_code, each.json().get("username")) for each in answers} == {(201, "twice.probe")}
    assert probes(demo) == 1


@pytest.mark.parametrize("kept", [True, False])
def test_a_lost_commit_is_looked_up_and_never_guessed(
    client: TestClient, demo: Database, monkeypatch: pytest.MonkeyPatch, kept: bool
) -> None:
    """The connection breaks in COMMIT, after the server has kept it or before."""
    real, lost = Opening.commit, threading.Event()

    def commit(self: Opening) -> None:
        if lost.is_set() or self._transaction is None:
            return real(self)
        written = self.transaction().connection.scalar(
            sa.text("SELECT COUNT(*) FROM people WHERE display_name = 'Twice Probe'")
        )
        if not written:
            return real(self)
        lost.set()
        if kept:
            real(self)
        else:
            self.undo()
        raise sa.exc.OperationalError("COMMIT", None, Exception(2013, "Lost connection"), connection_invalidated=True)

    monkeypatch.setattr(Opening, "commit", commit)
    answer = client.post("/api/people", json=PERSON, headers={"Idempotency-Key": "lost"})
    assert lost.is_set() and (answer.status_code, answer.json()) == (201, {"username": "twice.probe"})
    assert probes(demo) == 1
    without_key = client.post("/api/people", json=PERSON | {"display_name": "Without Key"})
    assert without_key.status_code == 201, "a request without a key gets one of its own"


def test_without_a_key_a_lost_commit_is_said_to_be_unknown(demo: Database, monkeypatch: pytest.MonkeyPatch) -> None:
    def commit(self: Opening) -> None:
        self.undo()
        raise sa.exc.OperationalError("COMMIT", None, Exception(2013, "Lost connection"))

    monkeypatch.setattr(Opening, "commit", commit)
    with pytest.raises(OutcomeUnknown):
        demo.run(joining.add, COMMAND_LINE, NewPerson("OLDQUAY-CREW", "Twice Probe", invite=False))


def test_a_refusal_stays_one_where_a_cluster_undid_its_transaction_first(
    client: TestClient, demo: Database, monkeypatch: pytest.MonkeyPatch
) -> None:
    """On a cluster the ROLLBACK after a refusal, and the COMMIT of what a refusal keeps, may be told of a conflict."""
    dialect, conflict = demo.engine.dialect, MySQLdb.OperationalError(1213, "Deadlock found when trying to get lock")

    def first_fails(real: Callable[[Any], None]) -> Callable[[Any], None]:
        troubles = iter([conflict])

        def done(connection: Any) -> None:
            real(connection)
            for trouble in troubles:
                raise trouble

        return done

    monkeypatch.setattr(dialect, "do_rollback", first_fails(dialect.do_rollback))
    refused = client.post("/api/people", json=PERSON | {"account": "TERN"}, headers={"Idempotency-Key": "undone"})
    assert refused.status_code == 404

    def refuses(tx: Transaction) -> None:
        raise KeptRefusal(Problem("probe", "Probe", 409, "No."))

    monkeypatch.setattr(dialect, "do_commit", first_fails(dialect.do_commit))
    with pytest.raises(KeptRefusal):
        demo.run(refuses)


def test_a_server_that_takes_no_more_connections_is_asked_again(demo: Database) -> None:
    demo.engine.dispose()
    refusals = iter([MySQLdb.OperationalError(1040, "Too many connections")] * 2)

    @sa.event.listens_for(demo.engine, "do_connect")
    def full(*_: object) -> None:
        for refusal in refusals:
            raise refusal

    demo.run(joining.add, COMMAND_LINE, NewPerson("OLDQUAY-CREW", "Twice Probe", invite=False))
    assert probes(demo) == 1


def test_what_happened_is_answered_though_it_would_be_refused_by_now(demo: Database) -> None:
    key = RequestKey("s1", "again", "what was asked")

    def refuses(db: KeyedDatabase) -> str:
        db.transaction()  # and asks nothing of it
        raise invalid("No.", "what")

    with pytest.raises(Refused):
        happens_once(demo, lambda opening: key, refuses, str)
    assert happens_once(demo, lambda opening: key, lambda db: db.run(lambda tx: "done"), str) == "done", (
        "a refusal keeps no key"
    )
    assert happens_once(demo, lambda opening: key, refuses, str) == Replayed("done")
    demo.clock.shift += KEPT + timedelta(minutes=1)
    assert happens_once(demo, lambda opening: key, lambda db: db.run(lambda tx: "anew"), str) == "anew"
    assert happens_once(demo, lambda opening: key, refuses, str) == Replayed("anew")


def test_a_secret_is_shown_once_and_kept_nowhere(client: TestClient, demo: Database) -> None:
    def make() -> Any:
        body = {"account": "OLDQUAY", "product": "WATCHGLASS", "name": "Tills"}
        return client.post("/api/devices/keys", json=body, headers={"Idempotency-Key": "secret"})

    made, again = make(), make()
    assert made.status_code == 201 and again.status_code == 409 and "not kept" in again.json()["detail"]
    with demo.engine.connect() as connection:
        assert connection.execute(sa.text("SELECT answer FROM request_keys WHERE `key` = 'secret'")).scalar() is None


def test_uploads_and_routes_without_an_actor_take_keys_too(client: TestClient, demo: Database) -> None:
    def upload() -> Any:
        return client.post(
            "/api/people-imports?name=p.csv", content=b"name\nTwice Probe\n", headers={"Idempotency-Key": "up"}
        )

    assert upload().json()["id"] == upload().json()["id"]
    key = client.post("/api/devices/keys", json={"account": "OLDQUAY", "product": "WATCHGLASS", "name": "Tills"})
    body = {"key": key.json()["key"], "machine": "till-77", "name": "Till"}
    first, second = (
        client.post("/api/public/devices/activate", json=body, headers={"Idempotency-Key": "dev"}) for _ in range(2)
    )
    assert first.status_code == 200 and second.status_code == 409 and "token" not in second.text


def test_a_violated_constraint_names_its_field(demo: Database) -> None:
    row = "INSERT INTO people (account_id, username, display_name, status, protected) SELECT account_id, "

    def twice(tx: Any) -> None:
        tx.connection.execute(sa.text(row + "username, 'x', 'active', 0 FROM people LIMIT 1"))

    def too_long(tx: Any) -> None:
        tx.connection.execute(sa.text(row + "'new', REPEAT('x', 300), 'active', 0 FROM people LIMIT 1"))

    for wrong, status, where in ((twice, 409, "username"), (too_long, 422, "display_name")):
        with pytest.raises(Exception) as refused:
            demo.run(wrong)
        problem = refused.value.problem  # type: ignore[attr-defined]
        assert (problem.status, problem.more["where"]) == (status, where), problem
