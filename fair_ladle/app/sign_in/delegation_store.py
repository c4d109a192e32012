"""Queries over delegations, the roles they give, and their history."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.accounts.tables import accounts
from fair_ladle.app.plumbing.database import fetch, fetch_first, insert_row
from fair_ladle.app.plumbing.permissions import ROLES
from fair_ladle.app.sign_in.rows import (
    DelegationRecord,
    GivenDelegation,
    NamedDelegation,
    OwnDelegation,
    PastDelegation,
    RoleRecord,
    Running,
    StandingDelegation,
)
from fair_ladle.app.sign_in.second_store import REQUIRED
from fair_ladle.app.sign_in.tables import (
    delegation_history,
    delegations,
    role_permissions,
    roles,
    second_factors,
    sign_ins,
)

_d = delegations.c
CALLED = sa.func.coalesce(delegations.c.name, sign_ins.c.name).label("name")
"""What somebody is called where they have a delegation: as they were called when it was given, so that nobody learns by
an address what its owner is called elsewhere."""


def running(connection: sa.Connection, account_ids: Collection[int], day: date) -> list[Running]:
    """Who has a delegation over one of these accounts itself, all of it, on a day."""
    d = delegations
    return fetch(
        connection,
        sa.select(d.c.account_id, sign_ins.c.id.label("sign_in_id"), CALLED, sign_ins.c.email, d.c.role, d.c.limits)
        .join(sign_ins, sign_ins.c.id == d.c.sign_in_id)
        .where(
            d.c.account_id.in_(account_ids),
            d.c.people_of.is_(None),
            d.c.ended_at.is_(None),
            sa.or_(d.c.first_day.is_(None), d.c.first_day <= day),
            sa.or_(d.c.last_day.is_(None), d.c.last_day >= day),
        )
        .order_by(CALLED),
        Running,
    )


def givers(connection: sa.Connection, delegation_id: int) -> set[int]:
    """The sign-ins through whose delegations one came about, from who gave it up to the first."""
    d, found, at = (
        delegations,
        set[int](),
        connection.scalar(sa.select(delegations.c.given_through).where(delegations.c.id == delegation_id)),
    )
    while at is not None:
        row = connection.execute(sa.select(d.c.sign_in_id, d.c.given_through).where(d.c.id == at)).one()
        found.add(row.sign_in_id)
        at = row.given_through
    return found


def standing(connection: sa.Connection, emails: Collection[str]) -> list[StandingDelegation]:
    """Delegations of these addresses that are not ended: id, sign_in_id, account_id, role and email."""
    d = delegations
    wanted = sa.select(d.c.id, d.c.sign_in_id, d.c.account_id, d.c.role, d.c.role_id, d.c.limits, sign_ins.c.email)
    joined = wanted.join(sign_ins, sign_ins.c.id == d.c.sign_in_id)
    return fetch(
        connection,
        joined.where(sign_ins.c.email.in_(emails), d.c.ended_at.is_(None)).order_by(d.c.id),
        StandingDelegation,
    )


def end_delegations(connection: sa.Connection, ids: Collection[int], at: datetime, by: str) -> None:
    """Delegations are over."""
    d = delegations
    for each in sorted(ids):
        connection.execute(sa.update(d).where(d.c.id == each).values(ended_at=at, ended_by=by[:200]))


def delegate(connection: sa.Connection, sign_in_id: int, account_id: int, role: str, **more: Any) -> int:
    """Give a sign-in a branch to run; the delegation's number."""
    return insert_row(
        connection, delegations, {"sign_in_id": sign_in_id, "account_id": account_id, "role": role, **more}
    )


def delegations_of(connection: sa.Connection, sign_in_id: int, day: date) -> list[OwnDelegation]:
    """What a sign-in may run on a day, with the accounts' codes and names."""
    d = delegations
    return fetch(
        connection,
        sa.select(
            d.c.id.label("delegation_id"),
            d.c.name.label("called"),
            d.c.role,
            d.c.role_id,
            d.c.limits,
            d.c.people_of,
            accounts.c.id.label("account_id"),
            accounts.c.code,
            accounts.c.name,
            accounts.c.kind,
        )
        .join(accounts, accounts.c.id == d.c.account_id)
        .where(
            d.c.sign_in_id == sign_in_id,
            d.c.ended_at.is_(None),
            sa.or_(d.c.first_day.is_(None), d.c.first_day <= day),
            sa.or_(d.c.last_day.is_(None), d.c.last_day >= day),
        )
        .order_by(d.c.id),
        OwnDelegation,
    )


COMPOSED = (
    sa.select(sa.func.group_concat(role_permissions.c.permission))
    .where(role_permissions.c.role_id == _d.role_id)
    .scalar_subquery()
    .label("composed")
)
"""The permissions of a delegation's composed role, with commas between."""


RUN = (
    _d.id.label("delegation_id"),
    _d.role,
    _d.role_id,
    _d.first_day,
    _d.last_day,
    _d.account_id,
    _d.limits,
    _d.people_of,
    COMPOSED,
)


LACKS_SECOND_FACTOR = sa.and_(
    REQUIRED,
    ~sa.exists().where(
        second_factors.c.sign_in_id == delegations.c.sign_in_id, second_factors.c.confirmed_at.is_not(None)
    ),
).label("lacks_second_factor")
"""Whether a delegation is one that nobody has without a second factor, and whoever has it has none."""


ACCOUNT = (accounts.c.code, accounts.c.name, accounts.c.kind, accounts.c.currency)


def permissions_of(connection: sa.Connection, role_ids: Collection[int]) -> dict[int, frozenset[str]]:
    """The permissions of roles that accounts have composed."""
    found: dict[int, set[str]] = {each: set() for each in role_ids}
    p = role_permissions
    for row in connection.execute(sa.select(p).where(p.c.role_id.in_(role_ids))) if role_ids else []:
        found[row.role_id].add(row.permission)
    return {each: frozenset(names) for each, names in found.items()}


def composed_roles(connection: sa.Connection, inside: sa.ColumnElement[bool]) -> list[RoleRecord]:
    """id, account_id and name of the roles of a branch's accounts."""
    return fetch(connection, sa.select(roles).where(inside).order_by(roles.c.name), RoleRecord)


def put_role(
    connection: sa.Connection, role_id: int | None, account_id: int, name: str, permissions: Collection[str]
) -> int:
    """Make or change a composed role."""
    if role_id is None:
        role_id = insert_row(connection, roles, {"account_id": account_id, "name": name})
    else:
        connection.execute(sa.update(roles).where(roles.c.id == role_id).values(name=name))
        connection.execute(sa.delete(role_permissions).where(role_permissions.c.role_id == role_id))
    rows = [{"role_id": role_id, "permission": each} for each in sorted(permissions)]
    connection.execute(sa.insert(role_permissions), rows)
    return role_id


def drop_role(connection: sa.Connection, role_id: int) -> None:
    """Take a composed role away."""
    connection.execute(sa.delete(role_permissions).where(role_permissions.c.role_id == role_id))
    connection.execute(sa.delete(roles).where(roles.c.id == role_id))


def has_role(connection: sa.Connection, role_id: int) -> bool:
    """Whether any delegation, ended or not, has a composed role."""
    d = delegations
    return connection.execute(sa.select(d.c.id).where(d.c.role_id == role_id).limit(1)).first() is not None


def given_in(
    connection: sa.Connection,
    inside: sa.ColumnElement[bool],
    delegation_id: int | None = None,
    words: Collection[str] = (),
    limit: int | None = None,
) -> list[GivenDelegation]:
    """The delegations over accounts of a branch that are not ended, with whom and where, in the order of the tree: one
    of them, or the first that have all of these words in whom, where or as what."""
    d = delegations
    wanted = (
        sa.select(
            *(each for each in d.c if each.name != "name"),
            sign_ins.c.email,
            CALLED,
            accounts.c.code,
            accounts.c.name.label("account_name"),
            accounts.c.kind,
            accounts.c.path,
            roles.c.name.label("role_name"),
        )
        .join(sign_ins, sign_ins.c.id == d.c.sign_in_id)
        .join(accounts, accounts.c.id == d.c.account_id)
        .outerjoin(roles, roles.c.id == d.c.role_id)
        .where(inside, d.c.ended_at.is_(None))
        .order_by(accounts.c.path, CALLED, d.c.id)
    )
    if delegation_id is not None:
        wanted = wanted.where(d.c.id == delegation_id)
    for word in words:
        told, small = (CALLED, sign_ins.c.email, accounts.c.name, accounts.c.code, roles.c.name), word.lower()
        ready = d.c.role.in_([key for key, each in ROLES.items() if small in each.name.lower()])
        wanted = wanted.where(sa.or_(ready, *(sa.func.lower(each).contains(small, autoescape=True) for each in told)))
    return fetch(connection, wanted.limit(limit), GivenDelegation)


@dataclass(frozen=True)
class Standing:
    """How many delegations a branch has, how many of them end within some days, and how many have each role (by its
    key)."""

    count: int
    ending: int
    by_role: dict[str, int]


def standing_in(connection: sa.Connection, inside: sa.ColumnElement[bool], day: date, until: date) -> Standing:
    """What the delegations of a branch that are not ended come to."""
    d = delegations
    ends = sa.func.coalesce(sa.func.sum(sa.case((d.c.last_day.between(day, until), 1), else_=0)), 0)
    wanted = sa.select(d.c.role, d.c.role_id, sa.func.count().label("many"), ends.label("ending"))
    joined = wanted.join(accounts, accounts.c.id == d.c.account_id).where(inside, d.c.ended_at.is_(None))
    rows = connection.execute(joined.group_by(d.c.role, d.c.role_id)).all()
    by_role = {str(each.role_id) if each.role_id is not None else each.role: int(each.many) for each in rows}
    return Standing(sum(by_role.values()), sum(int(each.ending) for each in rows), by_role)


def lock_delegations(connection: sa.Connection, account_id: int) -> list[DelegationRecord]:
    """The delegations over an account that are not ended, locked by their keys."""
    d = delegations
    ids = list(connection.scalars(sa.select(d.c.id).where(d.c.account_id == account_id, d.c.ended_at.is_(None))))
    if not ids:
        return []
    wanted = sa.select(d).where(d.c.id.in_(ids)).order_by(d.c.id).with_for_update()
    return [row for row in fetch(connection, wanted, DelegationRecord) if row.ended_at is None]


def change_delegation(connection: sa.Connection, delegation_id: int, values: dict[str, Any]) -> None:
    """Another role, days or right to pass on for a delegation."""
    connection.execute(sa.update(delegations).where(delegations.c.id == delegation_id).values(values))


def accounts_run(connection: sa.Connection, inside: sa.ColumnElement[bool], day: date) -> set[int]:
    """The accounts of a branch that somebody runs on a day."""
    d = delegations
    wanted = (
        sa.select(d.c.account_id)
        .distinct()
        .where(
            inside,
            d.c.ended_at.is_(None),
            d.c.people_of.is_(None),
            sa.or_(d.c.first_day.is_(None), d.c.first_day <= day),
            sa.or_(d.c.last_day.is_(None), d.c.last_day >= day),
        )
    )
    return set(connection.scalars(wanted))


def delegations_by_id(connection: sa.Connection, ids: Collection[int]) -> list[NamedDelegation]:
    """Delegations with their composed roles' names, by number."""
    d = delegations
    wanted = sa.select(d, roles.c.name.label("role_name")).outerjoin(roles, roles.c.id == d.c.role_id)
    return fetch(connection, wanted.where(d.c.id.in_(ids)).order_by(d.c.id), NamedDelegation) if ids else []


def with_role(connection: sa.Connection, role_id: int) -> list[int]:
    """The delegations with a composed role that are not ended."""
    d = delegations
    return list(connection.scalars(sa.select(d.c.id).where(d.c.role_id == role_id, d.c.ended_at.is_(None))))


def add_history(connection: sa.Connection, rows: list[dict[str, Any]]) -> None:
    """Keep what delegations are from an instant on."""
    if rows:
        connection.execute(sa.insert(delegation_history), rows)


def history_on(
    connection: sa.Connection, inside: sa.ColumnElement[bool], day: date, begins: datetime, ends: datetime
) -> list[PastDelegation]:
    """The delegations of a branch that held at some time of a day, each as it was last before its end."""
    d, h = delegations, delegation_history
    newest = (
        sa.select(sa.func.max(h.c.id))
        .where(h.c.delegation_id == d.c.id, h.c.since < ends)
        .correlate(d)
        .scalar_subquery()
    )
    wanted = (
        sa.select(
            h.c.role_name,
            h.c.permissions,
            h.c.passes_on,
            sign_ins.c.email,
            CALLED,
            accounts.c.code,
            accounts.c.name.label("account_name"),
        )
        .select_from(d)
        .join(h, h.c.id == newest)
        .join(sign_ins, sign_ins.c.id == d.c.sign_in_id)
        .join(accounts, accounts.c.id == d.c.account_id)
        .where(
            inside,
            sa.or_(d.c.ended_at.is_(None), d.c.ended_at >= begins),
            sa.or_(h.c.first_day.is_(None), h.c.first_day <= day),
            sa.or_(h.c.last_day.is_(None), h.c.last_day >= day),
        )
        .order_by(accounts.c.path, CALLED, d.c.id)
    )
    return fetch(connection, wanted, PastDelegation)


def lock_delegation(connection: sa.Connection, delegation_id: int) -> DelegationRecord | None:
    """A delegation, locked."""
    return fetch_first(
        connection, sa.select(delegations).where(delegations.c.id == delegation_id).with_for_update(), DelegationRecord
    )
