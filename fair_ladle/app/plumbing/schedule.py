"""Work that is done again and again: once however many servers there are, and through restarts.

Each job has a row. Whoever moves its due time on, under the row's lock, does the work.
"""

from __future__ import annotations

import logging
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import Again, Database, Transaction
from fair_ladle.app.plumbing.tables import jobs

logger = logging.getLogger("fair_ladle")


@dataclass(frozen=True)
class Job:
    """What is done, and how long after its last begin it is due again."""

    every: timedelta
    work: Callable[[Database], object]


def run_due(database: Database, every: Mapping[str, Job]) -> list[str]:
    """Do every job that is due and that no other server has begun; the names of those done here."""
    done = []
    for name, job in every.items():
        if not database.run(_claim, name, job.every):
            continue
        trouble = None
        try:
            job.work(database)
        except Exception as broken:  # a bug in one job must neither stop the others nor the server
            trouble = f"{type(broken).__name__}: {broken}"[:2000]
            logger.exception("job %s", name)
        database.run(_note, name, trouble)
        done.append(name)
    return done


def failed(tx: Transaction) -> list[tuple[str, str]]:
    """Jobs whose last run failed, with why."""
    found = tx.connection.execute(
        sa.select(jobs.c.name, jobs.c.trouble).where(jobs.c.trouble.is_not(None)).order_by(jobs.c.name)
    )
    return [(row.name, row.trouble) for row in found]


def newest_run(tx: Transaction) -> datetime | None:
    """When any job was last begun; None where none was."""
    return tx.connection.scalar(sa.select(sa.func.max(jobs.c.ran_at)))


def _claim(tx: Transaction, name: str, every: timedelta) -> bool:
    now = tx.now
    row = tx.connection.execute(sa.select(jobs).where(jobs.c.name == name).with_for_update(skip_locked=True)).first()
    if row is None:
        there = tx.connection.execute(sa.select(jobs.c.name).where(jobs.c.name == name)).first()
        if there is not None:
            return False
        try:
            tx.connection.execute(sa.insert(jobs).values(name=name, due_at=now + every, ran_at=now))
        except sa.exc.IntegrityError:
            raise Again from None
        return True
    if row.due_at > now:
        return False
    tx.connection.execute(sa.update(jobs).where(jobs.c.name == name).values(due_at=now + every, ran_at=now))
    return True


def _note(tx: Transaction, name: str, trouble: str | None) -> None:
    tx.connection.execute(sa.update(jobs).where(jobs.c.name == name).values(trouble=trouble))
