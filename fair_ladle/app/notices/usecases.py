"""Telling people: each thing once, in Today for whoever runs the branch, and one mail a person for all of a run."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from datetime import timedelta

import sqlalchemy as sa

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.log import service as log_service
from fair_ladle.app.notices import store
from fair_ladle.app.notices.rows import NoticeRecord
from fair_ladle.app.notices.tables import notices
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import not_found

SHOWN_FOR = timedelta(days=30)
PAGE, MOST_COUNTED = 50, 10_000
ABOUT_CAPS = ("grace", "hold", "threshold")
"""Kinds that stand with the cell they are about, where that is listed."""


@dataclass(frozen=True)
class Page:
    """Notices, newest first, the accounts they are about, and whether there are older ones."""

    notices: list[NoticeRecord]
    accounts: Accounts
    more: bool


def page(tx: Transaction, actor: Actor, account: str | None, before: int | None, with_caps: bool) -> Page:
    """The first notices of the actor's branch (or of one account in it), or those before one."""
    accounts = accounts_service.known(tx)
    found = shown(tx, actor, accounts, account, PAGE + 1, before, with_caps)
    return Page(found[:PAGE], accounts, len(found) > PAGE)


def shown(
    tx: Transaction,
    actor: Actor,
    accounts: Accounts,
    account: str | None = None,
    limit: int = PAGE,
    before: int | None = None,
    with_caps: bool = True,
) -> list[NoticeRecord]:
    """Notices of the actor's branch (or of one account in it) that the actor has not put away, newest first: the first,
    or those before one (its number). ``with_caps`` = also those about caps."""
    mine = _mine(tx, actor, accounts, account, with_caps)
    if before is not None:
        _refuse_unless_seen(tx, actor, accounts, [before])
        mine.append(store.up_to(before, itself=False))
    return store.newest(tx.connection, mine, limit)


def count(tx: Transaction, actor: Actor, accounts: Accounts, with_caps: bool) -> int:
    """How many there are; one more than ``MOST_COUNTED`` where there are more."""
    return store.count(tx.connection, _mine(tx, actor, accounts, None, with_caps), MOST_COUNTED + 1)


def about_caps_of(
    tx: Transaction, actor: Actor, accounts: Accounts, account_ids: Collection[int], limit: int
) -> list[NoticeRecord]:
    """Those about caps of some accounts of the branch, newest first."""
    wanted = [notices.c.account_id.in_(account_ids), notices.c.kind.in_(ABOUT_CAPS)]
    return store.newest(tx.connection, [*_mine(tx, actor, accounts, None, True), *wanted], limit) if account_ids else []


def _mine(
    tx: Transaction, actor: Actor, accounts: Accounts, account: str | None, with_caps: bool
) -> list[sa.ColumnElement[bool]]:
    found = _for(tx, actor, accounts, account)
    found.append(store.is_unseen(actor.sign_in_id or 0))
    return found if with_caps else [*found, notices.c.kind.not_in(ABOUT_CAPS)]


def _for(tx: Transaction, actor: Actor, accounts: Accounts, account: str | None = None) -> list[sa.ColumnElement[bool]]:
    """That a notice is for whoever runs the branch: about it (or one account of it), and of the time since it came."""
    top, of = accounts_service.top_row(accounts, actor), notices.c.account_id
    row = top if account is None else accounts_service.row_in_scope(accounts, actor, account)
    begin = tx.now - SHOWN_FOR
    about = accounts_service.in_branch(accounts, row, of) if account is None else of == int(accounts.ids[row])
    came = log_service.since_they_came(tx, accounts, top, row, of, notices.c.at, begin)
    return [about, notices.c.at >= begin, *came]


def put_away(tx: Transaction, actor: Actor, ids: Sequence[int]) -> None:
    """Do not show these notices to the actor any more."""
    _refuse_unless_seen(tx, actor, accounts_service.known(tx), ids)
    store.put_away(tx.connection, ids, actor.sign_in_id or 0)


def put_all_away(tx: Transaction, actor: Actor, until: int, with_caps: bool) -> None:
    """The same of all that the actor is shown, up to one (its number): what came since has not been looked at."""
    accounts = accounts_service.known(tx)
    _refuse_unless_seen(tx, actor, accounts, [until])
    mine = [*_mine(tx, actor, accounts, None, with_caps), store.up_to(until, itself=True)]
    while ids := store.ids_of(tx.connection, mine, MOST_COUNTED):
        store.put_away(tx.connection, ids, actor.sign_in_id or 0)


def _refuse_unless_seen(tx: Transaction, actor: Actor, accounts: Accounts, ids: Sequence[int]) -> None:
    there = set(store.ids_of(tx.connection, [*_for(tx, actor, accounts), notices.c.id.in_(ids)], len(ids)))
    for notice_id in ids:
        if notice_id not in there:
            raise not_found("notice", str(notice_id))
