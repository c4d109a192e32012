"""Admissions a second with 1, 8 and 32 clients on one pool, against bare transactions over as many rows."""

from __future__ import annotations

import multiprocessing
import time
from collections.abc import Callable
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
            theirs = rate(url, clients, _bare)
            rows.append(
                Measure(
                    f"admissions, {clients} clients",
                    f"{ours:,.0f}/s",
                    "bare lock-and-update of as many rows",
                    f"{theirs:,.0f}/s",
                    f"{ours / theirs:.2f} of the rate",
                )
            )
    return rows
