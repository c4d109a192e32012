"""Ending sessions whose clients are gone."""

from __future__ import annotations

from collections import defaultdict
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.assignments import service as assignments
from fair_ladle.app.assignments.eligibility import Wanted
from fair_ladle.app.leases import store
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.usage import service as usage

AT_ONCE = 1000


SCHEDULE = Actor("schedule", "", None)


def end_lost(tx: Transaction) -> int:
    """End what no heartbeat came for, what had its time to save, and what has lost its unit; how many. Called until
    there is nothing left."""
    now = tx.now
    over = store.over(tx.connection, now, AT_ONCE)
    reasons = {
        each.id: "no heartbeat came" if each.until < now else None if each.held else "its unit was released"
        for each in over
    }
    for why in ("no heartbeat came", "its unit was released", None):
        store.change(
            tx.connection,
            [each for each, reason in reasons.items() if reason == why],
            {"ended_at": now} | ({"why": why} if why else {}),
        )
    _free(tx, over)
    return len(over)


def _free(tx: Transaction, ended: list[Any]) -> None:
    """Release the units of people who have no live session of the product any more."""
    accounts, products = accounts_service.known(tx), {each.id: each for each in pools_service.products(tx)}
    by_product: dict[int, dict[int, str]] = defaultdict(dict)
    for each in ended:
        by_product[each.product_id][each.person_id] = each.username
    for product_id, people in by_product.items():
        for still in store.still_live(tx.connection, product_id, list(people)):
            del people[still]
        there = usage.open_assignments(tx, [products[product_id]], list(people.values()), tx.now) if people else []
        if there:
            assignments.release(
                tx,
                SCHEDULE,
                [
                    Wanted(
                        accounts.tree.codes[accounts.row_of_id[row.account_id]], products[product_id].code, row.subject
                    )
                    for row in there
                ],
            )
