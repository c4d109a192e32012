"""Queries over sign-ins, delegations, sessions and failed tries."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any

import sqlalchemy as sa
from sqlalchemy.dialects import mysql

from fair_ladle.app.accounts.tables import accounts
from fair_ladle.app.plumbing import generations
from fair_ladle.app.plumbing.database import Transaction, insert_row
from fair_ladle.app.plumbing.permissions import ROLES
from fair_ladle.app.plumbing.tables import demo_clock
from fair_ladle.app.sign_in.tables import (
    api_keys,
    delegation_history,
    delegations,
    failed_tries,
    recovery_codes,
    role_permissions,
    roles,
    second_factor_rules,
    second_factors,
    sessions,
    sign_in_links,
    sign_ins,
)

CALLED = sa.func.coalesce(delegations.c.name, sign_ins.c.name).label("name")
"""What somebody is called where they have a delegation: as they were called when it was given, so that nobody learns by
an address what its owner is called elsewhere."""


def by_email(connection: sa.Connection, email: str) -> Any | None:
    """A sign-in by its address."""
    return connection.execute(sa.select(sign_ins).where(sign_ins.c.email == email)).first()


def by_id(connection: sa.Connection, sign_in_id: int) -> Any | None:
    """A sign-in by its number."""
    return connection.execute(sa.select(sign_ins).where(sign_ins.c.id == sign_in_id)).first()


def running(connection: sa.Connection, account_ids: Collection[int], day: date) -> list[Any]:
    """Who has a delegation over one of these accounts itself, all of it, on a day."""
    d = delegations
    return list(
        connection.execute(
            sa.select(d.c.account_id, sign_ins.c.id.label("sign_in_id"), CALLED, sign_ins.c.email, d.c.role, d.c.limits)
            .join(sign_ins, sign_ins.c.id == d.c.sign_in_id)
            .where(
                d.c.account_id.in_(account_ids),
                d.c.people_of.is_(None),
                d.c.ended_at.is_(None),
                sa.or_(d.c.first_day.is_(None), d.c.first_day <= day),
                sa.or_(d.c.last_day.is_(None), d.c.last_day >= day),
            )
            .order_by(CALLED)
        )
    )


def add(connection: sa.Connection, email: str, name: str, password_hash: str) -> int:
    """A new sign-in's id."""
    return insert_row(connection, sign_ins, {"email": email, "name": name, "password_hash": password_hash})


def set_password(connection: sa.Connection, sign_in_id: int, password_hash: str) -> None:
    """Another password; every session of it ends."""
    rehash(connection, sign_in_id, password_hash)
    end_sessions(connection, [sign_in_id])


def rehash(connection: sa.Connection, sign_in_id: int, password_hash: str) -> None:
    """The same password, hashed anew."""
    connection.execute(sa.update(sign_ins).where(sign_ins.c.id == sign_in_id).values(password_hash=password_hash))


def rehearse(tx: Transaction) -> None:
    """Where ending delegations is only tried out: go on with copies."""
    tx.rehearse(delegations)
    tx.rehearse(sessions)


def end_sessions(connection: sa.Connection, sign_in_ids: Collection[int]) -> None:
    """Every session of these sign-ins ends."""
    if sign_in_ids:
        connection.execute(sa.delete(sessions).where(sessions.c.sign_in_id.in_(sign_in_ids)))


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


def standing(connection: sa.Connection, emails: Collection[str]) -> list[Any]:
    """Delegations of these addresses that are not ended: id, sign_in_id, account_id, role and email."""
    d = delegations
    wanted = sa.select(d.c.id, d.c.sign_in_id, d.c.account_id, d.c.role, d.c.role_id, d.c.limits, sign_ins.c.email)
    joined = wanted.join(sign_ins, sign_ins.c.id == d.c.sign_in_id)
    return list(connection.execute(joined.where(sign_ins.c.email.in_(emails), d.c.ended_at.is_(None)).order_by(d.c.id)))


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


def delegations_of(connection: sa.Connection, sign_in_id: int, day: date) -> list[Any]:
    """What a sign-in may run on a day, with the accounts' codes and names."""
    d = delegations
    return list(
        connection.execute(
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
            .order_by(d.c.id)
        )
    )


def begin_session(connection: sa.Connection, row: dict[str, Any]) -> None:
    """Keep a session."""
    connection.execute(sa.insert(sessions), [row])


def session(connection: sa.Connection, token_hash: str) -> list[Any]:
    """A session with its sign-in, a row for each delegation that is not ended, with its account; and all
    ``generations`` of that instant."""
    d = delegations
    wanted = sa.select(
        sessions, sign_ins.c.email, CALLED.label("person"), *RUN, *ACCOUNT, LACKS_SECOND_FACTOR, generations.ALL
    )
    joined = wanted.join(sign_ins, sign_ins.c.id == sessions.c.sign_in_id).join(d, d.c.sign_in_id == sign_ins.c.id)
    mine = sa.and_(sessions.c.token_hash == token_hash, d.c.ended_at.is_(None))
    return list(connection.execute(joined.join(accounts, accounts.c.id == d.c.account_id).where(mine).order_by(d.c.id)))


_d = delegations.c
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
_above = accounts.alias("above")
_REQUIRED = sa.exists().where(
    _above.c.id == second_factor_rules.c.account_id,
    accounts.c.path.startswith(_above.c.path),
    sa.or_(
        second_factor_rules.c.role == "",
        second_factor_rules.c.role == delegations.c.role,
        sa.cast(second_factor_rules.c.role, sa.BigInteger) == delegations.c.role_id,
    ),
)
LACKS_SECOND_FACTOR = sa.and_(
    _REQUIRED,
    ~sa.exists().where(
        second_factors.c.sign_in_id == delegations.c.sign_in_id, second_factors.c.confirmed_at.is_not(None)
    ),
).label("lacks_second_factor")
"""Whether a delegation is one that nobody has without a second factor, and whoever has it has none."""
ACCOUNT = (accounts.c.code, accounts.c.name, accounts.c.kind, accounts.c.currency)


def touch_session(connection: sa.Connection, token_hash: str, at: datetime) -> None:
    """Note that a session was used."""
    connection.execute(sa.update(sessions).where(sessions.c.token_hash == token_hash).values(last_used=at))


def end_session(connection: sa.Connection, token_hash: str) -> None:
    """Forget a session."""
    connection.execute(sa.delete(sessions).where(sessions.c.token_hash == token_hash))


def end_old_sessions(connection: sa.Connection, used_before: datetime, began_before: datetime) -> None:
    """Forget sessions nobody can use any more."""
    over = sa.select(sessions.c.token_hash).where(
        sa.or_(sessions.c.last_used < used_before, sessions.c.began < began_before)
    )
    # Looked for without a lock and ended by their keys: nobody who is at work waits for who comes in.
    connection.execute(sa.delete(sessions).where(sessions.c.token_hash.in_(connection.scalars(over.limit(1000)).all())))


def count_try(connection: sa.Connection, email: str, origin: str, now: datetime, since: datetime) -> int:
    """Count a try under the lock of its row, before it is verified; how many there were since an instant, with it."""
    f = failed_tries
    new = mysql.insert(f).values(email=email[:254], origin=origin[:64], tries=1, last_at=now)
    counted = sa.case((f.c.last_at < since, 1), else_=f.c.tries + 1)
    connection.execute(new.on_duplicate_key_update([("tries", counted), ("last_at", now)]))
    mine = sa.and_(f.c.email == email[:254], f.c.origin == origin[:64])
    return int(connection.scalar(sa.select(f.c.tries).where(mine)) or 0)


def clear_tries(connection: sa.Connection, email: str, origin: str, before: datetime) -> None:
    """Forget the tries of an address and origin, and a part of all that are old."""
    f = failed_tries
    mine = sa.and_(f.c.email == email[:254], f.c.origin == origin[:64])
    connection.execute(sa.delete(f).where(mine))
    old = connection.execute(sa.select(f.c.email, f.c.origin).where(f.c.last_at < before).limit(100)).all()
    if old:  # one by one: pairs in a list are not looked up by the key here
        one = sa.delete(f).where(f.c.email == sa.bindparam("of"), f.c.origin == sa.bindparam("from"))
        connection.execute(one, [{"of": each.email, "from": each.origin} for each in old])


def forget_tries(connection: sa.Connection, email: str) -> None:
    """Forget all tries at an address."""
    f = failed_tries
    for each in connection.scalars(sa.select(f.c.origin).where(f.c.email == email)).all():
        connection.execute(sa.delete(f).where(f.c.email == email, f.c.origin == each))


def set_demo_clock(connection: sa.Connection, demo_at: datetime, real_at: datetime) -> None:
    """Let the demo's time run on from an instant."""
    connection.execute(sa.delete(demo_clock))
    connection.execute(sa.insert(demo_clock).values(demo_at=demo_at, real_at=real_at))


def add_link(connection: sa.Connection, row: dict[str, Any]) -> None:
    """Keep a link."""
    connection.execute(sa.insert(sign_in_links).values(row))


def drop_links(connection: sa.Connection, kind: str, sign_in_id: int | None) -> None:
    """Links of a kind (for a sign-in) work no more."""
    k = sign_in_links
    mine = k.c.sign_in_id.is_(None) if sign_in_id is None else k.c.sign_in_id == sign_in_id
    found = list(connection.scalars(sa.select(k.c.token_hash).where(mine, k.c.kind == kind)))
    if found:
        connection.execute(sa.delete(k).where(k.c.token_hash.in_(found)))


def link(connection: sa.Connection, token_hash: str, locked: bool) -> Any | None:
    """A link by its token's hash."""
    wanted = sa.select(sign_in_links).where(sign_in_links.c.token_hash == token_hash)
    return connection.execute(wanted.with_for_update() if locked else wanted).first()


def use_link(connection: sa.Connection, token_hash: str, at: datetime) -> None:
    """Note that a link is used."""
    connection.execute(sa.update(sign_in_links).where(sign_in_links.c.token_hash == token_hash).values(used_at=at))


def linked_since(connection: sa.Connection, kind: str, sign_in_id: int, since: datetime) -> bool:
    """Whether a sign-in got a link of a kind after an instant."""
    k = sign_in_links
    wanted = sa.select(sa.literal(1)).where(k.c.sign_in_id == sign_in_id, k.c.kind == kind, k.c.made_at > since)
    return connection.execute(wanted).first() is not None


def permissions_of(connection: sa.Connection, role_ids: Collection[int]) -> dict[int, frozenset[str]]:
    """The permissions of roles that accounts have composed."""
    found: dict[int, set[str]] = {each: set() for each in role_ids}
    p = role_permissions
    for row in connection.execute(sa.select(p).where(p.c.role_id.in_(role_ids))) if role_ids else []:
        found[row.role_id].add(row.permission)
    return {each: frozenset(names) for each, names in found.items()}


def composed_roles(connection: sa.Connection, inside: sa.ColumnElement[bool]) -> list[Any]:
    """id, account_id and name of the roles of a branch's accounts."""
    return list(connection.execute(sa.select(roles).where(inside).order_by(roles.c.name)))


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
) -> list[Any]:
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
    return list(connection.execute(wanted.limit(limit)))


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


def lock_delegations(connection: sa.Connection, account_id: int) -> list[Any]:
    """The delegations over an account that are not ended, locked by their keys."""
    d = delegations
    ids = list(connection.scalars(sa.select(d.c.id).where(d.c.account_id == account_id, d.c.ended_at.is_(None))))
    if not ids:
        return []
    wanted = sa.select(d).where(d.c.id.in_(ids)).order_by(d.c.id).with_for_update()
    return [row for row in connection.execute(wanted) if row.ended_at is None]


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


def sessions_of(connection: sa.Connection, sign_in_id: int) -> list[Any]:
    """The sessions of a sign-in, the last used first."""
    mine = sa.select(sessions).where(sessions.c.sign_in_id == sign_in_id)
    return list(connection.execute(mine.order_by(sessions.c.last_used.desc())))


def end_sessions_named(connection: sa.Connection, token_hashes: Collection[str]) -> None:
    """Forget sessions by their tokens' hashes."""
    if token_hashes:
        connection.execute(sa.delete(sessions).where(sessions.c.token_hash.in_(token_hashes)))


def second_factor(connection: sa.Connection, sign_in_id: int, locked: bool = False) -> Any | None:
    """A sign-in's second factor, in force or not yet."""
    wanted = sa.select(second_factors).where(second_factors.c.sign_in_id == sign_in_id)
    return connection.execute(wanted.with_for_update() if locked else wanted).first()


def put_second_factor(connection: sa.Connection, sign_in_id: int, values: dict[str, Any]) -> None:
    """Make or change a sign-in's second factor."""
    new = mysql.insert(second_factors).values(sign_in_id=sign_in_id, **{"last_step": 0, **values})
    connection.execute(new.on_duplicate_key_update(**values))


def drop_second_factor(connection: sa.Connection, sign_in_id: int) -> None:
    """A sign-in has no second factor any more."""
    for table in (second_factors, recovery_codes):
        connection.execute(sa.delete(table).where(table.c.sign_in_id == sign_in_id))


def put_recovery_codes(connection: sa.Connection, sign_in_id: int, hashes: Collection[str]) -> None:
    """Other recovery codes in place of those there were."""
    connection.execute(sa.delete(recovery_codes).where(recovery_codes.c.sign_in_id == sign_in_id))
    connection.execute(sa.insert(recovery_codes), [{"sign_in_id": sign_in_id, "code_hash": each} for each in hashes])


def take_recovery_code(connection: sa.Connection, sign_in_id: int, code_hash: str) -> bool:
    """Use up a recovery code; whether there was one."""
    r = recovery_codes
    gone = connection.execute(sa.delete(r).where(r.c.sign_in_id == sign_in_id, r.c.code_hash == code_hash))
    return gone.rowcount == 1


def recovery_codes_left(connection: sa.Connection, sign_in_id: int) -> int:
    """How many recovery codes a sign-in has left."""
    mine = sa.select(sa.func.count()).where(recovery_codes.c.sign_in_id == sign_in_id)
    return int(connection.scalar(mine) or 0)


def delegations_by_id(connection: sa.Connection, ids: Collection[int]) -> list[Any]:
    """Delegations with their composed roles' names, by number."""
    d = delegations
    wanted = sa.select(d, roles.c.name.label("role_name")).outerjoin(roles, roles.c.id == d.c.role_id)
    return list(connection.execute(wanted.where(d.c.id.in_(ids)).order_by(d.c.id))) if ids else []


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
) -> list[Any]:
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
    return list(connection.execute(wanted))


def lock_delegation(connection: sa.Connection, delegation_id: int) -> Any | None:
    """A delegation, locked."""
    return connection.execute(sa.select(delegations).where(delegations.c.id == delegation_id).with_for_update()).first()


def keys_of(connection: sa.Connection, delegation_id: int, now: datetime) -> list[Any]:
    """The keys of a delegation that work, the newest first."""
    k = api_keys
    working = (k.c.delegation_id == delegation_id, k.c.ended_at.is_(None), k.c.expires_at > now)
    return list(connection.execute(sa.select(k).where(*working).order_by(k.c.id.desc())))


def keys_working(connection: sa.Connection, delegation_ids: Collection[int], now: datetime) -> dict[int, int]:
    """How many keys that work these delegations have, by their numbers."""
    k = api_keys
    wanted = sa.select(k.c.delegation_id, sa.func.count()).where(k.c.delegation_id.in_(delegation_ids))
    working = wanted.where(k.c.ended_at.is_(None), k.c.expires_at > now)
    return {each[0]: each[1] for each in connection.execute(working.group_by(k.c.delegation_id))}


def add_key(connection: sa.Connection, row: dict[str, Any]) -> None:
    """Keep a key."""
    connection.execute(sa.insert(api_keys).values(row))


def change_key(connection: sa.Connection, key_id: int, values: dict[str, Any]) -> None:
    """Another end for a key."""
    connection.execute(sa.update(api_keys).where(api_keys.c.id == key_id).values(values))


def end_keys(connection: sa.Connection, delegation_id: int, at: datetime) -> int:
    """Every key of a delegation works no more; how many those were."""
    k = api_keys
    ids = list(connection.scalars(sa.select(k.c.id).where(k.c.delegation_id == delegation_id, k.c.ended_at.is_(None))))
    for each in ids:
        connection.execute(sa.update(k).where(k.c.id == each).values(ended_at=at))
    return len(ids)


def key(connection: sa.Connection, key_hash: str) -> Any | None:
    """A key with its delegation, which is not ended, whose it is and over which account."""
    d, k = delegations, api_keys
    mine = [
        k.c.id.label("key_id"),
        k.c.name.label("key_name"),
        k.c.ending,
        k.c.permissions,
        k.c.limits.label("key_limits"),
        k.c.expires_at,
        k.c.ended_at,
        d.c.sign_in_id,
    ]
    wanted = sa.select(*mine, sign_ins.c.email, CALLED.label("person"), *RUN, *ACCOUNT, LACKS_SECOND_FACTOR)
    joined = wanted.join(d, d.c.id == k.c.delegation_id).join(sign_ins, sign_ins.c.id == d.c.sign_in_id)
    found = joined.join(accounts, accounts.c.id == d.c.account_id)
    return connection.execute(found.where(k.c.key_hash == key_hash, d.c.ended_at.is_(None))).first()


def count_key(connection: sa.Connection, key_id: int, minute: int, at: datetime, origin: str) -> int:
    """Count a request that a key makes; how many there were in this minute, with it."""
    k = api_keys
    counted = sa.case((k.c.minute == minute, k.c.asked + 1), else_=1)
    values = [(k.c.asked, counted), (k.c.minute, minute), (k.c.last_used, at), (k.c.last_origin, origin)]
    connection.execute(sa.update(k).where(k.c.id == key_id).ordered_values(*values))
    return int(connection.scalar(sa.select(k.c.asked).where(k.c.id == key_id)) or 0)


def second_factor_rules_in(connection: sa.Connection, inside: sa.ColumnElement[bool]) -> list[Any]:
    """The branches of a branch, and roles in them, that nobody runs without a second factor."""
    r = second_factor_rules
    named = sa.select(r.c.role, accounts.c.code, accounts.c.name).join(accounts, accounts.c.id == r.c.account_id)
    return list(connection.execute(named.where(inside).order_by(accounts.c.path, r.c.role)))


def put_second_factor_rule(connection: sa.Connection, account_id: int, role: str, required: bool) -> bool:
    """Require a second factor, or require it no more; whether that was otherwise."""
    r = second_factor_rules
    mine = sa.and_(r.c.account_id == account_id, r.c.role == role)
    there = connection.execute(sa.select(r).where(mine)).first() is not None
    if required and not there:
        connection.execute(sa.insert(r).values(account_id=account_id, role=role))
    elif there and not required:
        connection.execute(sa.delete(r).where(mine))
    return there != required


def is_second_factor_required(connection: sa.Connection, sign_in_id: int) -> bool:
    """Whether somebody has a delegation that nobody has without a second factor."""
    d = delegations
    wanted = sa.select(d.c.id).join(accounts, accounts.c.id == d.c.account_id)
    mine = wanted.where(d.c.sign_in_id == sign_in_id, d.c.ended_at.is_(None), _REQUIRED)
    return connection.execute(mine.limit(1)).first() is not None


def has_session_from(connection: sa.Connection, sign_in_id: int, origin: str) -> bool:
    """Whether a sign-in has a session that began from an address."""
    s = sessions
    wanted = sa.select(s.c.sign_in_id).where(s.c.sign_in_id == sign_in_id, s.c.origin == origin[:64]).limit(1)
    return connection.execute(wanted).first() is not None
