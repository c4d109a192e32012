"""Enforcing by the schedule: grace clocks warn and run out, the excess is put on hold and freed again, thresholds tell.

Everything follows from the facts: whoever runs it later finds the same clocks and the same holds.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.enforcement import store
from fair_ladle.app.enforcement.enforcing import USUAL_LEVELS
from fair_ladle.app.log import service as log_service
from fair_ladle.app.plumbing.actor import Actor, changes_rules
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import invalid, not_found
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.usage.tables import assignments


@dataclass(frozen=True)
class OnHold:
    """A unit on hold: whose, of which account, and for whose cap."""

    product: str
    subject: str
    account: str
    for_account: str
    since: str
    place: int
    name: str | None
    """Of the person who has a seat, where they are of that account"""


MOST_SHOWN = 500
"""So many are listed at once; in the order in which they were put on hold the rest follows them."""


def on_hold(
    tx: Transaction, actor: Actor, account: str | None = None, product: str | None = None, most: int | None = None
) -> list[OnHold]:
    """Units on hold in the actor's branch, or in one below it, in the order in which they were put there."""
    accounts = accounts_service.known(tx)
    top = (
        accounts_service.top_row(accounts, actor)
        if account is None
        else accounts_service.row_in_scope(accounts, actor, account)
    )
    product_id = None if product is None else pools_service.product(tx, product).id
    mine = accounts_service.top_row(accounts, actor)
    found = []
    whose = accounts_service.in_branch(accounts, top, assignments.c.account_id)
    for row in store.shown_holds(tx.connection, whose, product_id, most):
        of, cause = accounts.row_of_id[row.of_account_id], accounts.row_of_id[row.account_id]
        found.append(
            OnHold(
                row.product,
                row.subject,
                accounts.tree.codes[of],
                accounts.tree.codes[cause] if accounts.tree.is_inside(cause, mine) else "above",
                row.begins.isoformat(),
                row.place,
                row.display_name,
            )
        )
    return found


def levels_of(tx: Transaction, actor: Actor, account: str, product: str) -> tuple[int, ...]:
    """At which percents of the cap an account in a pool is told."""
    account_id, found = _named(tx, actor, account, product)
    return store.levels(tx.connection).get((account_id, found.id), USUAL_LEVELS)


def set_levels(
    tx: Transaction, actor: Actor, account: str, product: str, levels: Sequence[int] | None
) -> tuple[int, ...]:
    """Other thresholds for an account in a pool; None = the usual ones."""
    changes_rules(actor)
    account_id, found = _named(tx, actor, account, product)
    if levels is not None:
        if any(not 1 <= each <= 1000 for each in levels) or len(levels) > 10:
            raise invalid("Up to ten thresholds, each from 1 to 1000 % of the cap.", "levels")
        levels = sorted(set(levels))
    before = store.levels(tx.connection).get((account_id, found.id), USUAL_LEVELS)
    store.set_levels(tx.connection, account_id, found.id, levels)
    after = tuple(USUAL_LEVELS if levels is None else levels)
    if before != after:
        notified = [{"warn at": ", ".join(f"{each} %" for each in each_of)} for each_of in (before, after)]
        log_service.write(
            tx, actor, None, [log_service.Entry("thresholds changed", product, account_id, notified[0], notified[1])]
        )
    return after


def _named(tx: Transaction, actor: Actor, account: str, product: str) -> tuple[int, Product]:
    accounts = accounts_service.known(tx)
    row = accounts_service.row_in_scope(accounts, actor, account)
    found = pools_service.product(tx, product)
    if not pools_service.pools(tx, [found]):
        raise not_found("pool of the product here", product)
    return int(accounts.ids[row]), found
