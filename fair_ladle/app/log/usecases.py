"""Writing to the log, reading it within one's scope, and its chain of seals.

Entries are written by the transaction they tell of and sealed a little later, so that writers never wait for one
another: see `sealing`.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.log import store
from fair_ladle.app.log.service import came_later
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction


@dataclass(frozen=True)
class LogPage:
    """Entries newest first, and who else has written any."""

    entries: list[Any]
    actors: list[str]
    accounts: accounts_service.Accounts


def every(tx: Transaction, actor: Actor, account: str | None = None, by: str | None = None) -> Iterator[LogPage]:
    """All of the log that is shown, newest first, a few hundred entries at a time."""
    before = None
    while True:
        page = read(tx, actor, account, by, None, before, AT_ONCE)
        yield page
        if len(page.entries) < AT_ONCE:
            return
        before = page.entries[-1].id


AT_ONCE = 500


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
    accounts = accounts_service.known(tx)
    top = accounts_service.top_row(accounts, actor)
    row = top if account is None else accounts_service.row_in_scope(accounts, actor, account)
    ids = None if row == 0 else [int(each) for each in accounts.ids[accounts.tree.branch(row)]]
    entries = store.newest(
        tx.connection, ids, by, action, before, min(limit, AT_ONCE), came_later(tx, accounts, top, row)
    )
    return LogPage(entries, store.actors(tx.connection, ids), accounts)
