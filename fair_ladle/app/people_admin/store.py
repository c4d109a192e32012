"""Queries over people with what they hold, and over kept views."""

from __future__ import annotations

import re
from array import array
from collections import Counter
from collections.abc import Collection, Sequence
from datetime import datetime
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.enforcement.tables import holds as enforcement_holds
from fair_ladle.app.people.rows import ListedPerson
from fair_ladle.app.people.tables import invitations, people
from fair_ladle.app.people_admin.rows import (
    AtAddress,
    DomainRecord,
    EverHeld,
    HeldUnit,
    JoinRecord,
    ReservedSeat,
    ViewRecord,
)
from fair_ladle.app.people_admin.tables import email_domains, join_requests, saved_views
from fair_ladle.app.plumbing.database import fetch, fetch_first
from fair_ladle.app.sign_in.tables import delegations, roles, sign_ins
from fair_ladle.app.usage.tables import assignments

Clause = sa.ColumnElement[bool]


def holds(product_ids: Collection[int], at: datetime) -> Clause:
    """Somebody has a unit of one of these products, of seats or sessions, in their own account at an instant: as it is
    counted best.

    For a page, where a hundred of all people are enough, it is asked of each as they come: see ``one_by_one``.
    """
    a = assignments
    return sa.exists(
        sa.select(a.c.id).where(
            a.c.subject == people.c.username,
            a.c.account_id == people.c.account_id,
            a.c.product_id.in_(product_ids),
            a.c.begins <= at,
            sa.or_(a.c.ends.is_(None), a.c.ends > at),
        )
    )


def one_by_one(exists: Any) -> Clause:
    """The same condition, so that the database does not turn it into a join over everybody first."""
    return exists.element.limit(1).scalar_subquery().is_not(None)  # type: ignore[no-any-return]


def is_admin() -> Clause:
    """Somebody with whose address an account is run."""
    return sa.exists(
        sa.select(sign_ins.c.id)
        .join(delegations, delegations.c.sign_in_id == sign_ins.c.id)
        .where(sign_ins.c.email == people.c.email_small, delegations.c.ended_at.is_(None))
    )


FEW, FEW_FAR_DOWN = 5000, 20_000
"""How many are looked for and put in order at once: far down a list, walking along an index to there would take
longer."""


def _listed() -> sa.Select[Any]:
    """People with whether they run an account, and up to when their open invitation works, or worked."""
    i = invitations
    of_them = sa.and_(i.c.person_id == people.c.id, i.c.used_at.is_(None), i.c.withdrawn_at.is_(None))
    until = sa.select(sa.func.max(i.c.expires_at)).where(of_them).scalar_subquery()
    return sa.select(people, is_admin().label("admin"), until.label("invited_until"))


def page(
    connection: sa.Connection,
    where: Sequence[Clause],
    order: Sequence[Any],
    offset: int,
    limit: int,
    counted: int | None = None,
    are_many: bool = False,
) -> tuple[int | None, list[ListedPerson]]:
    """How many people there are of that kind, and those from one place of an order on.

    Where they are few, they are looked for once and put in order; where they are many, the first of them are soon
    found along an index, and only the counting would go through all: it is left to ``count``, and None stands for it
    unless ``counted`` says it. ``are_many`` where that is known before.
    """
    if counted == 0:
        return 0, []

    def shown(*wanted: Clause) -> list[ListedPerson]:
        # Picked first: what is said of each is asked of those that are shown, not of all that are put in order.
        picked = sa.select(people.c.id).where(*wanted).order_by(*order).offset(offset).limit(limit).subquery()
        return fetch(connection, _listed().join(picked, picked.c.id == people.c.id).order_by(*order), ListedPerson)

    most = FEW if offset < FEW else FEW_FAR_DOWN
    if (counted is None and not (are_many and most == FEW)) or (counted is not None and counted <= most):
        few = list(connection.scalars(sa.select(people.c.id).where(*where).limit(most + 1)))
        if len(few) <= most:
            return len(few), shown(people.c.id.in_(few)) if few else []
    return counted, shown(*where)


def has_many(connection: sa.Connection, product_id: int, inside: sa.ColumnElement[bool]) -> bool:
    """Whether more than a few units of a product are in use in a branch (``inside`` is of assignments.account_id)."""
    a = assignments
    some = sa.select(sa.literal(1)).where(a.c.product_id == product_id, a.c.ends.is_(None), inside).limit(FEW + 1)
    return int(connection.scalar(sa.select(sa.func.count()).select_from(some.subquery())) or 0) > FEW


def ordered_ids(connection: sa.Connection, where: Sequence[Clause], order: Sequence[Any]) -> array[int]:
    """The numbers of all people of that kind in an order."""
    asked = sa.select(people.c.id).where(*where).order_by(*order).execution_options(yield_per=10_000)
    return array("q", connection.scalars(asked))


def by_ids(connection: sa.Connection, wanted: Sequence[int]) -> list[ListedPerson]:
    """People by number, in the order in which they are named."""
    there = _listed().where(people.c.id.in_(wanted))
    rows = {row.id: row for row in fetch(connection, there, ListedPerson)}
    return [rows[each] for each in wanted]


def count(connection: sa.Connection, where: Sequence[Clause]) -> int:
    """How many people there are of that kind."""
    return int(connection.scalar(sa.select(sa.func.count()).select_from(people).where(*where)) or 0)


def ids(connection: sa.Connection, where: Sequence[Clause], limit: int) -> list[int]:
    """The numbers of people of that kind."""
    return list(connection.scalars(sa.select(people.c.id).where(*where).order_by(people.c.id).limit(limit)))


def one(connection: sa.Connection, username: str) -> ListedPerson | None:
    """Somebody by username."""
    return fetch_first(connection, _listed().where(people.c.username == username), ListedPerson)


def usernames_like(connection: sa.Connection, bases: Sequence[str]) -> set[str]:
    """Which usernames there are that are one of these, or, where that matters, one of these and a number."""
    first = set(connection.scalars(sa.select(people.c.username).where(people.c.username.in_(bases))))
    # A number matters only where the plain one is taken, or wanted twice.
    for base in first & set(bases) | {base for base, times in Counter(bases).items() if times > 1}:
        alike = sa.select(people.c.username).where(
            people.c.username.startswith(base, autoescape=True),
            people.c.username.regexp_match(f"^{re.escape(base)}[0-9]+$"),
        )
        first.update(connection.scalars(alike))
    return first


def held_by(
    connection: sa.Connection, product_ids: Collection[int], usernames: Collection[str], at: datetime
) -> list[HeldUnit]:
    """subject, product_id, account_id and begins of what these people have of some products, of seats or sessions, in
    their own accounts: a device or number of the same name is not theirs."""
    a = assignments
    wanted = (
        sa.select(a.c.subject, a.c.product_id, a.c.account_id, a.c.begins)
        .join(people, sa.and_(people.c.username == a.c.subject, people.c.account_id == a.c.account_id))
        .where(
            a.c.product_id.in_(product_ids),
            a.c.subject.in_(usernames),
            a.c.begins <= at,
            sa.or_(a.c.ends.is_(None), a.c.ends > at),
        )
    )
    return fetch(connection, wanted.order_by(a.c.subject, a.c.product_id), HeldUnit)


def reserved_seats(
    connection: sa.Connection,
    prefix: str,
    product_ids: Collection[int],
    account_ids: Collection[int] | None,
    at: datetime,
) -> list[ReservedSeat]:
    """Seats that are set aside in these accounts (None = all): product, account and since when, with whom they are
    for."""
    a = assignments
    wanted = (
        sa.select(a.c.product_id, a.c.account_id, a.c.begins, people.c.username, people.c.display_name, people.c.status)
        .join(people, people.c.username == sa.func.substr(a.c.subject, len(prefix) + 1))
        .where(
            a.c.product_id.in_(product_ids),
            a.c.subject.startswith(prefix, autoescape=True),
            a.c.begins <= at,
            sa.or_(a.c.ends.is_(None), a.c.ends > at),
        )
    )
    if account_ids is not None:
        wanted = wanted.where(a.c.account_id.in_(account_ids))
    return fetch(connection, wanted.order_by(a.c.begins, people.c.display_name).limit(1000), ReservedSeat)


def ever_held(
    connection: sa.Connection, product_ids: Collection[int], subjects: Sequence[str], at: datetime, limit: int = 300
) -> list[EverHeld]:
    """The assignments of these products that these subjects have or had, those of an instant first, then the newest;
    each with whether it is now (``is_open``) and whether it is on hold (``on_hold``)."""
    a, h = assignments, enforcement_holds
    held = sa.exists().where(h.c.assignment_id == a.c.id, h.c.ends.is_(None))
    is_open = sa.and_(a.c.begins <= at, sa.or_(a.c.ends.is_(None), a.c.ends > at)).label("is_open")
    wanted = sa.select(a, is_open, held.label("on_hold")).with_hint(a, "FORCE INDEX (ix_assignments_subject)", "mysql")
    mine = wanted.where(a.c.product_id.in_(product_ids), a.c.subject.in_(subjects))
    ordered = mine.order_by(is_open.desc(), a.c.begins.desc(), a.c.id.desc()).limit(limit)
    return fetch(connection, ordered, EverHeld)


def by_address(connection: sa.Connection, email: str) -> list[AtAddress]:
    """What an address runs (account_id and role), and who else has it (account_id, username and number)."""
    d, nothing = delegations, sa.null()
    runs = (
        sa.select(
            d.c.account_id,
            d.c.role,
            roles.c.name.label("role_name"),
            nothing.label("username"),
            nothing.label("id"),
        )
        .join(sign_ins, sign_ins.c.id == d.c.sign_in_id)
        .outerjoin(roles, roles.c.id == d.c.role_id)
    )
    have = sa.select(people.c.account_id, nothing, nothing, people.c.username, people.c.id)
    small = email.lower()
    runs = runs.where(sign_ins.c.email == small, d.c.ended_at.is_(None))
    have = have.where(people.c.email == small, people.c.email_small == small)
    return fetch(connection, sa.union_all(runs, have), AtAddress)


def views(connection: sa.Connection, sign_in_id: int) -> list[ViewRecord]:
    """Somebody's kept views, by name."""
    v = saved_views
    return fetch(connection, sa.select(v).where(v.c.sign_in_id == sign_in_id).order_by(v.c.name), ViewRecord)


def keep_view(connection: sa.Connection, sign_in_id: int, name: str, query: str) -> None:
    """Keep a view under a name, in the place of one of that name."""
    forget_view(connection, sign_in_id, name)
    connection.execute(sa.insert(saved_views).values(sign_in_id=sign_in_id, name=name, query=query))


def forget_view(connection: sa.Connection, sign_in_id: int, name: str) -> None:
    """Put a view away."""
    v = saved_views
    connection.execute(sa.delete(v).where(v.c.sign_in_id == sign_in_id, v.c.name == name))


def counts_of(connection: sa.Connection, found: Sequence[Any], at_once: int = 200) -> list[int]:
    """How many rows each of these queries has; many in one statement."""
    counts: list[int] = []
    for start in range(0, len(found), at_once):
        each_of = [
            sa.select(sa.literal(n).label("n"), sa.func.count().label("members")).select_from(each.subquery())
            for n, each in enumerate(found[start : start + at_once])
        ]
        by_place = {row.n: int(row.members) for row in connection.execute(sa.union_all(*each_of))}
        counts.extend(by_place[n] for n in range(len(each_of)))
    return counts


def domains(connection: sa.Connection) -> list[DomainRecord]:
    """Every domain an account has or wants, by name."""
    return fetch(
        connection, sa.select(email_domains).order_by(email_domains.c.domain, email_domains.c.account_id), DomainRecord
    )


def domain(connection: sa.Connection, name: str) -> DomainRecord | None:
    """The account that has a domain; None where nobody has it, whoever may want it."""
    d = email_domains
    return fetch_first(connection, sa.select(d).where(d.c.domain == name, d.c.approved_at.is_not(None)), DomainRecord)


def lock_domain(connection: sa.Connection, name: str) -> list[DomainRecord]:
    """Every account that has or wants a domain, locked so that nobody else comes to want or have it meanwhile."""
    return fetch(
        connection, sa.select(email_domains).where(email_domains.c.domain == name).with_for_update(), DomainRecord
    )


def put_domain(connection: sa.Connection, row: dict[str, Any]) -> None:
    """Let an account have or want a domain. That one account has it is kept by a key of the database: a second one is a
    violated constraint, however many servers there are."""
    forget_domain(connection, row["domain"], row["account_id"])
    connection.execute(sa.insert(email_domains).values(row))


def forget_domain(connection: sa.Connection, name: str, account_id: int) -> None:
    """An account no longer has or wants a domain."""
    d = email_domains
    connection.execute(sa.delete(d).where(d.c.domain == name, d.c.account_id == account_id))


def asked_since(connection: sa.Connection, email: str, account_id: int, since: datetime) -> tuple[int, int]:
    """How often an address, and anybody of an account, asked to join since an instant."""
    j = join_requests
    mine = connection.scalar(sa.select(sa.func.count()).where(j.c.email == email, j.c.asked_at >= since))
    every = connection.scalar(sa.select(sa.func.count()).where(j.c.account_id == account_id, j.c.asked_at >= since))
    return int(mine or 0), int(every or 0)


def add_join_request(connection: sa.Connection, row: dict[str, Any]) -> None:
    """Somebody asks to join."""
    connection.execute(sa.insert(join_requests).values(row))


def join_request(
    connection: sa.Connection, token_hash: str | None = None, request_id: int | None = None, lock: bool = False
) -> JoinRecord | None:
    """Somebody's wish to join, by its link or its number."""
    j = join_requests
    wanted = sa.select(j).where(j.c.token_hash == token_hash if token_hash else j.c.id == request_id)
    return fetch_first(connection, wanted.with_for_update() if lock else wanted, JoinRecord)


def change_join_request(connection: sa.Connection, request_id: int, values: dict[str, Any]) -> None:
    """Other values for a wish to join."""
    connection.execute(sa.update(join_requests).where(join_requests.c.id == request_id).values(values))


def waiting_to_join(connection: sa.Connection) -> list[JoinRecord]:
    """Who proved their address and waits, the longest first."""
    j = join_requests
    return fetch(
        connection,
        sa.select(j).where(j.c.proven_at.is_not(None), j.c.decided_at.is_(None)).order_by(j.c.proven_at, j.c.id),
        JoinRecord,
    )


def came_and_left(connection: sa.Connection, among: Clause, now: Clause, before: Clause) -> list[int]:
    """How many people (among some) the one condition is true of, and of how many only it, and only the other one."""
    is_now, was = sa.case((now, 1), else_=0).label("is_now"), sa.case((before, 1), else_=0).label("was")
    # Only of whom either is true, and by the columns' names: said again, the conditions would be asked again.
    counted = (
        sa.select(is_now, was, sa.func.count())
        .where(among, sa.or_(now, before))
        .group_by(sa.text("is_now"), sa.text("was"))
    )
    found = {(row[0], row[1]): int(row[2]) for row in connection.execute(counted)}
    return [found.get((1, 0), 0) + found.get((1, 1), 0), found.get((1, 0), 0), found.get((0, 1), 0)]
