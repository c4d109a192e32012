"""Finding accounts of one's branch."""

from __future__ import annotations

from collections.abc import Sequence

from fair_ladle.app.accounts.service import Accounts, is_in_scope, known, top_row
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction

MOST_AT_ONCE = 300
"""Of so many accounts at most a branch is sent whole, to choose from."""


def to_choose_from(tx: Transaction, actor: Actor, codes: Sequence[str]) -> tuple[Accounts, int, list[int]]:
    """How many accounts the actor's branch has, and the rows of these (codes) of them; of all where none is named and
    they are few, of the top alone where they are many; whoever runs the people of a group sees the top alone."""
    accounts = known(tx)
    top = top_row(accounts, actor)
    if actor.people_of is not None:
        return accounts, 1, [top]
    branch = accounts.tree.branch(top)
    if codes:
        rows = [accounts.tree.row(code) for code in codes if is_in_scope(accounts, actor, code)]
    else:
        rows = branch.tolist() if len(branch) <= MOST_AT_ONCE else [int(branch[0])]
    return accounts, len(branch), rows


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
