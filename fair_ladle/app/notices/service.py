"""Telling whoever runs a branch what happened in it. Trusted: the caller has judged scope."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from urllib.parse import quote

from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.notices import store
from fair_ladle.app.plumbing import outbox
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.sign_in import service as sign_in_service


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
        parts = [f"{each.subject}\n{each.text}\n{_link(tx, accounts, each)}" for each in mine]
        outbox.write(tx, address, subject, "\n\n".join(["Hello,", *parts, "Fair Ladle"]) + "\n")
    return len(new)


def _link(tx: Transaction, accounts: Accounts, notice: Notice) -> str:
    code = accounts.tree.codes[accounts.row_of_id[notice.account_id]]
    return f"{tx.settings.address}/accounts/{quote(code)}"


def _addresses(tx: Transaction, accounts: Accounts, notices: Sequence[Notice]) -> dict[tuple[int, bool], list[str]]:
    wanted: dict[tuple[int, bool], list[int]] = {}
    for notice in notices:
        row = accounts.row_of_id[notice.account_id]
        above = int(accounts.tree.parent[row])
        wanted[notice.account_id, notice.parent_too] = [row, above] if notice.parent_too and above >= 0 else [row]
    rows = {row for each in wanted.values() for row in each}
    running = sign_in_service.admins_of(tx, [int(accounts.ids[row]) for row in rows])
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
