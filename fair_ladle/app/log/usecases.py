"""Writing to the log, reading it within one's scope, and its chain of seals.

Entries are written by the transaction they tell of and sealed a little later, so that writers never wait for one
another: see `sealing`.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.log import store
from fair_ladle.app.log.rows import EntryRecord
from fair_ladle.app.log.service import above, is_told, seen, since_they_came
from fair_ladle.app.log.tables import log_entries
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction


@dataclass(frozen=True)
class Sought:
    """What is looked for: entries about an account's branch, by somebody, of a kind, of some days, with all of these
    words in them."""

    account: str | None = None
    by: str | None = None
    kind: str | None = None
    first_day: date | None = None
    last_day: date | None = None
    words: str = ""


@dataclass(frozen=True)
class LogPage:
    """Entries newest first; who has written any lately, and of which kinds those are."""

    entries: list[Any]
    actors: list[str]
    kinds: list[str]
    accounts: accounts_service.Accounts
    top: int

    def tells_how(self, entry: EntryRecord) -> bool:
        """Whether it is told through what and from where somebody acted: not of who did so from above the branch."""
        return self.top == 0 or (entry.through is not None and is_told(self.accounts, self.top, entry))


AT_ONCE, LATELY, MOST_WORDS = 500, 2000, 5


def every(
    tx: Transaction, actor: Actor, sought: Sought, before: int | None = None, at_once: int = AT_ONCE
) -> Iterator[LogPage]:
    """All of the log that is looked for and is older than ``before``, newest first, a few hundred entries at a time."""
    accounts, wanted = _wanted(tx, actor, sought)
    while True:
        entries = store.newest(tx.connection, wanted, before, at_once)
        top = accounts_service.top_row(accounts, actor)
        yield LogPage([seen(accounts, top, each) for each in entries], [], [], accounts, top)
        if len(entries) < at_once:
            return
        before = entries[-1].id


def lately(tx: Transaction, actor: Actor, account: str | None) -> tuple[list[str], list[str]]:
    """Who has written the newest entries of a branch, and of which kinds those are."""
    accounts, branch = _wanted(tx, actor, Sought(account))
    top = accounts_service.top_row(accounts, actor)
    found, kinds = store.lately(tx.connection, branch, _told(accounts, top), LATELY)
    return sorted({name if is_told else above(accounts, top) or "" for name, is_told in found}), kinds


def instants(tx: Transaction, actor: Actor, sought: Sought, limit: int) -> list[datetime]:
    """When the newest entries that are looked for were written, newest first."""
    _, wanted = _wanted(tx, actor, sought)
    return store.instants(tx.connection, wanted, limit)


def read(
    tx: Transaction, actor: Actor, sought: Sought = Sought(), before: int | None = None, limit: int = 100
) -> LogPage:
    """The log of the actor's branch, or what is looked for in it; the operator also sees what is of no account."""
    accounts, wanted = _wanted(tx, actor, sought)
    entries = store.newest(tx.connection, wanted, before, min(limit, AT_ONCE))
    actors, kinds = lately(tx, actor, sought.account)
    top = accounts_service.top_row(accounts, actor)
    return LogPage([seen(accounts, top, each) for each in entries], actors, kinds, accounts, top)


def _told(accounts: accounts_service.Accounts, top: int) -> sa.ColumnElement[bool]:
    """Whether it is told of an entry who acted: not who did so from above the branch."""
    through = log_entries.c.through
    return sa.or_(through.is_(None), accounts_service.in_branch(accounts, top, through))


def _wanted(
    tx: Transaction, actor: Actor, sought: Sought
) -> tuple[accounts_service.Accounts, list[sa.ColumnElement[bool]]]:
    accounts = accounts_service.known(tx)
    top = accounts_service.top_row(accounts, actor)
    row = top if sought.account is None else accounts_service.row_in_scope(accounts, actor, sought.account)
    e = log_entries.c
    wanted = [accounts_service.in_branch(accounts, row, e.account_id)]
    wanted += since_they_came(tx, accounts, top, row, e.account_id, e.at)
    told, name = _told(accounts, top), above(accounts, top)
    if sought.by:
        wanted.append(sa.or_(sa.and_(told, e.actor == sought.by), sa.and_(~told, sa.literal(name == sought.by))))
    if sought.kind:
        wanted.append(e.action == sought.kind)
    if sought.first_day is not None:
        wanted.append(e.at >= accounts_service.start_of(tx, sought.first_day))
    if sought.last_day is not None:
        wanted.append(e.at < accounts_service.start_of(tx, sought.last_day + timedelta(1)))
    told_how = accounts_service.in_branch(accounts, top, e.through)
    return accounts, wanted + [
        store.says(each, told, told_how, name or "") for each in sought.words.split()[:MOST_WORDS]
    ]
