"""Telling people: each thing once, in Today for whoever runs the branch, and one mail a person for all of a run."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from fair_ladle.app.accounts import usecases as accounts_usecases
from fair_ladle.app.accounts.usecases import Accounts
from fair_ladle.app.log import usecases as log
from fair_ladle.app.notices import store
from fair_ladle.app.plumbing import outbox
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import not_found
from fair_ladle.app.sign_in import usecases as sign_in

SHOWN_FOR = timedelta(days=30)


@dataclass(frozen=True)
class Notice:
    """Something to tell about an account; ``key`` names the event, so that it is told once.

    It goes to the account's admins and, with ``parent_too``, to those of the account above.
    """

    key: str
    kind: str
    account_id: int
    subject: str
    text: str
    product_id: int | None = None
    parent_too: bool = True


def notify(tx: Transaction, accounts: Accounts, wanted: Sequence[Notice], but_not: str = "") -> int:
    """Keep the notices that were not told before and write their mails; how many were new."""
    known = store.known(tx.connection, [each.key for each in wanted])
    new = [each for each in {each.key: each for each in wanted}.values() if each.key not in known]
    now = tx.now
    store.add(
        tx.connection,
        [
            {
                "at": now,
                "kind": each.kind,
                "account_id": each.account_id,
                "product_id": each.product_id,
                "key": each.key,
                "subject": each.subject[:255],
                "text": each.text,
            }
            for each in new
        ],
    )
    mails: dict[str, list[Notice]] = {}
    addresses = _addresses(tx, accounts, new)
    for notice in new:
        for address in addresses[notice.account_id, notice.parent_too]:
            if address != but_not:
                mails.setdefault(address, []).append(notice)
    for address, mine in mails.items():
        subject = mine[0].subject if len(mine) == 1 else f"{len(mine)} notices: {mine[0].subject} …"
        outbox.write(
            tx, address, subject, "\n\n".join(f"{each.subject}\n{each.text}" for each in mine) + "\n\nFair Ladle\n"
        )
    return len(new)


def _addresses(tx: Transaction, accounts: Accounts, notices: Sequence[Notice]) -> dict[tuple[int, bool], list[str]]:
    wanted: dict[tuple[int, bool], list[int]] = {}
    for notice in notices:
        row = accounts.row_of_id[notice.account_id]
        above = int(accounts.tree.parent[row])
        wanted[notice.account_id, notice.parent_too] = [row, above] if notice.parent_too and above >= 0 else [row]
    rows = {row for each in wanted.values() for row in each}
    running = sign_in.admins_of(tx, [int(accounts.ids[row]) for row in rows])
    found = {}
    for key, way in wanted.items():
        addresses: dict[str, None] = {}
        for row in way:
            people = [each.email for each in running.get(int(accounts.ids[row]), [])]
            for address in people or [accounts.facts[row].admin_email]:
                if address:
                    addresses[address] = None
        found[key] = list(addresses)
    return found


def shown(tx: Transaction, actor: Actor, accounts: Accounts, account: str | None = None, limit: int = 200) -> list[Any]:
    """Notices of the actor's branch (or of one account in it) that the actor has not put away, newest first."""
    if account is None:
        rows = accounts.tree.branch(accounts_usecases.top_row(accounts, actor)).tolist()
    else:
        rows = [accounts_usecases.row_in_scope(accounts, actor, account)]
    ids = [int(accounts.ids[row]) for row in rows]
    found = store.of_accounts(tx.connection, ids, actor.sign_in_id or 0, tx.now - SHOWN_FOR, limit)
    top = accounts_usecases.top_row(accounts, actor)
    later = log.came_later(tx, accounts, top, rows[0]) if top else {}
    return [each for each in found if each.account_id not in later or each.at >= later[each.account_id]]


def put_away(tx: Transaction, actor: Actor, ids: Sequence[int]) -> None:
    """Do not show these notices to the actor any more."""
    accounts = accounts_usecases.known(tx)
    about = store.accounts_of(tx.connection, ids)
    for notice_id in ids:
        if notice_id not in about or not accounts_usecases.sees(accounts, actor, about[notice_id]):
            raise not_found("notice", str(notice_id))
    store.put_away(tx.connection, ids, actor.sign_in_id or 0)
