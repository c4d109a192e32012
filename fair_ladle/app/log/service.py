"""Writing the log, reading it about one thing, and sealing it. Trusted: the caller has judged scope."""

from __future__ import annotations

import hashlib
import json
import secrets
from collections import defaultdict
from collections.abc import Collection, Sequence
from dataclasses import dataclass, fields
from datetime import UTC, date, datetime
from decimal import Decimal
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.log import sealing, store
from fair_ladle.app.log.rows import EntryRecord
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.permissions import ROLES
from fair_ladle.app.plumbing.problems import Problem

AT_ONCE = 5000
FIELDS = (
    *("at", "actor", "through", "account_id", "action", "subject", "before", "after"),
    *("digest", "via", "delegation_id", "key_id", "request_id", "origin"),
)


def _plain(value: Any) -> Any:
    if isinstance(value, Decimal):
        return f"{value.normalize():f}"
    if isinstance(value, datetime | date):
        return value.isoformat()
    return value


@dataclass(frozen=True)
class Entry:
    """What happened to what, from what to what."""

    action: str
    subject: str
    account_id: int | None = None
    before: dict[str, Any] | None = None
    after: dict[str, Any] | None = None


def write(tx: Transaction, actor: Actor, scope_id: int | None, entries: list[Entry]) -> None:
    """Write entries in the transaction they tell of."""
    if not entries or tx.is_rehearsal:
        return
    at, key = tx.now, _key(tx)
    rows = []
    for entry in entries:
        row: dict[str, Any] = {
            "at": at,
            "actor": actor.name[:200],
            "through": actor.scope_id if scope_id is None else scope_id,
            "account_id": entry.account_id,
            "action": entry.action,
            "subject": entry.subject[:255],
            "before": None if entry.before is None else {k: _plain(v) for k, v in entry.before.items()},
            "after": None if entry.after is None else {k: _plain(v) for k, v in entry.after.items()},
            "via": _via(actor),
            "delegation_id": actor.delegation_id,
            "key_id": actor.key_id,
            "request_id": actor.request_id,
            "origin": actor.origin,
        }
        salt = secrets.token_hex(16)
        row["digest"] = _digest(salt, row["actor"], row["subject"], row["before"], row["after"])
        rows.append(row | {"salt": salt, "code": key.code(_content(**row))})
    store.add(tx.connection, rows)


def _via(actor: Actor) -> str | None:
    """Through what somebody acts: their role, where, and with which key."""
    if actor.delegation_id is None:
        return None
    role = ROLES[actor.role].name if actor.role in ROLES else "A role of their own"
    key = f", key {actor.key_name}" if actor.key_name else ""
    return f"{role} of {actor.scope}{key}"[:255]


def _content(
    at: datetime,
    actor: str,
    through: Any,
    account_id: Any,
    action: str,
    subject: str,
    before: Any,
    after: Any,
    digest: str | None = None,
    **how: Any,
) -> list[Any]:
    """What an entry's code is made of, as it comes back from the database: its ``digest`` stands for whom and what it
    names, so that these can be erased and the code still holds. ``how`` it was asked for stands at the end where it is
    known."""
    named = [actor, through, account_id, action, subject, before, after] if digest is None else None
    told = [at.astimezone(UTC).isoformat(), *(named or [through, account_id, action, digest])]
    return told + [how] if any(each is not None for each in how.values()) else told


def _digest(salt: str, actor: str, subject: str, before: Any, after: Any) -> str:
    words = json.dumps([salt, actor, subject, before, after], sort_keys=True, ensure_ascii=False)
    return hashlib.sha256(words.encode()).hexdigest()


ERASED = "erased"
"""What stands in an entry in place of whom it named."""


def erase(tx: Transaction, account_ids: Collection[int], names: Collection[str], by: str) -> int:
    """Take a person out of the entries of these accounts that are about one of these names of theirs; ``by`` is what
    they are called from now on. How many that were: entries written before there were digests stay as they are."""
    rows = store.naming(tx.connection, account_ids, names)
    for row in rows:
        store.erase(tx.connection, row.id, f"{ERASED} {by}")
    return len(rows)


def _key(tx: Transaction) -> sealing.Key:
    shared = tx.settings.secret_key
    older = store.newest_without_code if shared else store.newest_id
    return sealing.key(tx.settings.home, lambda: older(tx.connection), shared)


def is_another_key(tx: Transaction) -> bool:
    """Whether the newest entry was written with another key than this home's."""
    newest = store.newest(tx.connection, [], None, 1)
    return any(entry.code is not None and entry.code != _key(tx).code(_of_row(entry)) for entry in newest)


def write_refusal(tx: Transaction, actor: Actor, asked: str, problem: Problem) -> None:
    """Write that somebody was refused something."""
    account_id = accounts_service.ids_by_code(tx, [actor.scope or ""]).get(actor.scope or "")
    write(tx, actor, None, [Entry("refused", asked, account_id, None, {"why": problem.detail or problem.title})])


def came_later(tx: Transaction, accounts: accounts_service.Accounts, top: int, row: int) -> dict[int, datetime]:
    """Accounts of a branch that came below ``top`` only on some day, with its first instant: what was before is not for
    whoever runs ``top``."""
    days = {each: accounts.since(each, top) for each in accounts.tree.branch(row).tolist()} if top else {}
    return {
        int(accounts.ids[each]): accounts_service.start_of(tx, day) for each, day in days.items() if day is not None
    }


def since_they_came(
    tx: Transaction,
    accounts: accounts_service.Accounts,
    top: int,
    row: int,
    account_id: sa.ColumnElement[int],
    at: sa.ColumnElement[datetime],
    begin: datetime | None = None,
) -> list[sa.ColumnElement[bool]]:
    """That what is read of accounts of a branch was not before they came below ``top``; ``begin`` = nothing before that
    is read anyhow."""
    came: dict[datetime, list[int]] = defaultdict(list)
    for each, since in came_later(tx, accounts, top, row).items():
        if begin is None or since > begin:
            came[since].append(each)
    return [
        sa.or_(sa.not_(accounts_service.among(accounts, ids, account_id)), at >= since)
        for since, ids in sorted(came.items())
    ]


def is_told(accounts: accounts_service.Accounts, top: int, entry: EntryRecord) -> bool:
    """Whether somebody acted from within a branch (the row of its top), or by nobody's delegation."""
    row = accounts.row_of_id.get(entry.through or 0)
    return top == 0 or entry.through is None or (row is not None and top in accounts.tree.path_up(row))


def seen(accounts: accounts_service.Accounts, top: int, entry: EntryRecord) -> EntryRecord:
    """An entry as who runs a branch (the row of its top) sees it: whoever acted from above is the account above."""
    if is_told(accounts, top, entry):
        return entry
    kept = {each.name: getattr(entry, each.name) for each in fields(EntryRecord)}
    return EntryRecord(**kept | {"actor": above(accounts, top) or ""})


def above(accounts: accounts_service.Accounts, top: int) -> str | None:
    """What whoever acts from above a branch is called in it: the account above; None where there is none."""
    return accounts.name(int(accounts.tree.parent[top])) if top else None


def about(tx: Transaction, actor: Actor, account_id: int, action: str, subject: str) -> list[EntryRecord]:
    """Every entry of an account about something as the actor sees it, the oldest first."""
    return _seen_by(tx, actor, store.about(tx.connection, account_id, action, subject))


def about_subject(tx: Transaction, actor: Actor, account_id: int, subject: str) -> list[EntryRecord]:
    """What was done to one subject of an account as the actor sees it, the newest first."""
    return _seen_by(tx, actor, store.about_subject(tx.connection, account_id, subject))


def last(tx: Transaction, actor: Actor, account_id: int, action: str, subject: str) -> EntryRecord | None:
    """The newest entry of an account about something as the actor sees it; None where there is none."""
    found = store.last(tx.connection, account_id, action, subject)
    return None if found is None else _seen_by(tx, actor, [found])[0]


def _seen_by(tx: Transaction, actor: Actor, entries: Sequence[EntryRecord]) -> list[EntryRecord]:
    accounts = accounts_service.known(tx)
    top = accounts_service.top_row(accounts, actor)
    return [seen(accounts, top, each) for each in entries]


def newest_instant(tx: Transaction) -> datetime | None:
    """When the newest entry was written."""
    return store.newest_instant(tx.connection)


def _of_row(entry: EntryRecord) -> list[Any]:
    return _content(**{name: getattr(entry, name) for name in FIELDS})


def _is_as_sealed(entry: EntryRecord) -> bool:
    """Whether whom and what an entry names is what was sealed, or was erased as a whole."""
    if entry.salt is None:
        return str(entry.subject).startswith(f"{ERASED} ") and not entry.before and not entry.after
    return bool(entry.digest == _digest(entry.salt, entry.actor, entry.subject, entry.before, entry.after))


def seal_new(tx: Transaction) -> int:
    """Seal what has been written since; how many entries. The newest seal is anchored outside the database."""
    key, last = _key(tx), store.last_seal(tx.connection)
    number, seal = (last.number, last.seal) if last else (0, "")
    rows = []
    for entry in store.unsealed(tx.connection, AT_ONCE):
        number, seal = number + 1, key.code([seal, entry.id, entry.code, _of_row(entry)])
        rows.append({"entry_id": entry.id, "number": number, "seal": seal})
    if rows:
        store.seal(tx.connection, rows)
        sealing.anchor(tx.settings.home, str(tx.connection.engine.url.database), number, seal)
    return len(rows)


MOST_UNSEALED = 100_000


def broken_seals(tx: Transaction) -> list[str]:
    """Everything about the log that its seals, codes and anchors speak against; what is not sealed yet has codes."""
    key = _key(tx)
    anchored = sealing.anchors(tx.settings.home, str(tx.connection.engine.url.database))
    found, number, seal = [], 0, ""
    while chain := store.sealed(tx.connection, number, AT_ONCE):
        for entry in chain:
            if entry.number != number + 1:
                found.append(f"seals {number + 1} to {entry.number - 1} are gone")
            elif entry.id is None:
                found.append(f"entry {entry.entry_id} is gone")
            elif entry.seal != key.code([seal, entry.id, entry.code, _of_row(entry)]):
                found.append(f"entry {entry.id} of {entry.at:%Y-%m-%d %H:%M} was changed, or one before it")
            elif entry.id > key.older and entry.code != key.code(_of_row(entry)):
                found.append(f"entry {entry.id} of {entry.at:%Y-%m-%d %H:%M} was not written by Fair Ladle")
            elif entry.digest and not _is_as_sealed(entry):
                found.append(f"what entry {entry.id} of {entry.at:%Y-%m-%d %H:%M} names was changed")
            if entry.number in anchored and anchored[entry.number] != entry.seal:
                found.append(f"seal {entry.number} is not the one that was anchored")
            number, seal = entry.number, entry.seal
    for waiting in store.unsealed(tx.connection, MOST_UNSEALED):
        of_another = waiting.id > key.older and waiting.code != key.code(_of_row(waiting))
        if of_another or (waiting.digest and not _is_as_sealed(waiting)):
            said = f"entry {waiting.id} of {waiting.at:%Y-%m-%d %H:%M} was changed, or was not written by Fair Ladle"
            found.append(said)
    if anchored and max(anchored) > number:
        found.append(f"entries are gone from the end: {max(anchored)} were sealed, {number} are there")
    return found
