"""Queries over policies, notices, runs and what they did."""

from __future__ import annotations

from collections.abc import Collection
from datetime import date, datetime
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.people.tables import people
from fair_ladle.app.plumbing.database import Transaction, insert_row, lock_rows
from fair_ladle.app.reclaim.tables import reclaim_deeds, reclaim_notices, reclaim_policies, reclaim_runs

p, n, r, d = reclaim_policies, reclaim_notices, reclaim_runs, reclaim_deeds


def rehearse(tx: Transaction, policy_id: int) -> None:
    """Where a run is only tried out: go on with copies of what a policy told, and of its runs."""
    tx.rehearse(n, n.c.policy_id == policy_id)
    tx.rehearse(r, r.c.policy_id == policy_id)
    tx.rehearse(d, sa.false())


def policies(connection: sa.Connection) -> list[Any]:
    """Every policy, by name."""
    return list(connection.execute(sa.select(p).order_by(p.c.name)))


def lock_policy(connection: sa.Connection, policy_id: int) -> Any | None:
    """A policy, locked: one run of it at a time."""
    return next(iter(lock_rows(connection, p, [policy_id])), None)


def put_policy(connection: sa.Connection, policy_id: int | None, values: dict[str, Any]) -> int:
    """Create (id None) or change a policy; its id."""
    if policy_id is None:
        return insert_row(connection, p, values)
    connection.execute(sa.update(p).where(p.c.id == policy_id).values(values))
    return policy_id


def looked_on(connection: sa.Connection, policy_id: int, day: date) -> None:
    """It was run by itself on a day."""
    connection.execute(sa.update(p).where(p.c.id == policy_id).values(looked_on=day))


def candidates(connection: sa.Connection, where: Collection[Any]) -> list[Any]:
    """People of whom all of this is true, by number."""
    return list(connection.execute(sa.select(people).where(*where).order_by(people.c.id)))


def notices(connection: sa.Connection, policy_id: int) -> dict[int, Any]:
    """Who was told by a policy, by the person's number."""
    return {row.person_id: row for row in connection.execute(sa.select(n).where(n.c.policy_id == policy_id))}


def add_notices(connection: sa.Connection, rows: list[dict[str, Any]]) -> None:
    """They are told from now on."""
    if rows:
        connection.execute(sa.insert(n), rows)


def forget_notices(connection: sa.Connection, policy_id: int, person_ids: Collection[int]) -> None:
    """They need not have been told: next time it begins anew."""
    if person_ids:
        connection.execute(sa.delete(n).where(n.c.policy_id == policy_id, n.c.person_id.in_(person_ids)))


def by_token(connection: sa.Connection, token_hash: str) -> Any | None:
    """A notice by its link, locked, with the person's name and the policy."""
    mine = sa.select(n.c.policy_id).where(n.c.token_hash == token_hash)
    connection.execute(mine.with_for_update()).all()
    wanted = sa.select(
        n, people.c.display_name, people.c.username, people.c.account_id, p.c.name, p.c.days, p.c.notice_days
    ).join(people, people.c.id == n.c.person_id)
    return connection.execute(wanted.join(p, p.c.id == n.c.policy_id).where(n.c.token_hash == token_hash)).first()


def still_needed(connection: sa.Connection, policy_id: int, person_id: int, at: datetime) -> None:
    """Somebody said that they still need it."""
    connection.execute(sa.update(n).where(n.c.policy_id == policy_id, n.c.person_id == person_id).values(needed_at=at))


def add_run(connection: sa.Connection, row: dict[str, Any], deeds: list[dict[str, Any]]) -> int:
    """A run with what it did; its number."""
    run_id = insert_row(connection, r, row)
    if deeds:
        connection.execute(sa.insert(d), [{**each, "run_id": run_id} for each in deeds])
    return run_id


def runs(connection: sa.Connection, policy_ids: Collection[int], limit: int = 200) -> list[Any]:
    """Runs of these policies, the newest first."""
    return list(
        connection.execute(sa.select(r).where(r.c.policy_id.in_(policy_ids)).order_by(r.c.id.desc()).limit(limit))
    )


def lock_run(connection: sa.Connection, run_id: int) -> Any | None:
    """A run, locked."""
    return connection.execute(sa.select(r).where(r.c.id == run_id).with_for_update()).first()


def deeds(connection: sa.Connection, run_ids: Collection[int]) -> list[Any]:
    """What runs did, with the people."""
    wanted = sa.select(
        d,
        people.c.username,
        people.c.display_name,
        people.c.account_id,
        people.c.status,
        people.c.last_seen_at,
        people.c.invited_at,
    ).join(people, people.c.id == d.c.person_id)
    return list(connection.execute(wanted.where(d.c.run_id.in_(run_ids)).order_by(d.c.id)))


def undone(connection: sa.Connection, run_id: int, at: datetime, by: str) -> None:
    """A run was taken back."""
    connection.execute(sa.update(r).where(r.c.id == run_id).values(undone_at=at, undone_by=by))


def note_trouble(connection: sa.Connection, policy_id: int, trouble: str | None) -> None:
    """Why a policy's last run by itself could not be; None = it was."""
    connection.execute(sa.update(p).where(p.c.id == policy_id).values(trouble=trouble))
