"""10,000 sessions under one pool: heartbeats over HTTP against the plainest request there is, and lost leases ended."""

from __future__ import annotations

import http.client
import multiprocessing
import socket
import threading
import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta

import sqlalchemy as sa
import uvicorn

from bench.admissions import source
from bench.home import new_database, server
from bench.measured import Measure
from fair_ladle.app.assignments import service as assignment_service
from fair_ladle.app.assignments import usecases as assignments
from fair_ladle.app.data_import import usecases as data_import
from fair_ladle.app.devices import usecases as devices
from fair_ladle.app.devices.usecases import hashed
from fair_ladle.app.leases import usecases
from fair_ladle.app.leases.tables import leases
from fair_ladle.app.people.tables import people
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.jobs import EndLostSessions
from fair_ladle.main import create_app

SESSIONS, CLIENTS, SECONDS = 10_000, 16, 8.0
NEEDED = SESSIONS / usecases.BEAT_SECONDS


def _ready(database: Database) -> str:
    """People of one account, all but one of them at work, and the key they began with."""
    database.run(
        data_import.load,
        COMMAND_LINE,
        source(
            {
                "accounts": (
                    "code,parent,kind,name,currency,time_zone",
                    ["MSP,,operator,Msp,EUR,Europe/Lisbon", "C,MSP,client,Client,,"],
                ),
                "products": ("code,name,measure,unit", ["DESK,Desk,session,session"]),
                "lots": (
                    "reference,owner,product,quantity,first_day,unit_cost",
                    [f"PO-1,MSP,DESK,{SESSIONS},2026-01-01,2.5"],
                ),
            }
        ),
    )
    now = datetime.now(UTC)
    with database.engine.begin() as connection:
        account, product = (
            connection.scalar(sa.text(each))
            for each in ("SELECT id FROM accounts WHERE code = 'C'", "SELECT id FROM products")
        )
        connection.execute(
            sa.insert(people),
            [
                {
                    "account_id": account,
                    "username": f"p{n}",
                    "display_name": f"P {n}",
                    "status": "active",
                    "protected": False,
                }
                for n in range(SESSIONS + 20)
            ],
        )
        ids = dict(connection.execute(sa.select(people.c.username, people.c.id)).all())
        connection.execute(
            sa.text(
                "INSERT INTO assignments (account_id, product_id, subject, begins) VALUES (:a, :p, :s, '2026-02-01')"
            ),
            [{"a": account, "p": product, "s": f"p{n}"} for n in range(SESSIONS - 1)],
        )
        connection.execute(
            sa.insert(leases),
            [
                {
                    "account_id": account,
                    "product_id": product,
                    "person_id": ids[f"p{n}"],
                    "username": f"p{n}",
                    "machine": f"m{n}",
                    "token_hash": hashed(f"t{n}"),
                    "began_at": now,
                    "until": now + timedelta(minutes=3),
                }
                for n in range(SESSIONS - 1)
            ],
        )
    database.run(assignment_service.rebuild_stale)
    return database.run(devices.make_key, COMMAND_LINE, "C", "DESK", "Desks")[1]


def _serve(url: str, port: int) -> None:
    uvicorn.run(create_app(Database(url)), host="127.0.0.1", port=port, log_level="warning", access_log=False)


def _await(port: int) -> None:
    for _ in range(200):
        try:
            socket.create_connection(("127.0.0.1", port)).close()
            return
        except OSError:
            time.sleep(0.1)
    raise AssertionError("the server did not come up")


def _per_second(port: int, ask: Callable[[http.client.HTTPConnection, int], int]) -> float:
    done, until = [0] * CLIENTS, time.perf_counter() + SECONDS

    def client(number: int) -> None:
        connection = http.client.HTTPConnection("127.0.0.1", port)
        while time.perf_counter() < until:
            assert ask(connection, done[number] * CLIENTS + number) == 200
            done[number] += 1

    threads = [threading.Thread(target=client, args=(n,)) for n in range(CLIENTS)]
    for each in threads:
        each.start()
    for each in threads:
        each.join()
    return sum(done) / SECONDS


def _health(connection: http.client.HTTPConnection, number: int) -> int:
    connection.request("GET", "/api/health")
    answer = connection.getresponse()
    answer.read()
    return answer.status


def _beat(connection: http.client.HTTPConnection, number: int) -> int:
    connection.request(
        "POST",
        "/api/public/sessions/beat",
        headers={"Authorization": f"Bearer t{number * 7919 % (SESSIONS - 1)}", "Content-Length": "0"},
    )
    answer = connection.getresponse()
    answer.read()
    return answer.status


def measure() -> list[Measure]:
    """Heartbeats, twenty who want the last unit at once, and everybody's leases lost."""
    with server() as home:
        database = new_database(home)
        key = _ready(database)
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            port = probe.getsockname()[1]
        # A process of its own, as when it serves: else its clients here would wait for the same interpreter.
        running = multiprocessing.get_context("spawn").Process(
            target=_serve, args=(database.engine.url.render_as_string(False), port), daemon=True
        )
        running.start()
        _await(port)
        plain, beats = _per_second(port, _health), _per_second(port, _beat)
        got: list[str] = []

        def begins(number: int) -> None:
            try:
                database.run(usecases.begin, key, f"p{SESSIONS + number}", "desk")
                got.append("begun")
            except Refused:
                got.append("refused")

        threads = [threading.Thread(target=begins, args=(n,)) for n in range(20)]
        for each in threads:
            each.start()
        for each in threads:
            each.join()
        assert got.count("begun") == 1 and database.run(assignments.verify, COMMAND_LINE) == []
        running.terminate()
        running.join()
        database.clock.shift += timedelta(minutes=10)
        begin = time.perf_counter()
        EndLostSessions().run(database, lambda: True)
        lost = time.perf_counter() - begin
        assert (
            database.run(assignments.verify, COMMAND_LINE) == []
            and database.run(usecases.sessions, COMMAND_LINE)[0] == 0
        )
        database.engine.dispose()
    return [
        Measure(
            f"heartbeats a second at {SESSIONS:,} sessions, {CLIENTS} clients",
            f"{beats:.0f}",
            f"as many as {SESSIONS:,} sessions need",
            f"{NEEDED:.0f}",
            f"{beats / NEEDED:.1f}",
        ),
        Measure(
            "heartbeats a second",
            f"{beats:.0f}",
            "the plainest request a second",
            f"{plain:.0f}",
            f"{beats / plain:.2f}",
        ),
        Measure(
            f"{SESSIONS:,} lost leases ended",
            f"{lost:.1f} s",
            "their heartbeats, one each",
            f"{SESSIONS / beats:.1f} s",
            f"{lost * beats / SESSIONS:.2f}",
        ),
    ]
