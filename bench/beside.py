"""Drafts of 20 changes applied by a client's admin beside 8 clients that admit below them: what either waits for."""

from __future__ import annotations

import multiprocessing
import time
from typing import Any

from bench.admissions import OPERATOR, load_boxes
from bench.home import new_database, server
from bench.measured import Measure
from fair_ladle.app.allocations import views
from fair_ladle.app.assignments import usecases as assignments
from fair_ladle.app.assignments.eligibility import Wanted
from fair_ladle.app.drafts import usecases as drafts
from fair_ladle.app.drafts.change_types import AllocationChange
from fair_ladle.app.drafts.reversing import terms_of
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database, Transaction
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.sign_in import usecases as sign_in

SECONDS = 8.0
ADMITTING, CHANGES = 8, 20


def _prepare(database: Database) -> Actor:
    """A client with 20 departments below one pool, and the client's admin."""
    accounts = ["MSP,,operator,Msp,EUR,UTC", "C,MSP,client,C,,"]
    allocations = ["C,BOX,200000,,block,2026-01-01"]
    for n in range(CHANGES):
        accounts.append(f"C-{n},C,sub-account,D{n},,")
        allocations.append(f"C-{n},BOX,0,100000,block,2026-01-01")
    load_boxes(database, accounts, allocations)
    database.run(sign_in.give_sign_in, COMMAND_LINE, "c@x.example", "Maren", "C", "only-for-this-measurement")
    return Actor("Maren", "c@x.example", "C", 1)


def _draft(tx: Transaction, who: Actor, round_: int) -> drafts.Draft:
    changes = []
    cells = [(f"C-{n}", "BOX") for n in range(CHANGES)]
    for (account, product), cell in zip(cells, views.terms(tx, who, cells), strict=True):
        was = terms_of(cell.version)
        assert was is not None and cell.version is not None
        terms = was.model_copy(update={"cap": 100_000 + round_ % 2 + 1})
        changes.append(AllocationChange(account=account, product=product, terms=terms, seen=cell.version.id, was=was))
    return drafts.edit(tx, who, None, 0, changes)


def _apply(url: str, who: Actor, go: Any, found: Any) -> None:
    database, took, lost = Database(url, pool_size=1), list[float](), 0
    go.wait()
    until, round_ = time.monotonic() + SECONDS, 0
    while time.monotonic() < until:
        round_ += 1
        draft = database.run(_draft, who, round_)
        begin = time.perf_counter()
        try:
            database.run(drafts.apply, who, draft.row.id, draft.row.revision)
        except Refused:
            lost += 1
            database.run(drafts.discard, who, draft.row.id)
        took.append(time.perf_counter() - begin)
    found.put(("drafts", took, lost))


def _admit(url: str, client: int, run: str, go: Any, found: Any) -> None:
    database, took, lost, serial = Database(url, pool_size=1), list[float](), 0, 0
    go.wait()
    until = time.monotonic() + SECONDS
    while time.monotonic() < until:
        begin = time.perf_counter()
        try:
            database.run(assignments.assign, OPERATOR, [Wanted(f"C-{client}", "BOX", f"{run}-{client}-{serial}")])
        except Refused:
            lost += 1
        took.append(time.perf_counter() - begin)
        serial += 1
    found.put(("admissions", took, lost))


def _run(url: str, who: Actor, applying: bool) -> dict[str, tuple[list[float], int]]:
    context = multiprocessing.get_context("fork")
    go, found = context.Event(), context.Queue()
    workers = [
        context.Process(target=_admit, args=(url, n, "beside" if applying else "alone", go, found))
        for n in range(ADMITTING)
    ]
    if applying:
        workers.append(context.Process(target=_apply, args=(url, who, go, found)))
    for worker in workers:
        worker.start()
    go.set()
    every: dict[str, tuple[list[float], int]] = {}
    for _ in workers:
        what, took, lost = found.get()
        before, lost_before = every.get(what, ([], 0))
        every[what] = before + took, lost_before + lost
    for worker in workers:
        worker.join()
    return every


def measure() -> list[Measure]:
    """Admissions alone, and with a draft of 20 changes applied over and over beside them."""
    with server() as home:
        database = new_database(home)
        who = _prepare(database)
        url = database.engine.url.render_as_string(hide_password=False)
        database.engine.dispose()
        alone, beside = _run(url, who, applying=False), _run(url, who, applying=True)
        differences = database.run(assignments.verify, COMMAND_LINE)
        assert differences == [], differences[:10]
        database.engine.dispose()
    (before, _), (admitted, refused), (applied, lost) = alone["admissions"], beside["admissions"], beside["drafts"]
    return [
        Measure(
            f"admissions of {ADMITTING} clients beside drafts of {CHANGES} changes",
            f"{len(admitted) / SECONDS:,.0f}/s",
            "the same without",
            f"{len(before) / SECONDS:,.0f}/s",
            f"{len(admitted) / len(before):.2f}",
        ),
        Measure("the longest of them", f"{max(admitted):.2f} s", "at most", "1 s", f"{max(admitted):.2f}"),
        Measure(
            "drafts applied meanwhile", f"{len(applied) - lost} of {len(applied)}", "all", f"{len(applied)}", "1 wanted"
        ),
        Measure("the longest of those", f"{max(applied):.2f} s", "at most", "10 s", f"{max(applied) / 10:.2f}"),
        Measure("admissions refused after all retries", f"{refused}", "none", "0", "0 wanted"),
    ]
