"""Work that is done again and again: each job a class with its interval and lease, once however many servers there are.

Every job has a thread of its own, so that long work delays nobody. Its row says until when whoever does it may; a
heartbeat moves that on, and where its server is gone another one takes it over.
"""

from __future__ import annotations

import logging
import secrets
import threading
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import ClassVar, TypeVar

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import Database, Transaction
from fair_ladle.app.plumbing.prepared import in_utc
from fair_ladle.app.plumbing.problems import EMPTY, Refused
from fair_ladle.app.plumbing.tables import job_items, jobs

logger = logging.getLogger("fair_ladle")
Item = TypeVar("Item")
AGAIN = (timedelta(minutes=1), timedelta(minutes=5), timedelta(minutes=30), timedelta(hours=2))
"""After how long a failed item is tried again; from the last on at that interval."""
LOOK_SECONDS = 1.0
STOPPED_WITHIN = 8.0


class Job(ABC):
    """Something done again and again. ``every`` is how long after its last begin it is due, ``lease`` for how long
    whoever does it may, without a heartbeat, before another server takes it over."""

    name: ClassVar[str]
    every: ClassVar[timedelta]
    lease: ClassVar[timedelta] = timedelta(seconds=60)

    @abstractmethod
    def run(self, database: Database, going_on: Callable[[], bool]) -> None:
        """Do what is due, as long as ``going_on`` says so: it is asked between items."""

    def each(
        self,
        database: Database,
        items: Iterable[Item],
        work: Callable[[Item], object],
        going_on: Callable[[], bool],
        name: Callable[[Item], str] = str,
    ) -> None:
        """Do some work for each item. One that fails is set aside with its reason, tried again later, and the rest goes
        on."""
        aside = database.run(_set_aside, self.name)
        for item in items:
            called = name(item)
            if not going_on():
                return
            if called in aside and aside[called] > database.clock.now():
                continue
            try:
                work(item)
            except Exception as broken:  # one item's bug must not stop the others
                reason = broken.problem.detail if isinstance(broken, Refused) else f"{type(broken).__name__}: {broken}"
                if not isinstance(broken, Refused):
                    logger.exception("job %s, %s", self.name, called)
                database.run(_put_aside, self.name, called, reason[:2000])
            else:
                if called in aside:
                    database.run(_take_back, self.name, called)


def run_once(database: Database, job: Job, holder: str, stopping: threading.Event | None = None) -> bool:
    """Do a job if it is due and no other server does it; whether it was done here."""
    if not database.run(_claim, job, holder):
        return False
    ended, lost = threading.Event(), threading.Event()

    def beat() -> None:
        while not ended.wait(job.lease.total_seconds() / 4):
            try:
                if not database.run(_beat, job, holder):
                    lost.set()
                    return
            except sa.exc.SQLAlchemyError:  # the next heartbeat is soon
                continue

    heart = threading.Thread(target=beat, name=f"heart of {job.name}", daemon=True)
    heart.start()
    trouble = None
    try:
        job.run(database, lambda: not lost.is_set() and not (stopping is not None and stopping.is_set()))
    except Refused as refused:
        # Before its first accounts an installation has nothing to do, which is no failure.
        trouble = None if refused.problem.kind == EMPTY else refused.problem.detail
    except Exception as broken:  # a bug in one job must neither stop the others nor the server
        trouble = f"{type(broken).__name__}: {broken}"[:2000]
        logger.exception("job %s", job.name)
    finally:
        ended.set()
    database.run(_end, job, holder, trouble)
    return True


class Schedule:
    """All jobs of a server, each in a thread of its own, until it is told to stop."""

    def __init__(self, database: Database, every: Sequence[Job]):
        self._database = database
        self._stopping = threading.Event()
        self._holder = secrets.token_hex(8)
        self._threads = [threading.Thread(target=self._go_on, args=(job,), name=job.name, daemon=True) for job in every]

    def start(self) -> None:
        """Begin."""
        for thread in self._threads:
            thread.start()

    def stop(self) -> None:
        """Begin nothing more, and wait a while for what is under way; what is not done then is done by whoever comes
        next."""
        self._stopping.set()
        until = datetime.now().timestamp() + STOPPED_WITHIN
        for thread in self._threads:
            thread.join(max(0.0, until - datetime.now().timestamp()))

    def _go_on(self, job: Job) -> None:
        while not self._stopping.wait(LOOK_SECONDS):
            try:
                run_once(self._database, job, self._holder, self._stopping)
            except Exception as trouble:  # the database may be away; the thread goes on
                logger.warning("schedule: %s: %s", job.name, type(trouble).__name__)
                self._stopping.wait(LOOK_SECONDS * 2)


def failed(tx: Transaction) -> list[tuple[str, str]]:
    """Jobs whose last run failed, and items that are set aside, with why."""
    i = job_items
    whole = sa.select(jobs.c.name, sa.literal("").label("item"), jobs.c.trouble).where(jobs.c.trouble.is_not(None))
    items = sa.select(i.c.job, i.c.item, i.c.reason).order_by(i.c.job, i.c.item).limit(100).subquery()
    both = sa.union_all(whole, sa.select(items)).subquery()
    ordered = sa.select(both).order_by(both.c.item != "", both.c.name, both.c.item)
    rows = tx.connection.execute(ordered)
    return [(f"{name}: {item}" if item else name, reason) for name, item, reason in rows]


@dataclass(frozen=True)
class JobState:
    """A job: when it last began, when it is due and how long it has been, whether it runs, and why its last run failed
    (None = it did not)."""

    name: str
    ran_at: datetime | None
    due_at: datetime
    late_seconds: float
    is_running: bool
    trouble: str | None


def states(tx: Transaction) -> list[JobState]:
    """Every job, by name."""
    now = tx.now
    found = []
    for row in tx.connection.execute(sa.select(jobs).order_by(jobs.c.name)):
        runs = row.leased_until is not None and in_utc(row.leased_until) > now
        late = 0.0 if runs else max(0.0, (now - in_utc(row.due_at)).total_seconds())
        ran_at = None if row.ran_at is None else in_utc(row.ran_at)
        found.append(JobState(row.name, ran_at, in_utc(row.due_at), late, runs, row.trouble))
    return found


def newest_run(tx: Transaction) -> datetime | None:
    """When any job was last begun; None where none was."""
    newest: datetime | None = tx.connection.scalar(sa.select(sa.func.max(jobs.c.ran_at)))
    return newest


def _claim(tx: Transaction, job: Job, holder: str) -> bool:
    """Whether the job is this server's to do now: one update of one row decides, on a cluster too."""
    now = tx.now
    taken = sa.update(jobs).where(
        jobs.c.name == job.name,
        # Further ahead than its interval only a clock that had jumped has put it.
        sa.or_(jobs.c.due_at <= now, jobs.c.due_at > now + job.every + timedelta(days=1)),
        sa.or_(jobs.c.leased_until.is_(None), jobs.c.leased_until <= now, jobs.c.leased_until > now + 2 * job.lease),
    )
    mine = {"due_at": now + job.every, "ran_at": now, "holder": holder, "leased_until": now + job.lease}
    if tx.connection.execute(taken.values(**mine)).rowcount == 1:
        return True
    if tx.connection.execute(sa.select(jobs.c.name).where(jobs.c.name == job.name)).first() is not None:
        return False
    new = sa.insert(jobs).prefix_with("IGNORE").values(name=job.name, **mine)
    return tx.connection.execute(new).rowcount == 1


def _beat(tx: Transaction, job: Job, holder: str) -> bool:
    mine = sa.update(jobs).where(jobs.c.name == job.name, jobs.c.holder == holder)
    return tx.connection.execute(mine.values(leased_until=tx.now + job.lease)).rowcount == 1


def _end(tx: Transaction, job: Job, holder: str, trouble: str | None) -> None:
    mine = sa.update(jobs).where(jobs.c.name == job.name, jobs.c.holder == holder)
    tx.connection.execute(mine.values(leased_until=None, holder=None, trouble=trouble))


def _set_aside(tx: Transaction, job: str) -> dict[str, datetime]:
    rows = tx.connection.execute(sa.select(job_items.c.item, job_items.c.again_at).where(job_items.c.job == job))
    return {row.item: row.again_at for row in rows}


def _put_aside(tx: Transaction, job: str, item: str, reason: str) -> None:
    i, now = job_items, tx.now
    there = tx.connection.execute(sa.select(i.c.tries).where(i.c.job == job, i.c.item == item)).first()
    tries = 1 if there is None else there.tries + 1
    values = {"reason": reason, "tries": tries, "failed_at": now, "again_at": now + AGAIN[min(tries, len(AGAIN)) - 1]}
    if there is None:
        tx.connection.execute(sa.insert(i).values(job=job, item=item, **values))
    else:
        tx.connection.execute(sa.update(i).where(i.c.job == job, i.c.item == item).values(**values))


def _take_back(tx: Transaction, job: str, item: str) -> None:
    i = job_items
    tx.connection.execute(sa.delete(i).where(i.c.job == job, i.c.item == item))
