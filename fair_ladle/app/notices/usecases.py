"""Telling people: each thing once, in Today for whoever runs the branch, and one mail a person for all of a run."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import timedelta
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.log import service as log_service
from fair_ladle.app.notices import store
from fair_ladle.app.notices.tables import notices
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import not_found

SHOWN_FOR = timedelta(days=30)


def shown(tx: Transaction, actor: Actor, accounts: Accounts, account: str | None = None, limit: int = 200) -> list[Any]:
    """Notices of the actor's branch (or of one account in it) that the actor has not put away, newest first."""
    top, of = accounts_service.top_row(accounts, actor), notices.c.account_id
    row = top if account is None else accounts_service.row_in_scope(accounts, actor, account)
    about = accounts_service.in_branch(accounts, row, of) if account is None else of == int(accounts.ids[row])
    found = store.of_accounts(tx.connection, about, actor.sign_in_id or 0, tx.now - SHOWN_FOR, limit)
    later = log_service.came_later(tx, accounts, top, row) if top else {}
    return [each for each in found if each.account_id not in later or each.at >= later[each.account_id]]


def put_away(tx: Transaction, actor: Actor, ids: Sequence[int]) -> None:
    """Do not show these notices to the actor any more."""
    accounts = accounts_service.known(tx)
    about = store.accounts_of(tx.connection, ids)
    for notice_id in ids:
        if notice_id not in about or not accounts_service.sees(accounts, actor, about[notice_id]):
            raise not_found("notice", str(notice_id))
    store.put_away(tx.connection, ids, actor.sign_in_id or 0)
