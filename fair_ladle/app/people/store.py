"""Queries over people and groups."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from datetime import datetime
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.people.rows import GroupRecord, InvitationRecord, PersonFacts, PersonRecord
from fair_ladle.app.people.tables import group_members, groups, invitations, people, rule_matches
from fair_ladle.app.plumbing.database import fetch, fetch_first, insert_row, lock_rows
from fair_ladle.app.plumbing.prepared import Prepared, Question

__all__ = [
    "active_by_account",
    "codes_and_usernames",
    "counts",
    "group_members",
    "groups",
    "invitations",
    "named",
    "named_alone",
    "people",
]


def codes_and_usernames(connection: sa.Connection) -> tuple[frozenset[str], frozenset[str]]:
    """Every username, and every group's code."""
    return frozenset(connection.scalars(sa.select(people.c.username))), frozenset(
        connection.scalars(sa.select(groups.c.code))
    )


def named(connection: sa.Connection, usernames: Collection[str]) -> list[PersonRecord]:
    """People by username."""
    return fetch(connection, sa.select(people).where(people.c.username.in_(usernames)), PersonRecord)


_FACTS = [people.c[each] for each in PersonFacts.__dataclass_fields__]
_NAMED = Prepared(sa.select(*_FACTS).where(people.c.username == sa.bindparam("username")))


def named_alone(username: str) -> Question[PersonFacts | None]:
    """Somebody by username."""
    return Question([(_NAMED, {"username": username})], lambda rows: next(iter(rows), None))


def by_email(connection: sa.Connection, emails: Collection[str]) -> list[PersonRecord]:
    """People by address as the database compares them, which is wider than letter by letter."""
    return fetch(connection, sa.select(people).where(people.c.email.in_(emails)), PersonRecord) if emails else []


def active_by_account(connection: sa.Connection) -> dict[int, int]:
    """How many active people each account itself has."""
    counted = (
        sa.select(people.c.account_id, sa.func.count()).where(people.c.status == "active").group_by(people.c.account_id)
    )
    return {key: number for key, number in connection.execute(counted)}  # noqa: C416


def counts(connection: sa.Connection, account_ids: Collection[int]) -> dict[str, int]:
    """How many people these accounts have, by status."""
    counted = (
        sa.select(people.c.status, sa.func.count())
        .where(people.c.account_id.in_(account_ids))
        .group_by(people.c.status)
    )
    return {key: number for key, number in connection.execute(counted)}  # noqa: C416


def all_groups(connection: sa.Connection) -> list[GroupRecord]:
    """Every group, by precedence, then name."""
    order = (groups.c.precedence.is_(None), groups.c.precedence, groups.c.name)
    return fetch(connection, sa.select(groups).order_by(*order), GroupRecord)


def members_of(connection: sa.Connection, group_ids: Collection[int] | None = None) -> dict[int, tuple[str, ...]]:
    """The members by hand of these groups (of all, if not said), as they were written."""
    m = group_members
    statement = sa.select(m.c.group_id, m.c.member).order_by(m.c.group_id, m.c.place, m.c.member)
    if group_ids is not None:
        statement = statement.where(m.c.group_id.in_(group_ids))
    found: dict[int, list[str]] = {}
    for row in connection.execute(statement):
        found.setdefault(row.group_id, []).append(row.member)
    return {group_id: tuple(members) for group_id, members in found.items()}


def has_group(connection: sa.Connection, account_id: int, code: str) -> bool:
    """Whether an account has a group of a code."""
    mine = sa.select(groups.c.id).where(groups.c.account_id == account_id, groups.c.code == code)
    return connection.execute(mine).first() is not None


def lock_group(connection: sa.Connection, group_id: int) -> GroupRecord | None:
    """A group, locked. The lock is a write, so that it holds on a cluster too."""
    return next(iter(lock_rows(connection, groups, [group_id])), None)


def leave_groups(connection: sa.Connection, username: str) -> None:
    """Somebody is in no group by hand any more."""
    m = group_members
    for each in connection.scalars(sa.select(m.c.group_id).where(m.c.member == username)).all():
        connection.execute(sa.delete(m).where(m.c.group_id == each, m.c.member == username))


def set_members(connection: sa.Connection, group_id: int, members: Sequence[str]) -> None:
    """Other members by hand; what stays is not written again."""
    m = group_members
    there = connection.execute(sa.select(m.c.member, m.c.place).where(m.c.group_id == group_id)).fetchall()
    gone = {row.member for row in there} - set(members)
    kept = {row.member for row in there} - gone
    if gone:
        connection.execute(sa.delete(m).where(m.c.group_id == group_id, m.c.member.in_(gone)))
    begin = max((row.place for row in there), default=-1) + 1
    new = [each for each in dict.fromkeys(members) if each not in kept]
    if new:
        connection.execute(
            sa.insert(m), [{"group_id": group_id, "member": each, "place": begin + n} for n, each in enumerate(new)]
        )


def put_group(connection: sa.Connection, group_id: int | None, values: dict[str, Any]) -> int:
    """Create (id None) or change a group; its id."""
    if group_id is None:
        return insert_row(connection, groups, values)
    connection.execute(sa.update(groups).where(groups.c.id == group_id).values(values))
    return group_id


def forget_group(connection: sa.Connection, group_id: int) -> None:
    """Delete a group."""
    connection.execute(sa.delete(groups).where(groups.c.id == group_id))


def lock_people(connection: sa.Connection, ids: Collection[int]) -> list[PersonRecord]:
    """People by id, locked in the order of their ids. The lock is a write, so that it holds on a cluster too."""
    return lock_rows(connection, people, ids)


def ids_of(connection: sa.Connection, usernames: Collection[str]) -> list[int]:
    """The numbers of people by username."""
    return list(connection.scalars(sa.select(people.c.id).where(people.c.username.in_(usernames))))


READ_BY_RULES = {
    "account_id",
    "username",
    "display_name",
    "email",
    "status",
    "invited_at",
    "last_seen_at",
    "title",
    "department",
    "protected",
}


def change_people(connection: sa.Connection, ids: Collection[int], values: dict[str, Any]) -> None:
    """The same other facts for several people."""
    if READ_BY_RULES & values.keys():
        values = values | {"regroup": True}
    connection.execute(sa.update(people).where(people.c.id.in_(ids)).values(values))


def regroup(connection: sa.Connection, account_ids: Collection[int]) -> None:
    """Rules are asked again about everybody in these accounts themselves."""
    wanted = sorted(account_ids)
    for start in range(0, len(wanted), 500):
        mine = people.c.account_id.in_(wanted[start : start + 500])
        connection.execute(sa.update(people).where(mine, people.c.regroup == sa.false()).values(regroup=True))


def regroup_named(connection: sa.Connection, usernames: Sequence[str]) -> None:
    """Rules are asked again about these people."""
    for start in range(0, len(usernames), 1000):
        mine = people.c.username.in_(usernames[start : start + 1000])
        connection.execute(sa.update(people).where(mine, people.c.regroup == sa.false()).values(regroup=True))


def to_regroup(connection: sa.Connection, limit: int | None) -> list[int]:
    """The numbers of people about whom rules are to be asked again, in order."""
    return list(
        connection.scalars(
            sa.select(people.c.id).where(people.c.regroup == sa.true()).order_by(people.c.id).limit(limit)
        )
    )


def changed(connection: sa.Connection, limit: int | None) -> list[PersonRecord]:
    """People about whom rules are to be asked again."""
    return fetch(connection, sa.select(people).where(people.c.regroup == sa.true()).limit(limit), PersonRecord)


def kept_of(connection: sa.Connection, group_id: int) -> set[int]:
    """Who is in a group by its rule, as it is kept."""
    m = rule_matches
    return set(connection.scalars(sa.select(m.c.person_id).where(m.c.group_id == group_id)))


def groups_of(
    connection: sa.Connection, usernames: Collection[str], person_ids: Collection[int]
) -> list[tuple[str | None, int, int]]:
    """(username, group, 0) where one of these usernames stands in a group, and (None, group, person) where the group's
    own rule is true of one of these people, as it is kept."""
    hand, rule = group_members.c, rule_matches.c
    ways = [sa.select(hand.member, hand.group_id, sa.literal(0)).where(hand.member.in_(usernames))]
    if person_ids:
        ways.append(sa.select(sa.null(), rule.group_id, rule.person_id).where(rule.person_id.in_(person_ids)))
    return [(row[0], row[1], row[2]) for row in connection.execute(sa.union_all(*ways))] if usernames else []


def add_people(connection: sa.Connection, rows: Sequence[dict[str, Any]]) -> None:
    """New people."""
    connection.execute(sa.insert(people), list(rows))


def invite(connection: sa.Connection, rows: Sequence[dict[str, Any]]) -> None:
    """New invitations of one instant; those before them are withdrawn."""
    if rows:
        withdraw(connection, [row["person_id"] for row in rows], rows[0]["sent_at"])
        connection.execute(sa.insert(invitations), list(rows))


def withdraw(connection: sa.Connection, person_ids: Collection[int], at: datetime) -> None:
    """Invitations of these people that are open end."""
    i = invitations
    connection.execute(
        sa.update(i)
        .where(i.c.person_id.in_(person_ids), i.c.used_at.is_(None), i.c.withdrawn_at.is_(None))
        .values(withdrawn_at=at)
    )


def invitation(connection: sa.Connection, token_hash: str) -> InvitationRecord | None:
    """An invitation by its token's hash, locked, with its person."""
    i = invitations
    connection.execute(sa.select(i.c.id).where(i.c.token_hash == token_hash).with_for_update()).all()
    wanted = sa.select(i, people.c.username, people.c.display_name, people.c.status, people.c.account_id).join(
        people, people.c.id == i.c.person_id
    )
    return fetch_first(connection, wanted.where(i.c.token_hash == token_hash), InvitationRecord)


def use_invitation(connection: sa.Connection, invitation_id: int, at: datetime) -> None:
    """It was accepted."""
    connection.execute(sa.update(invitations).where(invitations.c.id == invitation_id).values(used_at=at))


def true_of(
    connection: sa.Connection, person_ids: Collection[int], clauses: Sequence[sa.ColumnElement[bool]], at_once: int = 40
) -> list[set[int]]:
    """For each condition the people (of these) of whom it is true; many conditions in one pass over the people."""
    found: list[set[int]] = [set() for _ in clauses]
    for start in range(0, len(clauses), at_once):
        part = clauses[start : start + at_once]
        columns = [sa.case((each, 1), else_=0).label(f"c{n}") for n, each in enumerate(part)]
        for row in connection.execute(sa.select(people.c.id, *columns).where(people.c.id.in_(person_ids))):
            for n, value in enumerate(row[1:]):
                if value:
                    found[start + n].add(row[0])
    return found
