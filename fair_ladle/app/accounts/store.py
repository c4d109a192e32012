"""Queries over accounts and their places."""

from __future__ import annotations

from collections.abc import Collection
from datetime import date
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.accounts.rows import AccountRecord, PlacedAccount, Uncharged
from fair_ladle.app.accounts.tables import account_parents, account_statuses, account_unallocated, accounts
from fair_ladle.app.plumbing.database import fetch, fetch_first, insert_row
from fair_ladle.app.plumbing.problems import invalid


def in_force(table: sa.Table, day: date) -> sa.ColumnElement[bool]:
    """Rows of a dated table that count on a day (NULL = since ever, or open)."""
    return sa.and_(
        sa.or_(table.c.first_day.is_(None), table.c.first_day <= day),
        sa.or_(table.c.last_day.is_(None), table.c.last_day >= day),
    )


def on_day(connection: sa.Connection, day: date, ids: Collection[int] | None = None) -> list[PlacedAccount]:
    """Every account (or these) with its parent's id and its own status (NULL = active) on a day."""
    s, u = account_statuses, account_unallocated
    some = sa.true() if ids is None else accounts.c.id.in_(ids)
    return fetch(
        connection,
        sa.select(
            accounts,
            account_parents.c.parent_id,
            account_parents.c.first_day.label("placed_since"),
            s.c.status,
            s.c.charged,
            s.c.first_day.label("status_since"),
            sa.func.coalesce(u.c.value, "free").label("unallocated"),
        )
        .join(account_parents, sa.and_(account_parents.c.account_id == accounts.c.id, in_force(account_parents, day)))
        .outerjoin(s, sa.and_(s.c.account_id == accounts.c.id, in_force(s, day)))
        .outerjoin(u, sa.and_(u.c.account_id == accounts.c.id, in_force(u, day)))
        .where(some),
        PlacedAccount,
    )


DATED = (account_parents, account_statuses, account_unallocated)
"""What an account is on a day."""


def turns(connection: sa.Connection) -> list[date]:
    """The days on which some account is something else, or somewhere else, than the day before."""
    columns = [(table.c.first_day, table.c.last_day) for table in DATED]
    begins, ends = (
        set(connection.scalars(sa.union(*(sa.select(each).distinct().where(each.isnot(None)) for each in part))))
        for part in zip(*columns, strict=True)
    )
    return sorted(begins | {date.fromordinal(day.toordinal() + 1) for day in ends})


def turned_between(connection: sa.Connection, one: date, later: date) -> list[int]:
    """The accounts (ids) that may be something else, or somewhere else, on a day than on an earlier one."""
    parts = []
    for table in DATED:
        of = sa.select(table.c.account_id)
        parts += [
            of.where(table.c.first_day > one, table.c.first_day <= later),
            of.where(table.c.last_day >= one, table.c.last_day < later),
        ]
    return list(connection.scalars(sa.union(*parts)))


def uncharged(connection: sa.Connection, first: date, last: date) -> list[Uncharged]:
    """account_id, first_day and last_day of the times within a period in which accounts are suspended and not
    charged."""
    s = account_statuses
    return fetch(
        connection,
        sa.select(s.c.account_id, s.c.first_day, s.c.last_day).where(
            s.c.charged.is_(False),
            s.c.status == "suspended",
            s.c.first_day <= last,
            sa.or_(s.c.last_day.is_(None), s.c.last_day >= first),
        ),
        Uncharged,
    )


def closings(connection: sa.Connection, first: date, last: date) -> dict[int, date]:
    """The accounts closed within a period and not opened again since, with the first day without them."""
    s = account_statuses
    wanted = sa.select(s.c.account_id, s.c.first_day).where(
        s.c.status == "closed", s.c.first_day > first, s.c.first_day <= last, s.c.last_day.is_(None)
    )
    return {row.account_id: row.first_day for row in connection.execute(wanted)}


def set_status(connection: sa.Connection, account_id: int, status: str | None, charged: bool, day: date) -> None:
    """Let an account have a status from a day on (None = active)."""
    s = account_statuses
    mine = s.c.account_id == account_id
    connection.execute(sa.delete(s).where(mine, s.c.first_day >= day))
    connection.execute(
        sa.update(s)
        .where(mine, sa.or_(s.c.last_day.is_(None), s.c.last_day >= day))
        .values(last_day=date.fromordinal(day.toordinal() - 1))
    )
    if status is not None:
        connection.execute(sa.insert(s).values(account_id=account_id, status=status, charged=charged, first_day=day))


def set_unallocated(connection: sa.Connection, account_id: int, value: str, day: date | None) -> None:
    """What an account without an allocation may hold, from a day on (None = since ever)."""
    u = account_unallocated
    mine = u.c.account_id == account_id
    if day is None:
        connection.execute(sa.delete(u).where(mine))
    else:
        connection.execute(sa.delete(u).where(mine, u.c.first_day >= day))
        open_now = sa.or_(u.c.last_day.is_(None), u.c.last_day >= day)
        yesterday = date.fromordinal(day.toordinal() - 1)
        connection.execute(sa.update(u).where(mine, open_now).values(last_day=yesterday))
    connection.execute(sa.insert(u).values(account_id=account_id, value=value, first_day=day))


def unallocated_on(connection: sa.Connection, day: date) -> dict[int, str]:
    """What accounts say that they may hold without an allocation on a day, by id; left out where they say nothing."""
    u = account_unallocated
    return {row.account_id: row.value for row in connection.execute(sa.select(u).where(in_force(u, day)))}


def root(connection: sa.Connection) -> AccountRecord | None:
    """The operator: the account that has no parent."""
    return fetch_first(
        connection,
        sa.select(accounts)
        .join(account_parents, account_parents.c.account_id == accounts.c.id)
        .where(account_parents.c.parent_id.is_(None)),
        AccountRecord,
    )


def changes_of_place(connection: sa.Connection, first: date, last: date) -> list[date]:
    """Days within a period on which the tree differs from the day before."""
    return sorted(
        connection.scalars(
            sa.select(account_parents.c.first_day)
            .distinct()
            .where(account_parents.c.first_day > first, account_parents.c.first_day <= last)
        )
    )


def ids_by_code(connection: sa.Connection, codes: Collection[str] | None = None) -> dict[str, int]:
    """The ids of accounts by their codes: of every account, if not said of which."""
    wanted = sa.select(accounts.c.code, accounts.c.id)
    if codes is not None and len(codes) <= 2 * FEW:
        wanted = wanted.where(accounts.c.code.in_(codes))
    return {row.code: row.id for row in connection.execute(wanted)}


def insert(connection: sa.Connection, row: dict[str, Any]) -> int:
    """A new account's id."""
    return insert_row(connection, accounts, row)


def update(connection: sa.Connection, account_id: int, values: dict[str, Any]) -> None:
    """Other facts of an account."""
    connection.execute(sa.update(accounts).where(accounts.c.id == account_id).values(values))


def place(connection: sa.Connection, parents: dict[str, str | None], today: date) -> int:
    """Put accounts below their parents (codes); how many of them stood elsewhere before and moved today."""
    wanted = {*parents, *(each for each in parents.values() if each is not None)}
    ids = ids_by_code(connection, wanted)
    p = account_parents
    open_now = sa.select(p).where(p.c.last_day.is_(None))
    if len(parents) <= FEW:
        open_now = open_now.where(p.c.account_id.in_([ids[code] for code in parents]))
    there = {row.account_id: row for row in connection.execute(open_now)}
    elsewhere: list[int] = []
    new: list[dict[str, Any]] = []
    moved = 0
    for code, parent in parents.items():
        account_id, parent_id = ids[code], None if parent is None else ids[parent]
        now = there.get(account_id)
        if now is None:
            new.append({"account_id": account_id, "parent_id": parent_id, "first_day": None})
            elsewhere.append(account_id)
        elif now.parent_id != parent_id:
            moved += 1
            elsewhere.append(account_id)
            if now.first_day == today:
                connection.execute(sa.update(p).where(p.c.id == now.id).values(parent_id=parent_id))
                continue
            yesterday = date.fromordinal(today.toordinal() - 1)
            connection.execute(sa.update(p).where(p.c.id == now.id).values(last_day=yesterday))
            new.append({"account_id": account_id, "parent_id": parent_id, "first_day": today})
    if new:
        connection.execute(sa.insert(p), new)
    if len(elsewhere) <= FEW:
        for account_id in elsewhere:
            _put_path(connection, account_id)
    else:
        _put_paths(connection)
    return moved


FEW = 200
DIGITS = "0123456789abcdefghijklmnopqrstuvwxyz"
DIGITS_OF_EACH, DEEPEST = 6, 500


def _in_36(number: int) -> str:
    found = ""
    for _ in range(DIGITS_OF_EACH):
        number, rest = divmod(number, len(DIGITS))
        found = DIGITS[rest] + found
    return found


def _put_path(connection: sa.Connection, account_id: int) -> None:
    """The path of an account that stands elsewhere now, and of its branch."""
    a, p = accounts, account_parents
    before = connection.scalar(sa.select(a.c.path).where(a.c.id == account_id))
    above = sa.select(a.c.path).join(p, p.c.parent_id == a.c.id)
    path = connection.scalar(above.where(p.c.account_id == account_id, p.c.last_day.is_(None))) or ""
    path += _in_36(account_id)
    _check_depth(path)
    if not before:
        connection.execute(sa.update(a).where(a.c.id == account_id).values(path=path))
        return
    inside = a.c.path.between(before, before + "~")
    moved = sa.func.concat(path, sa.func.substr(a.c.path, len(before) + 1))
    connection.execute(sa.update(a).where(inside).values(path=moved))


def _put_paths(connection: sa.Connection) -> None:
    """The path of every account, where it is another than before."""
    a, p = accounts, account_parents
    parent = {
        row.account_id: row.parent_id
        for row in connection.execute(sa.select(p.c.account_id, p.c.parent_id).where(p.c.last_day.is_(None)))
    }
    path: dict[int | None, str] = {None: ""}
    for account_id in parent:
        way: list[int] = []
        above: int | None = account_id
        while above not in path:
            assert above is not None
            way.append(above)
            above = parent[above]
        for each in reversed(way):
            path[each] = path[parent[each]] + _in_36(each)
            _check_depth(path[each])
    there = {row.id: row.path for row in connection.execute(sa.select(a.c.id, a.c.path))}
    other = [{"key": each, "new": path[each]} for each, before in there.items() if path.get(each, "") != before]
    if other:
        connection.execute(sa.update(a).where(a.c.id == sa.bindparam("key")).values(path=sa.bindparam("new")), other)


def _check_depth(path: str) -> None:
    if len(path) > DIGITS_OF_EACH * DEEPEST:
        raise invalid(f"Accounts stand at most {DEEPEST} deep.", "parent")
