"""Admissions a second with 1, 8 and 32 clients on one pool, against SQL by hand that locks and writes the same rows,
in process and over HTTP, and against bare transactions over its counters alone."""

from __future__ import annotations

import multiprocessing
import os
import secrets
import time
from collections.abc import Callable
from datetime import UTC, datetime
from functools import partial
from statistics import median
from typing import Any

import sqlalchemy as sa
from fastapi import FastAPI

from bench.home import new_database, server
from bench.measured import Measure
from bench.served import Caller, served
from fair_ladle.app.assignments import service as assignment_service
from fair_ladle.app.assignments import usecases as assignments
from fair_ladle.app.assignments.eligibility import Wanted
from fair_ladle.app.assignments.routes import Assigned, Units
from fair_ladle.app.data_import import usecases as data_import
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.own_server import OwnServer
from fair_ladle.app.sign_in import usecases as sign_in
from fair_ladle.connectors.sheets_in import SheetTable, Source
from fair_ladle.main import create_app

SECONDS, ROUNDS = 2.0, 5
CLIENTS = 1, 8, 32
EMAIL, PASSWORD = "msp@x.example", "only-for-this-measurement"
OPERATOR = Actor("bench", "", "MSP")


def source(tables: dict[str, tuple[str, list[str]]]) -> Source:
    """An intake that is made here: header and rows by table."""
    found = Source()
    for name, (header, rows) in tables.items():
        found.add(
            name, SheetTable(name, header.split(","), ((n, row.split(",")) for n, row in enumerate(rows, start=2)))
        )
    return found


def prepare(database: Database) -> None:
    """32 clients with a department each, below one pool; a reserve at each client, so branches need not meet."""
    accounts = ["MSP,,operator,Msp,EUR,UTC"]
    allocations = []
    for n in range(max(CLIENTS)):
        accounts += [f"C{n},MSP,client,C{n},,", f"C{n}-A,C{n},sub-account,A,,"]
        allocations.append(f"C{n},BOX,100000,,block,2026-01-01")
    load_boxes(database, accounts, allocations)


def load_boxes(database: Database, accounts: list[str], allocations: list[str]) -> None:
    """An installation whose root buys boxes, with these accounts and allocations (lines of their files)."""
    database.run(
        data_import.load,
        COMMAND_LINE,
        source(
            {
                "accounts": ("code,parent,kind,name,currency,time_zone", accounts),
                "products": ("code,name,measure,unit", ["BOX,Box,device,device"]),
                "lots": ("reference,owner,product,quantity,first_day", ["PO,MSP,BOX,100000000,2026-01-01"]),
                "allocations": ("account,product,reserve,cap,at_cap,first_day", allocations),
            }
        ),
    )
    database.run(assignment_service.rebuild_stale)


def _admit(database: Database, client: int, serial: int) -> None:
    database.run(assignments.assign, OPERATOR, [Wanted(f"C{client}-A", "BOX", f"s{os.getpid()}-{serial}")])


LOCK = sa.text("SELECT own, `load` FROM counters WHERE pool_id = 1 AND account_id = :account FOR UPDATE")
WRITE = sa.text("UPDATE counters SET `load` = `load` + 1 WHERE pool_id = 1 AND account_id = :account")


def _bare(database: Database, client: int, serial: int) -> None:
    """Lock and update the same two rows: the department's and the client's."""
    with database.engine.begin() as connection:
        for account in (3 + 2 * client, 2 + 2 * client):
            connection.execute(LOCK, {"account": account}).first()
            connection.execute(WRITE, {"account": account})


CLAIM = sa.text("INSERT INTO claims (what, subject) VALUES ('product BOX', :subject)")
ASSIGN = sa.text(
    "INSERT INTO assignments (account_id, product_id, subject, begins) VALUES (:account, 1, :subject, :at)"
)
COUNT = sa.text(
    "UPDATE counters SET own = own + :own, `load` = `load` + 1, past_cap_since = NULL "
    "WHERE pool_id = 1 AND account_id = :account"
)
CHANGE = sa.text("INSERT INTO use_changes (pool_id, account_id, `change`) VALUES (1, :account, 1)")
LOG = sa.text(
    "INSERT INTO log_entries (at, actor, account_id, action, subject, after, digest, salt, code) "
    "VALUES (:at, 'bench', :account, 'assigned', :subject, '{\"product\": \"BOX\"}', :digest, :salt, :digest)"
)


def _by_hand(database: Database, client: int, serial: int) -> None:
    """Claim, lock, count and record the same unit, and say so in the log: of figures nothing is looked at."""
    with database.engine.begin() as connection:
        _write_by_hand(connection, client, f"h{os.getpid()}-{serial}")


def _write_by_hand(connection: sa.Connection, client: int, subject: str) -> None:
    department, above = 3 + 2 * client, 2 + 2 * client
    connection.execute(CLAIM, {"subject": subject})
    for account in (department, above):
        connection.execute(LOCK, {"account": account}).first()
    row = {"account": department, "subject": subject, "at": datetime.now(UTC).replace(tzinfo=None)}
    connection.execute(ASSIGN, row)
    for account in (department, above):
        connection.execute(COUNT, {"account": account, "own": int(account == department)})
    connection.execute(CHANGE, {"account": department})
    connection.execute(LOG, row | {"digest": "0" * 64, "salt": "0" * 32})


KEY = sa.text(
    "INSERT INTO request_keys (whose, `key`, fingerprint, attempt, at) VALUES ('hand', :key, :fingerprint, 'one', :at)"
)
ANSWER = sa.text("UPDATE request_keys SET answer = :answer WHERE whose = 'hand' AND `key` = :key")


def _hand_served(url: str) -> FastAPI:
    """An application whose one route writes by hand, and what happens once by a key: the key and its answer."""
    app, database = FastAPI(), Database(url)

    @app.post("/by-hand", status_code=200)
    def by_hand(body: Units) -> Assigned:
        at = datetime.now(UTC)
        answer = Assigned(assigned=1, at=at.isoformat())
        key = {"key": secrets.token_hex(16), "fingerprint": "0" * 64, "at": at.replace(tzinfo=None)}
        with database.engine.begin() as connection:
            connection.execute(KEY, key)
            [unit] = body.units
            _write_by_hand(connection, int(unit.account.split("-")[0][1:]), unit.subject)
            connection.execute(ANSWER, {"key": key["key"], "answer": answer.model_dump_json().encode()})
        return answer

    return app


def _admit_over_http(caller: Caller, client: int, serial: int) -> None:
    caller.post("/api/assignments", _unit(client, f"w{os.getpid()}-{serial}"))


def _by_hand_over_http(caller: Caller, client: int, serial: int) -> None:
    caller.post("/by-hand", _unit(client, f"v{os.getpid()}-{serial}"))


def _unit(client: int, subject: str) -> dict[str, Any]:
    return {"units": [{"account": f"C{client}-A", "product": "BOX", "subject": subject}]}


def _work(
    make: Callable[[], Any], client: int, act: Callable[[Any, int, int], None], ready: Any, go: Any, counts: Any
) -> None:
    mine = make()
    act(mine, client, -1)
    ready.release()
    go.wait()
    until, done = time.monotonic() + SECONDS, 0
    while time.monotonic() < until:
        act(mine, client, done)
        done += 1
    counts.put(done)


def _rate(make: Callable[[], Any], clients: int, act: Callable[[Any, int, int], None]) -> float:
    """What a second is done, all clients together, each on a branch of its own with what it made to do it by."""
    context = multiprocessing.get_context("fork")
    ready, go, counts = context.Semaphore(0), context.Event(), context.Queue()
    workers = [context.Process(target=_work, args=(make, n, act, ready, go, counts)) for n in range(clients)]
    for worker in workers:
        worker.start()
    for _ in workers:
        ready.acquire()
    go.set()
    total = sum(counts.get() for _ in workers)
    for worker in workers:
        worker.join()
    return total / SECONDS


def _rates(clients: int, *sides: tuple[Callable[[], Any], Callable[[Any, int, int], None]]) -> list[list[float]]:
    """Of each side what it came to, turn by turn: the machine's moods reach all alike."""
    found = [[_rate(make, clients, act) for make, act in sides] for _ in range(ROUNDS)]
    return [list(each) for each in zip(*found, strict=True)]


def _compared(what: str, clients: int, ours: list[float], against: str, theirs: list[float]) -> Measure:
    """What lies in the middle of the turns; the ratio is that of those beside each other."""
    ratio = median(mine / other for mine, other in zip(ours, theirs, strict=True))
    said, rates = f"{what}, {clients} clients", [f"{median(each):,.0f}/s" for each in (ours, theirs)]
    return Measure(said, rates[0], against, rates[1], f"{ratio:.2f} of the rate")


def measure() -> list[Measure]:
    """Clients on different branches; both sides lock and write two counters a transaction."""
    with server() as home:
        return [*_in_process(home), *_over_http(home)]


def _in_process(home: OwnServer) -> list[Measure]:
    rows = []
    for clients in CLIENTS:
        database = new_database(home)
        prepare(database)
        url = database.engine.url.render_as_string(hide_password=False)
        database.engine.dispose()
        make = partial(Database, url, pool_size=1)
        ours, by_hand, bare = _rates(clients, (make, _admit), (make, _by_hand), (make, _bare))
        rows.append(_compared("admissions", clients, ours, "the same rows by hand", by_hand))
        rows.append(_compared("admissions", clients, ours, "its two counters alone", bare))
    return rows


def _over_http(home: OwnServer) -> list[Measure]:
    """With as many workers on either side as there are cores."""
    database, workers, rows = new_database(home), len(os.sched_getaffinity(0)), []
    prepare(database)
    database.run(sign_in.give_sign_in, COMMAND_LINE, EMAIL, "Ines", "MSP", PASSWORD)
    url = database.engine.url.render_as_string(hide_password=False)
    database.engine.dispose()
    with (
        served(lambda: create_app(Database(url), jobs_beside=True), workers) as port,
        served(lambda: _hand_served(url), workers) as other,
    ):
        signed_in = Caller(port)
        signed_in.sign_in(EMAIL, PASSWORD)
        product = partial(Caller, port, signed_in.headers)
        for clients in CLIENTS:
            ours, theirs = _rates(clients, (product, _admit_over_http), (partial(Caller, other), _by_hand_over_http))
            against = "the same rows by hand behind a route"
            rows.append(_compared("admissions over HTTP", clients, ours, against, theirs))
    return rows
