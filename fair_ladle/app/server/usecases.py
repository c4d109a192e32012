"""How the servers do: requests and what they cost, jobs and how late they are, what room the pools have."""

from __future__ import annotations

import os
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.allocations import service as allocations
from fair_ladle.app.plumbing import metrics, schedule
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.metrics import Gauge, RouteCost
from fair_ladle.app.plumbing.problems import not_allowed
from fair_ladle.app.plumbing.schedule import JobState


@dataclass(frozen=True)
class ServerState:
    """What the servers have done since they began, and what they are at now.

    ``processes`` answer requests, do the jobs and keep these running; ``megabytes`` is what they hold in memory. Of the
    database nothing counts.
    """

    at: datetime
    processes: int
    megabytes: float
    routes: list[RouteCost]
    units: dict[str, int]
    jobs: list[JobState]


def state(tx: Transaction, actor: Actor) -> ServerState:
    """How the servers do; for the operator's side only."""
    if actor.scope is not None and actor.scope != accounts_service.operator(tx).code:
        raise not_allowed("Only the operator sees how the servers do.")
    pids = list(_processes())
    megabytes = sum(_resident(each) for each in pids) / 2**20
    return ServerState(tx.now, len(pids), megabytes, metrics.routes(), metrics.units(), schedule.states(tx))


def gauges(tx: Transaction) -> list[Gauge]:
    """What is as it is now, for Prometheus. Trusted: who may ask is judged by where the question comes from."""
    rooms = [((row.owner, row.product), float(row.promisable - row.load)) for row in allocations.rooms(tx)]
    lags = [((each.name,), each.late_seconds) for each in schedule.states(tx)]
    failing = [((each.name,), float(each.trouble is not None)) for each in schedule.states(tx)]
    return [
        Gauge("fair_ladle_pool_room", "What a pool can still promise, in grains.", ("owner", "product"), rooms),
        Gauge("fair_ladle_job_late_seconds", "How long a job has been due and not begun.", ("job",), lags),
        Gauge("fair_ladle_job_failing", "Whether a job's last run failed.", ("job",), failing),
    ]


def _processes() -> Iterator[int]:
    """The process that keeps the server's workers, and all that it began but the database."""
    own, above = os.getpid(), os.getppid()
    waiting = [above if metrics.FOLDER in os.environ and b"fair_ladle" in _command(above) else own]
    while waiting:
        pid = waiting.pop()
        if b"keeper" in _command(pid) or b"mariadbd" in _command(pid):
            continue
        yield pid
        for children in Path(f"/proc/{pid}/task").glob("*/children"):
            try:
                waiting.extend(int(each) for each in children.read_text().split())
            except OSError:  # gone meanwhile
                continue


def _command(pid: int) -> bytes:
    try:
        return Path(f"/proc/{pid}/cmdline").read_bytes()
    except OSError:
        return b""


def _resident(pid: int) -> int:
    try:
        return int(Path(f"/proc/{pid}/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE")
    except OSError:
        return 0
