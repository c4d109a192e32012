"""Queries over policies, notices, runs and what they did."""

from __future__ import annotations

from collections.abc import Collection
from datetime import date, datetime
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.people.rows import PersonRecord
from fair_ladle.app.people.tables import people
from fair_ladle.app.plumbing.database import Transaction, fetch, fetch_first, insert_row, lock_rows
from fair_ladle.app.reclaim.rows import AnsweredWarning, DeedRecord, PolicyRecord, RunRecord, WarningRecord
from fair_ladle.app.reclaim.tables import reclaim_deeds, reclaim_notices, reclaim_policies, reclaim_runs

p, n, r, d = reclaim_policies, reclaim_notices, reclaim_runs, reclaim_deeds


def rehearse(tx: Transaction, policy_id: int) -> None:
    """Where a run is only tried out: go on with copies of what a policy told, and of its runs."""
    tx.rehearse(n, n.c.policy_id == policy_id)
    tx.rehearse(r, r.c.policy_id == policy_id)
    tx.rehearse(d, sa.false())


def policies(connection: sa.Connection) -> list[PolicyRecord]:
    """Every policy, by name."""
    return fetch(connection, sa.select(p).order_by(p.c.name), PolicyRecord)


def account_of_policy(connection: sa.Connection, policy_id: int) -> int | None:
    """The account (its number) whose policy it is."""
    return connection.scalar(sa.select(p.c.account_id).where(p.c.id == policy_id))


def account_of_run(connection: sa.Connection, run_id: int) -> int | None:
    """The account (its number) whose policy was run."""
    return connection.scalar(sa.select(p.c.account_id).join(r, r.c.policy_id == p.c.id).where(r.c.id == run_id))


def lock_policy(connection: sa.Connection, policy_id: int) -> PolicyRecord | None:
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


def candidates(connection: sa.Connection, where: Collection[Any]) -> list[PersonRecord]:
    """People of whom all of this is true, by number."""
    return fetch(connection, sa.select(people).where(*where).order_by(people.c.id), PersonRecord)


def notices(connection: sa.Connection, policy_id: int) -> dict[int, WarningRecord]:
    """Who was told by a policy, by the person's number."""
    return {
        row.person_id: row for row in fetch(connection, sa.select(n).where(n.c.policy_id == policy_id), WarningRecord)
    }


def add_notices(connection: sa.Connection, rows: list[dict[str, Any]]) -> None:
    """They are told from now on."""
    if rows:
        connection.execute(sa.insert(n), rows)


def forget_notices(connection: sa.Connection, policy_id: int, person_ids: Collection[int]) -> None:
    """They need not have been told: next time it begins anew."""
    if person_ids:
        connection.execute(sa.delete(n).where(n.c.policy_id == policy_id, n.c.person_id.in_(person_ids)))


def by_token(connection: sa.Connection, token_hash: str) -> AnsweredWarning | None:
    """A notice by its link, locked, with the person's name and the policy."""
    mine = sa.select(n.c.policy_id).where(n.c.token_hash == token_hash)
    connection.execute(mine.with_for_update()).all()
    wanted = sa.select(
        n, people.c.display_name, people.c.username, people.c.account_id, p.c.name, p.c.days, p.c.notice_days
    ).join(people, people.c.id == n.c.person_id)
    return fetch_first(
        connection, wanted.join(p, p.c.id == n.c.policy_id).where(n.c.token_hash == token_hash), AnsweredWarning
    )


def still_needed(connection: sa.Connection, policy_id: int, person_id: int, at: datetime) -> None:
    """Somebody said that they still need it."""
    connection.execute(sa.update(n).where(n.c.policy_id == policy_id, n.c.person_id == person_id).values(needed_at=at))


def add_run(connection: sa.Connection, row: dict[str, Any], deeds: list[dict[str, Any]]) -> int:
    """A run with what it did; its number."""
    run_id = insert_row(connection, r, row)
    if deeds:
        connection.execute(sa.insert(d), [{**each, "run_id": run_id} for each in deeds])
    return run_id


def runs(connection: sa.Connection, policy_ids: Collection[int], limit: int = 200) -> list[RunRecord]:
    """Runs of these policies, the newest first."""
    return fetch(
        connection, sa.select(r).where(r.c.policy_id.in_(policy_ids)).order_by(r.c.id.desc()).limit(limit), RunRecord
    )


def lock_run(connection: sa.Connection, run_id: int) -> RunRecord | None:
    """A run, locked."""
    return fetch_first(connection, sa.select(r).where(r.c.id == run_id).with_for_update(), RunRecord)


def deeds(connection: sa.Connection, run_ids: Collection[int]) -> list[DeedRecord]:
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
    return fetch(connection, wanted.where(d.c.run_id.in_(run_ids)).order_by(d.c.id), DeedRecord)


def undone(connection: sa.Connection, run_id: int, at: datetime, by: str) -> None:
    """A run was taken back."""
    connection.execute(sa.update(r).where(r.c.id == run_id).values(undone_at=at, undone_by=by))


def note_trouble(connection: sa.Connection, policy_id: int, trouble: str | None) -> None:
    """Why a policy's last run by itself could not be; None = it was."""
    connection.execute(sa.update(p).where(p.c.id == policy_id).values(trouble=trouble))
