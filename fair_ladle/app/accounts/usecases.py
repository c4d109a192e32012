"""Finding accounts of one's branch."""

from __future__ import annotations

from fair_ladle.app.accounts.service import Accounts, known, top_row
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction


def find(tx: Transaction, actor: Actor, words: str, limit: int) -> tuple[Accounts, list[int]]:
    """The rows of the actor's branch whose name or code has every one of these words, in tree order."""
    accounts = known(tx)
    wanted = words.casefold().split()
    found: list[int] = []
    for row in accounts.tree.branch(top_row(accounts, actor)).tolist():
        text = f"{accounts.facts[row].name} {accounts.facts[row].code}".casefold()
        if all(word in text for word in wanted):
            found.append(row)
            if len(found) == limit:
                break
    return accounts, found
