"""Queries over assignments and storage samples."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection
from datetime import datetime
from itertools import count
from typing import Any

import numpy as np
import sqlalchemy as sa

from fair_ladle.app.plumbing.arrays import in_micros, in_parts, numbers
from fair_ladle.app.plumbing.database import fetch
from fair_ladle.app.plumbing.prepared import Prepared
from fair_ladle.app.usage.rows import (
    AssignmentRecord,
    BytesStored,
    HeldTime,
    OpenAssignment,
    OpenHere,
    SampleRecord,
    UnitsInUse,
)
from fair_ladle.app.usage.tables import assignments, storage_samples
from fair_ladle.core.calendar import FAR
from fair_ladle.core.tree import Ints


def units_in_use(connection: sa.Connection, product_ids: Collection[int], at: datetime) -> list[UnitsInUse]:
    """(product_id, account_id, units) of counted products at an instant."""
    return fetch(
        connection,
        sa.select(assignments.c.product_id, assignments.c.account_id, sa.func.count().label("units"))
        .where(
            assignments.c.product_id.in_(product_ids),
            assignments.c.begins <= at,
            sa.or_(assignments.c.ends.is_(None), assignments.c.ends > at),
        )
        .group_by(assignments.c.product_id, assignments.c.account_id),
        UnitsInUse,
    )


def bytes_stored(connection: sa.Connection, product_ids: Collection[int], at: datetime) -> list[BytesStored]:
    """(product_id, account_id, bytes) of storage at an instant: the latest sample of every category, added up."""
    s = storage_samples
    newest = (
        sa.select(s.c.product_id, s.c.account_id, s.c.category, sa.func.max(s.c.at).label("at"))
        .where(s.c.product_id.in_(product_ids), s.c.at <= at)
        .group_by(s.c.product_id, s.c.account_id, s.c.category)
        .subquery()
    )
    same = [s.c[name] == newest.c[name] for name in ("product_id", "account_id", "category", "at")]
    return fetch(
        connection,
        sa.select(s.c.product_id, s.c.account_id, sa.func.sum(s.c.bytes).label("bytes"))
        .join(newest, sa.and_(*same))
        .group_by(s.c.product_id, s.c.account_id),
        BytesStored,
    )


def intervals(
    connection: sa.Connection,
    product_id: int,
    begin: datetime | None,
    end: datetime,
    account_ids: Collection[int] | None = None,
) -> tuple[Ints, Ints, Ints]:
    """Account ids, begins and ends (µs, FAR = still in use) of assignments that touch a period."""
    statement = _intervals(begin, end, account_ids).where(assignments.c.product_id == product_id)
    account, begins, ends = numbers(connection, statement)
    return account, begins, ends


def intervals_of_each(
    connection: sa.Connection,
    product_ids: Collection[int],
    begin: datetime,
    end: datetime,
    account_ids: Collection[int] | None,
) -> dict[int, tuple[Ints, Ints, Ints]]:
    """The same of several products, by product (id)."""
    a = assignments
    statement = _intervals(begin, end, account_ids).where(a.c.product_id.in_(product_ids)).add_columns(a.c.product_id)
    account, begins, ends, product = numbers(connection, statement)
    picked = {each: product == each for each in product_ids}
    return {each: (account[mine], begins[mine], ends[mine]) for each, mine in picked.items()}


def _intervals(begin: datetime | None, end: datetime, account_ids: Collection[int] | None) -> sa.Select[Any]:
    a = assignments
    statement = sa.select(
        a.c.account_id, in_micros(a.c.begins), sa.func.coalesce(in_micros(a.c.ends), sa.literal(FAR))
    ).where(a.c.begins < end)
    if begin is not None:
        statement = statement.where(sa.or_(a.c.ends.is_(None), a.c.ends > begin))
    if account_ids is not None:
        statement = statement.where(a.c.account_id.in_(account_ids))
    return statement


def samples(
    connection: sa.Connection,
    product_id: int,
    begin: datetime | None,
    end: datetime,
    account_ids: Collection[int] | None = None,
) -> tuple[Ints, Ints, Ints, Ints]:
    """Account ids, categories (numbered), instants (µs) and bytes of the samples that count in a period.

    With ``begin`` the newest sample of each series before it comes along.
    """
    return samples_of_each(connection, [product_id], begin, end, account_ids)[product_id]


def samples_of_each(
    connection: sa.Connection,
    product_ids: Collection[int],
    begin: datetime | None,
    end: datetime,
    account_ids: Collection[int] | None,
) -> dict[int, tuple[Ints, Ints, Ints, Ints]]:
    """The same of several products, by product (id)."""
    s = storage_samples
    wanted = [s.c.product_id.in_(product_ids), s.c.at < end]
    if account_ids is not None:
        wanted.append(s.c.account_id.in_(account_ids))
    picked = sa.select(s.c.product_id, s.c.account_id, in_micros(s.c.at).label("micros"), s.c.bytes, s.c.category)
    statements = [picked.where(*wanted)]
    if begin is not None:
        series = (s.c.product_id, s.c.account_id, s.c.category)
        newest = sa.select(*series, sa.func.max(s.c.at).label("at")).where(*wanted, s.c.at < begin).group_by(*series)
        before = newest.subquery()
        same = [s.c[name] == before.c[name] for name in ("product_id", "account_id", "category", "at")]
        statements = [picked.join(before, sa.and_(*same)), picked.where(*wanted, s.c.at >= begin)]
    number: defaultdict[str, int] = defaultdict(count().__next__)
    parts = [np.empty((5, 0), dtype=np.int64)]
    for query in statements:
        for rows in in_parts(connection, query):
            *figures, categories = zip(*rows, strict=True)
            numbered = map(number.__getitem__, categories)
            parts.append(np.array([np.fromiter(each, np.int64, len(rows)) for each in (*figures, numbered)]))
    product, account, at, stored, category = np.concatenate(parts, axis=1)
    places = {each: product == each for each in product_ids}
    return {each: (account[mine], category[mine], at[mine], stored[mine]) for each, mine in places.items()}


def changed_between(connection: sa.Connection, product_id: int, since: datetime, until: datetime) -> list[int]:
    """The accounts where assignments of a product began or ended after an instant, up to another."""
    a = assignments
    parts = [
        sa.select(a.c.account_id).where(a.c.product_id == product_id, column > since, column <= until)
        for column in (a.c.begins, a.c.ends)
    ]
    return list(connection.scalars(sa.union(*parts)))


def sampled_between(connection: sa.Connection, product_id: int, since: datetime, until: datetime) -> list[int]:
    """The accounts with samples of a product after an instant, up to another."""
    s = storage_samples
    mine = [s.c.product_id == product_id, s.c.at > since, s.c.at <= until]
    return list(connection.scalars(sa.select(s.c.account_id).distinct().where(*mine)))


def next_change(connection: sa.Connection, product_ids: Collection[int], after: datetime) -> datetime | None:
    """The first instant later than this at which an assignment or a sample changes what is in use."""
    a, s = assignments, storage_samples
    found = [
        connection.scalar(sa.select(sa.func.min(column)).where(table.c.product_id.in_(product_ids), column > after))
        for table, column in ((a, a.c.begins), (a, a.c.ends), (s, s.c.at))
    ]
    return min((each for each in found if each is not None), default=None)


_a = assignments
OPEN = (
    sa.select(_a.c.id, _a.c.account_id, _a.c.product_id, _a.c.subject)
    .with_hint(_a, "FORCE INDEX (ix_assignments_subject)", "mysql")
    .where(
        _a.c.product_id.in_(sa.bindparam("products", expanding=True)),
        _a.c.subject.in_(sa.bindparam("subjects", expanding=True)),
        _a.c.begins <= sa.bindparam("at"),
        sa.or_(_a.c.ends.is_(None), _a.c.ends > sa.bindparam("at")),
    )
)
_first: dict[str, sa.BindParameter[Any]] = {
    name: sa.bindparam(name) for name in ("account_id", "product_id", "subject", "begins")
}
BEGIN = Prepared(sa.insert(_a).values(_first))


def is_open(product_ids: Collection[int], subjects: Collection[str] | None, at: datetime) -> sa.ColumnElement[bool]:
    """Assignments of these subjects (of all, if not said) that have not ended at an instant."""
    a = assignments
    found = sa.and_(a.c.product_id.in_(product_ids), sa.or_(a.c.ends.is_(None), a.c.ends > at))
    return found if subjects is None else sa.and_(found, a.c.subject.in_(subjects))


def open_assignments(
    connection: sa.Connection, product_ids: Collection[int], subjects: Collection[str], at: datetime
) -> list[OpenAssignment]:
    """id, account, product and subject of these subjects' assignments that are in force at an instant."""
    asked = {"products": list(product_ids), "subjects": list(subjects), "at": at}
    return fetch(connection, OPEN, OpenAssignment, asked)


def open_of_accounts(connection: sa.Connection, account_ids: Collection[int], at: datetime) -> list[OpenHere]:
    """id, product and subject of these accounts' assignments that have not ended at an instant."""
    a = assignments
    wanted = sa.select(a.c.id, a.c.product_id, a.c.subject).where(
        a.c.account_id.in_(account_ids), sa.or_(a.c.ends.is_(None), a.c.ends > at)
    )
    return fetch(connection, wanted, OpenHere)


def all_assignments(connection: sa.Connection, product_id: int, account_ids: Collection[int]) -> list[HeldTime]:
    """Every assignment of a product that these accounts ever had, by its number."""
    a = assignments
    return fetch(
        connection,
        sa.select(a.c.id, a.c.account_id, a.c.subject, a.c.begins, a.c.ends)
        .where(a.c.product_id == product_id, a.c.account_id.in_(account_ids))
        .order_by(a.c.id),
        HeldTime,
    )


def begin(connection: sa.Connection, rows: list[dict[str, Any]]) -> None:
    """Add assignments."""
    BEGIN.run_later(connection, *rows)


def end(connection: sa.Connection, ids: Collection[int], at: datetime) -> None:
    """End assignments at an instant."""
    connection.execute(sa.update(assignments).where(assignments.c.id.in_(ids)).values(ends=at))


def end_all(connection: sa.Connection, account_ids: Collection[int], at: datetime) -> dict[tuple[int, int], int]:
    """End every assignment of these accounts at an instant, those ahead included; (account, product) → how many were
    in use."""
    a = assignments
    mine = a.c.account_id.in_(account_ids)
    in_use = sa.and_(mine, a.c.begins <= at, sa.or_(a.c.ends.is_(None), a.c.ends > at))
    counted = (
        sa.select(a.c.account_id, a.c.product_id, sa.func.count())
        .where(in_use)
        .group_by(a.c.account_id, a.c.product_id)
    )
    found = {(account, product): units for account, product, units in connection.execute(counted)}
    connection.execute(sa.delete(a).where(mine, a.c.begins > at))
    connection.execute(sa.update(a).where(in_use).values(ends=at))
    return found


def empty_all(connection: sa.Connection, account_ids: Collection[int], at: datetime) -> dict[tuple[int, int], int]:
    """A sample of no bytes at an instant for every category of these accounts that has some; (account, product) →
    bytes there were."""
    s = storage_samples
    mine = s.c.account_id.in_(account_ids)
    newest = (
        sa.select(s.c.product_id, s.c.account_id, s.c.category, sa.func.max(s.c.at).label("at"))
        .where(mine, s.c.at <= at)
        .group_by(s.c.product_id, s.c.account_id, s.c.category)
        .subquery()
    )
    same = [s.c[name] == newest.c[name] for name in ("product_id", "account_id", "category", "at")]
    rows = list(connection.execute(sa.select(s).join(newest, sa.and_(*same)).where(s.c.bytes > 0)))
    found: dict[tuple[int, int], int] = {}
    for row in rows:
        found[row.account_id, row.product_id] = found.get((row.account_id, row.product_id), 0) + row.bytes
    connection.execute(sa.delete(s).where(mine, s.c.at >= at))
    if rows:
        connection.execute(
            sa.insert(s),
            [
                {
                    "product_id": row.product_id,
                    "account_id": row.account_id,
                    "category": row.category,
                    "at": at,
                    "bytes": 0,
                }
                for row in rows
            ],
        )
    return found


def touching(
    connection: sa.Connection, product_id: int, account_ids: Collection[int], begin: datetime, end: datetime, limit: int
) -> list[AssignmentRecord]:
    """The assignments of these accounts that touch a period, by account and subject."""
    a = assignments
    return fetch(
        connection,
        sa.select(a)
        .where(
            a.c.product_id == product_id,
            a.c.account_id.in_(account_ids),
            a.c.begins < end,
            sa.or_(a.c.ends.is_(None), a.c.ends > begin),
        )
        .order_by(a.c.account_id, a.c.subject, a.c.begins)
        .limit(limit),
        AssignmentRecord,
    )


def of_subject(
    connection: sa.Connection, product_id: int, subject: str, begin: datetime, end: datetime
) -> list[AssignmentRecord]:
    """The assignments to a subject that touch a period, the earlier first."""
    a = assignments
    touches = [a.c.begins < end, sa.or_(a.c.ends.is_(None), a.c.ends > begin)]
    mine = sa.select(a).where(a.c.product_id == product_id, a.c.subject == subject, *touches)
    return fetch(connection, mine.order_by(a.c.begins, a.c.id), AssignmentRecord)


def samples_touching(
    connection: sa.Connection, product_id: int, account_ids: Collection[int], begin: datetime, end: datetime, limit: int
) -> list[SampleRecord]:
    """The samples of these accounts within a period and the newest of each series before it."""
    s = storage_samples
    base = [s.c.product_id == product_id, s.c.account_id.in_(account_ids)]
    newest = (
        sa.select(s.c.account_id, s.c.category, sa.func.max(s.c.at).label("at"))
        .where(*base, s.c.at < begin)
        .group_by(s.c.account_id, s.c.category)
        .subquery()
    )
    before = (
        sa.select(s)
        .join(
            newest,
            sa.and_(s.c.account_id == newest.c.account_id, s.c.category == newest.c.category, s.c.at == newest.c.at),
        )
        .where(s.c.product_id == product_id)
    )
    within = sa.select(s).where(*base, s.c.at >= begin, s.c.at < end)
    rows = [*fetch(connection, before, SampleRecord), *fetch(connection, within.limit(limit), SampleRecord)]
    return sorted(rows, key=lambda row: (row.account_id, row.category, row.at))


def rename(connection: sa.Connection, product_ids: Collection[int], subject: str, by: str) -> None:
    """Another subject in all assignments of one, product by product."""
    a = assignments
    for each in sorted(product_ids):
        mine = sa.and_(a.c.product_id == each, a.c.subject == subject)
        connection.execute(sa.update(a).where(mine).values(subject=by))
