"""Writing to the log, reading it within one's scope, and its chain of seals.

Entries are written by the transaction they tell of and sealed a little later, so that writers never
wait for one another. Each seal is the SHA-256 of the seal before it and of the entry.
"""

from __future__ import annotations

import hashlib
import json
from dataclasses import dataclass
from datetime import date, datetime
from decimal import Decimal
from typing import Any

from fair_ladle.app.accounts import usecases as accounts_usecases
from fair_ladle.app.log import store
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction

AT_ONCE = 5000


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
    if not entries:
        return
    at = tx.now
    store.add(
        tx.connection,
        [
            {
                "at": at,
                "actor": actor.name,
                "through": scope_id,
                "account_id": entry.account_id,
                "action": entry.action,
                "subject": entry.subject[:255],
                "before": None if entry.before is None else {k: _plain(v) for k, v in entry.before.items()},
                "after": None if entry.after is None else {k: _plain(v) for k, v in entry.after.items()},
            }
            for entry in entries
        ],
    )


@dataclass(frozen=True)
class LogPage:
    """Entries newest first, and who else has written any."""

    entries: list[Any]
    actors: list[str]
    accounts: accounts_usecases.Accounts


def read(
    tx: Transaction,
    actor: Actor,
    account: str | None = None,
    by: str | None = None,
    action: str | None = None,
    before: int | None = None,
    limit: int = 100,
) -> LogPage:
    """The log of the actor's branch, or of one branch within it; the operator also sees what is of no account."""
    accounts = accounts_usecases.on_day(tx, accounts_usecases.today(tx))
    top = accounts_usecases.top_row(accounts, actor)
    row = top if account is None else accounts_usecases.row_in_scope(accounts, actor, account)
    ids = None if row == 0 else [int(each) for each in accounts.ids[accounts.tree.branch(row)]]
    entries = store.newest(tx.connection, ids, by, action, before, min(limit, 500))
    return LogPage(entries, store.actors(tx.connection, ids), accounts)


def about(tx: Transaction, account_id: int, action: str, subject: str) -> list[Any]:
    """Every entry of an account about something, the oldest first."""
    return store.about(tx.connection, account_id, action, subject)


def about_subject(tx: Transaction, account_id: int, subject: str) -> list[Any]:
    """What was done to one subject of an account, the newest first."""
    return store.about_subject(tx.connection, account_id, subject)


def last(tx: Transaction, account_id: int, action: str, subject: str) -> Any | None:
    """The newest entry of an account about something; None where there is none."""
    return store.last(tx.connection, account_id, action, subject)


def head(tx: Transaction) -> int:
    """The newest entry's number: while it stays the same, no fact has changed."""
    return store.head(tx.connection)


def newest_instant(tx: Transaction) -> datetime | None:
    """When the newest entry was written."""
    return store.newest_instant(tx.connection)


def _seal(before: str, entry: Any) -> str:
    content = [
        entry.id,
        entry.at.isoformat(),
        entry.actor,
        entry.through,
        entry.account_id,
        entry.action,
        entry.subject,
        entry.before,
        entry.after,
    ]
    return hashlib.sha256((before + json.dumps(content, sort_keys=True, ensure_ascii=False)).encode()).hexdigest()


def seal_new(tx: Transaction) -> int:
    """Seal what has been written since; how many entries."""
    last = store.last_seal(tx.connection)
    number, seal = (last.seal_number, last.seal) if last else (0, "")
    rows = []
    for entry in store.unsealed(tx.connection, AT_ONCE):
        number, seal = number + 1, _seal(seal, entry)
        rows.append({"entry_id": entry.id, "number": number, "value": seal})
    if rows:
        store.seal(tx.connection, rows)
    return len(rows)


def broken_seals(tx: Transaction) -> list[str]:
    """Every entry whose seal does not follow from it and the one before, or whose number is missing."""
    found, number, seal = [], 0, ""
    while chain := store.sealed(tx.connection, number, AT_ONCE):
        for entry in chain:
            if entry.seal_number != number + 1:
                found.append(f"entries {number + 1} to {entry.seal_number - 1} are gone")
            elif entry.seal != _seal(seal, entry):
                found.append(f"entry {entry.id} of {entry.at:%Y-%m-%d %H:%M} was changed, or one before it")
            number, seal = entry.seal_number, entry.seal
    return found
