"""Closing a month as work beside requests: with progress, to be stopped and taken up again; it numbers once or not at
all."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any

import sqlalchemy as sa
from sqlalchemy.dialects import mysql

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Database, Transaction
from fair_ladle.app.plumbing.problems import Refused, conflict, not_allowed
from fair_ladle.app.sign_in import service as sign_in_service
from fair_ladle.app.statements import closing
from fair_ladle.app.statements.billing import parse_month
from fair_ladle.app.statements.tables import closing_runs as runs
from fair_ladle.app.statements.totals import is_large

HELD = timedelta(seconds=60)
"""How long a run is somebody's without a sign of life."""
HELD_AT_THE_END = timedelta(minutes=10)
"""The same once all buyers are gone through: no sign comes while statements are put together and written."""
TOLD_EVERY = 1.0
"""Seconds between two signs of life."""
CHANGED = "The month has changed since you looked at it. Look again."


@dataclass(frozen=True)
class Run:
    """How far closing a month is: ``state`` running, stopped, refused (``says`` why) or done."""

    state: str
    done: int
    total: int
    says: str | None
    statements: int
    first_number: str | None
    last_number: str | None


class _Stopped(Exception):
    """Somebody stopped it, or another server has it."""


def _key(seller_id: int, first: date) -> sa.ColumnElement[bool]:
    return sa.and_(runs.c.seller_id == seller_id, runs.c.first_day == first)


def _seller(tx: Transaction, actor: Actor, seller: str, month: str) -> tuple[int, date]:
    accounts = accounts_service.known(tx)
    return int(accounts.ids[accounts_service.row_in_scope(accounts, actor, seller)]), parse_month(month)[0]


def run_of(tx: Transaction, actor: Actor, seller: str, month: str) -> Run | None:
    """How far closing a seller's month is, for whoever runs it or an account above it; None where nobody began."""
    row = tx.connection.execute(sa.select(runs).where(_key(*_seller(tx, actor, seller, month)))).first()
    if row is None:
        return None
    return Run(row.state, row.done, row.total, row.says, row.statements, row.first_number, row.last_number)


def begin(tx: Transaction, actor: Actor, seller: str, month: str, seen: str, reason: str) -> tuple[int, date]:
    """Begin to close a month as it was looked at; it goes on by itself.

    Writes the run by its key, unless it is running or done: the row that the write locks says so.
    """
    seller_id, first = _seller(tx, actor, seller, month)
    if actor.sign_in_id is None:
        raise not_allowed("Sign in to close a month.")
    values = {
        "seen": seen,
        "reason": reason.strip()[:2000],
        "sign_in_id": actor.sign_in_id,
        "through": actor.scope or "",
        "state": "running",
        "done": 0,
        "total": 0,
        "says": None,
        "statements": 0,
        "first_number": None,
        "last_number": None,
        "taken_until": None,
    }
    new = mysql.insert(runs).prefix_with("IGNORE").values(seller_id=seller_id, first_day=first, **values)
    if tx.connection.execute(new).rowcount == 0:
        again = sa.update(runs).where(_key(seller_id, first), runs.c.state.in_(("stopped", "refused")))
        if tx.connection.execute(again.values(**values)).rowcount == 0:
            raise conflict(f"{first:%B %Y} is being closed already, or is closed.")
    return seller_id, first


def stop(tx: Transaction, actor: Actor, seller: str, month: str) -> None:
    """Stop closing a month; nothing of it is numbered. Refused where it is not running any more."""
    seller_id, first = _seller(tx, actor, seller, month)
    running = sa.update(runs).where(_key(seller_id, first), runs.c.state == "running")
    if tx.connection.execute(running.values(state="stopped")).rowcount == 0:
        raise conflict(f"{first:%B %Y} is not being closed.")


def resume(tx: Transaction, actor: Actor, seller: str, month: str) -> tuple[int, date]:
    """Take closing a month up again that was stopped."""
    seller_id, first = _seller(tx, actor, seller, month)
    stopped = sa.update(runs).where(_key(seller_id, first), runs.c.state == "stopped")
    if tx.connection.execute(stopped.values(state="running", done=0, taken_until=None)).rowcount == 0:
        raise conflict(f"Closing {first:%B %Y} was not stopped.")
    return seller_id, first


def under_way(tx: Transaction) -> list[tuple[int, date]]:
    """The runs that nobody works at: their server is gone. Trusted: jobs call it."""
    free = sa.or_(runs.c.taken_until.is_(None), runs.c.taken_until < tx.now)
    wanted = sa.select(runs.c.seller_id, runs.c.first_day).where(runs.c.state == "running", free)
    return [(row.seller_id, row.first_day) for row in tx.connection.execute(wanted)]


def work_soon(database: Database, seller_id: int, first: date) -> None:
    """Close a month that was begun, at once; that of a large installation is left to the jobs, which have a process of
    their own. Trusted: whoever began it may."""
    if not database.snapshot(lambda tx: is_large(accounts_service.known(tx))):
        work(database, seller_id, first)


def work(database: Database, seller_id: int, first: date, going_on: Callable[[], bool] = lambda: True) -> None:
    """Close a month that was begun, unless another server is at it. Its numbers, and that it is done, are written in
    one transaction. Trusted: whoever began it may."""
    row = database.run(_take, seller_id, first)
    if row is None:
        return
    told = [time.monotonic()]

    def progress(done: int, total: int) -> None:
        if time.monotonic() - told[0] < TOLD_EVERY and done < total:
            return
        told[0] = time.monotonic()
        if not going_on() or not database.run(_told, seller_id, first, done, total):
            raise _Stopped

    try:
        actor, seller = database.run(_actor, row)
        month = f"{first:%Y-%m}"
        prepared = database.snapshot(closing.prepare, actor, seller, month, progress)
        if not prepared.blocking and prepared.digest() != row.seen:
            raise conflict(CHANGED)
        database.run(_close, actor, prepared, row)
    except _Stopped:
        database.run(_left, seller_id, first)
    except Refused as refused:
        database.run(_refused, seller_id, first, refused.problem.detail or refused.problem.title)
    except Exception:
        database.run(_refused, seller_id, first, "Something went wrong; nothing was numbered.")
        raise


def _take(tx: Transaction, seller_id: int, first: date) -> Any:
    free = sa.or_(runs.c.taken_until.is_(None), runs.c.taken_until < tx.now)
    mine = sa.update(runs).where(_key(seller_id, first), runs.c.state == "running", free)
    if tx.connection.execute(mine.values(taken_until=tx.now + HELD)).rowcount == 0:
        return None
    return tx.connection.execute(sa.select(runs).where(_key(seller_id, first))).one()


def _actor(tx: Transaction, row: Any) -> tuple[Actor, str]:
    accounts = accounts_service.known(tx)
    operator = accounts.tree.codes[0]
    actor = sign_in_service.actor_for(tx, row.sign_in_id, row.through or operator)
    if actor is None or "statements.close" not in actor.permissions:
        raise not_allowed("Whoever began this may not close months any more.")
    return actor, accounts.tree.codes[accounts.row_of_id[row.seller_id]]


def _told(tx: Transaction, seller_id: int, first: date, done: int, total: int) -> bool:
    running = sa.update(runs).where(_key(seller_id, first), runs.c.state == "running")
    held = HELD if done < total else HELD_AT_THE_END
    values = {"done": done, "total": total, "taken_until": tx.now + held}
    return tx.connection.execute(running.values(**values)).rowcount == 1


def _close(tx: Transaction, actor: Actor, prepared: closing.Prepared, row: Any) -> None:
    """Locks the run, then the seller's numbers: one that was stopped meanwhile numbers nothing."""
    running = sa.update(runs).where(_key(row.seller_id, row.first_day), runs.c.state == "running")
    if tx.connection.execute(running.values(state="done", taken_until=None)).rowcount == 0:
        return
    closed = closing.close(tx, actor, prepared, row.reason)
    values = {
        "statements": len(closed),
        "done": len(prepared.statements),
        "first_number": closed[0].number if closed else None,
        "last_number": closed[-1].number if closed else None,
    }
    tx.connection.execute(sa.update(runs).where(_key(row.seller_id, row.first_day)).values(**values))


def _refused(tx: Transaction, seller_id: int, first: date, says: str) -> None:
    running = sa.update(runs).where(_key(seller_id, first), runs.c.state == "running")
    tx.connection.execute(running.values(state="refused", says=says[:2000], taken_until=None))


def _left(tx: Transaction, seller_id: int, first: date) -> None:
    """Leave a run to whoever comes next."""
    tx.connection.execute(sa.update(runs).where(_key(seller_id, first)).values(taken_until=None))
