"""People and groups as others need them."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from datetime import datetime, timedelta
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.people import store
from fair_ladle.app.people.rows import PersonFacts, PersonRecord
from fair_ladle.app.plumbing import generations
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.merge import Merged, merge
from fair_ladle.app.plumbing.prepared import Question


def load_people(tx: Transaction, rows: Iterable[dict[str, Any]]) -> Merged:
    """Create and change people by username."""
    merged = merge(tx.connection, store.people, ["username"], rows)
    if merged.changed:
        store.regroup_named(tx.connection, [row["username"] for row in rows])
    return merged


def load_groups(tx: Transaction, rows: list[dict[str, Any]]) -> Merged:
    """Create and change groups by account and code; ``members`` are usernames and codes of groups."""
    members = store.members_of(tx.connection)
    before = {(row.account_id, row.code): members.get(row.id, ()) for row in store.all_groups(tx.connection)}
    wanted = {(row["account_id"], row["code"]): tuple(dict.fromkeys(row["members"])) for row in rows}
    merged = merge(
        tx.connection,
        store.groups,
        ["account_id", "code"],
        [{name: value for name, value in row.items() if name != "members"} for row in rows],
        beside={key: {"members": (before[key], after)} for key, after in wanted.items() if key in before},
    )
    for row in store.all_groups(tx.connection):
        key = (row.account_id, row.code)
        if key in wanted and wanted[key] != before.get(key, ()):
            store.set_members(tx.connection, row.id, wanted[key])
    generations.renew(tx, "groups")
    return merged


def known_names(tx: Transaction) -> tuple[frozenset[str], frozenset[str]]:
    """Every username, and every group's code."""
    return store.codes_and_usernames(tx.connection)


def by_username(tx: Transaction, usernames: Collection[str]) -> dict[str, PersonRecord]:
    """People by username; those unknown are left out."""
    return {row.username: row for row in store.named(tx.connection, usernames)} if usernames else {}


def named(username: str) -> Question[PersonFacts | None]:
    """Somebody by username, to be asked with other things; None where nobody is called so."""
    return store.named_alone(username)


def by_email(tx: Transaction, emails: Collection[str]) -> dict[str, list[PersonRecord]]:
    """People by address, written in small letters; an address may be several people's."""
    found: dict[str, list[PersonRecord]] = {}
    for row in store.by_email(tx.connection, emails):
        if row.email is not None and row.email.lower() in emails:
            found.setdefault(row.email.lower(), []).append(row)
    return found


def active_by_account(tx: Transaction) -> dict[int, int]:
    """How many active people each account itself has, by the account's id."""
    return store.active_by_account(tx.connection)


def counts(tx: Transaction, account_ids: Collection[int]) -> dict[str, int]:
    """How many people these accounts have, by status."""
    return store.counts(tx.connection, account_ids)


def rehearse(tx: Transaction, ids: Collection[int]) -> None:
    """Where changing these people is only tried out: go on with copies of them, and of their invitations."""
    tx.rehearse(store.people, store.people.c.id.in_(ids))
    tx.rehearse(store.invitations, store.invitations.c.person_id.in_(ids))


def rehearse_groups(tx: Transaction) -> None:
    """Where changing groups is only tried out: go on with copies."""
    tx.rehearse(store.groups)
    tx.rehearse(store.group_members)


def lock(tx: Transaction, ids: Collection[int]) -> list[PersonRecord]:
    """People by id, locked until the transaction ends."""
    return store.lock_people(tx.connection, ids)


def lock_by_username(tx: Transaction, usernames: Collection[str]) -> list[PersonRecord]:
    """People by username, locked until the transaction ends; those unknown are left out."""
    return store.lock_people(tx.connection, store.ids_of(tx.connection, usernames)) if usernames else []


def change(tx: Transaction, ids: Collection[int], values: dict[str, Any]) -> None:
    """The same other facts for several people."""
    if ids:
        store.change_people(tx.connection, ids, values)


FEW = 20


def some_changed(tx: Transaction) -> list[PersonRecord]:
    """People whom what is kept beside them is yet to follow: all of them where they are FEW, else more than that."""
    return tx.once("people who changed", lambda: store.changed(tx.connection, FEW + 1))


def every_changed(tx: Transaction) -> list[PersonRecord]:
    """All of them."""
    return store.changed(tx.connection, None)


def status_again(last_seen_at: datetime | None, invited_at: datetime | None) -> str:
    """What somebody is again who was suspended or removed: invited, if they never joined."""
    return "active" if last_seen_at is not None or invited_at is None else "invited"


def add(tx: Transaction, rows: Sequence[dict[str, Any]]) -> dict[str, Any]:
    """New people, by username."""
    store.add_people(tx.connection, rows)
    return by_username(tx, [row["username"] for row in rows])


def invite(tx: Transaction, token_hashes: dict[int, str], at: datetime, until: datetime) -> None:
    """New invitations by the person's id; those before them stop working."""
    store.invite(
        tx.connection,
        [
            {"person_id": each, "token_hash": token, "sent_at": at, "expires_at": until}
            for each, token in token_hashes.items()
        ],
    )


def erase(tx: Transaction, person_id: int, username: str, by: str) -> None:
    """Take out what is known of somebody who was removed, and out of the groups they were put into; they are called
    something else from now on, and are restored no more."""
    store.leave_groups(tx.connection, username)
    nothing = dict.fromkeys(("email", "title", "department", "kept"))
    long_ago = tx.now - timedelta(days=3660)
    store.change_people(
        tx.connection, [person_id], {**nothing, "username": by, "display_name": "Erased", "removed_at": long_ago}
    )


def withdraw_invitations(tx: Transaction, person_ids: Collection[int]) -> None:
    """Open invitations of these people stop working."""
    if person_ids:
        store.withdraw(tx.connection, person_ids, tx.now)


def invitation(tx: Transaction, token_hash: str) -> Any | None:
    """An invitation with its person, locked; None where there is none."""
    return store.invitation(tx.connection, token_hash)


def use_invitation(tx: Transaction, invitation_id: int) -> None:
    """It was accepted."""
    store.use_invitation(tx.connection, invitation_id, tx.now)


def has_group(tx: Transaction, account_id: int, code: str) -> bool:
    """Whether an account has a group of a code."""
    return store.has_group(tx.connection, account_id, code)


def lock_group(tx: Transaction, group_id: int) -> tuple[Any, tuple[str, ...]] | None:
    """A group, locked until the transaction ends, with its members by hand."""
    row = store.lock_group(tx.connection, group_id)
    return None if row is None else (row, store.members_of(tx.connection, [group_id]).get(group_id, ()))


def put_group(
    tx: Transaction, group_id: int | None, values: dict[str, Any], members: Sequence[str] | None = None
) -> int:
    """Create (id None) or change a group, and its members by hand unless they stay as they are; its id."""
    group_id = store.put_group(tx.connection, group_id, values)
    if members is not None:
        store.set_members(tx.connection, group_id, members)
    generations.renew(tx, "groups")
    return group_id


def forget_group(tx: Transaction, group_id: int) -> None:
    """Delete a group."""
    store.forget_group(tx.connection, group_id)
    generations.renew(tx, "groups")


def true_of(tx: Transaction, person_ids: Collection[int], clauses: Sequence[sa.ColumnElement[bool]]) -> list[set[int]]:
    """For each condition the people (of these) of whom it is true."""
    return store.true_of(tx.connection, person_ids, clauses) if person_ids and clauses else [set() for _ in clauses]
