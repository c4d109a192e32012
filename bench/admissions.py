"""Admissions a second with 1, 8 and 32 clients on one pool, against SQL by hand that locks and writes the same rows,
and against bare transactions over its counters alone."""

from __future__ import annotations

import multiprocessing
import time
from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any

import sqlalchemy as sa

from bench.home import new_database, server
from bench.measured import Measure
from fair_ladle.app.assignments import service as assignment_service
from fair_ladle.app.assignments import usecases as assignments
from fair_ladle.app.assignments.eligibility import Wanted
from fair_ladle.app.data_import import usecases as data_import
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database
from fair_ladle.connectors.sheets_in import SheetTable, Source

SECONDS = 5.0
CLIENTS = 32
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
    for n in range(CLIENTS):
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
    database.run(assignments.assign, OPERATOR, [Wanted(f"C{client}-A", "BOX", f"s{client}-{serial}")])


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
    department, above, subject = 3 + 2 * client, 2 + 2 * client, f"h{client}-{serial}"
    with database.engine.begin() as connection:
        connection.execute(CLAIM, {"subject": subject})
        for account in (department, above):
            connection.execute(LOCK, {"account": account}).first()
        row = {"account": department, "subject": subject, "at": datetime.now(UTC).replace(tzinfo=None)}
        connection.execute(ASSIGN, row)
        for account in (department, above):
            connection.execute(COUNT, {"account": account, "own": int(account == department)})
        connection.execute(CHANGE, {"account": department})
        connection.execute(LOG, row | {"digest": "0" * 64, "salt": "0" * 32})


def _work(url: str, client: int, act: Callable[[Database, int, int], None], ready: Any, go: Any, counts: Any) -> None:
    database = Database(url, pool_size=1)
    act(database, client, -1)
    ready.release()
    go.wait()
    until, done = time.monotonic() + SECONDS, 0
    while time.monotonic() < until:
        act(database, client, done)
        done += 1
    counts.put(done)


def rate(url: str, clients: int, act: Callable[[Database, int, int], None]) -> float:
    """Transactions a second, all clients together, each on a branch of its own."""
    context = multiprocessing.get_context("fork")
    ready, go, counts = context.Semaphore(0), context.Event(), context.Queue()
    workers = [context.Process(target=_work, args=(url, n, act, ready, go, counts)) for n in range(clients)]
    for worker in workers:
        worker.start()
    for _ in workers:
        ready.acquire()
    go.set()
    total = sum(counts.get() for _ in workers)
    for worker in workers:
        worker.join()
    return total / SECONDS


def measure() -> list[Measure]:
    """Clients on different branches; both sides lock and write two counters a transaction."""
    rows = []
    with server() as home:
        for clients in (1, 8, 32):
            database = new_database(home)
            prepare(database)
            url = database.engine.url.render_as_string(hide_password=False)
            database.engine.dispose()
            ours = rate(url, clients, _admit)
            for against, act in (("the same rows by hand", _by_hand), ("its two counters alone", _bare)):
                theirs = rate(url, clients, act)
                said = f"{ours / theirs:.2f} of the rate"
                rows.append(
                    Measure(f"admissions, {clients} clients", f"{ours:,.0f}/s", against, f"{theirs:,.0f}/s", said)
                )
    return rows
