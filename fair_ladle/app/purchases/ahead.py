"""A pool as it is on a day ahead."""

from __future__ import annotations

from datetime import date

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.allocations.positions import Positions, settle_snapshot, snapshot_at
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import not_found
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Pool


def pool_of_owner(tx: Transaction, actor: Actor, owner: str, product: str) -> tuple[Pool, int]:
    """The pool of a product that an account of the branch owns, and the account's row of today's tree."""
    wanted = pools_service.product(tx, product)
    accounts = accounts_service.known(tx)
    row = accounts_service.row_in_scope(accounts, actor, owner)
    found = pools_service.pools_of(tx, [wanted], [int(accounts.ids[row])])
    if not found:
        raise not_found("pool of that owner", product)
    return found[0], row


def owned_pool(
    tx: Transaction, actor: Actor, owner: str, product: str, on: date | None = None
) -> tuple[Positions, int, int]:
    """The positions of a product now or on a day ahead, the place among its pools of the one that an account of the
    branch owns, and the owner's row."""
    pool_of_owner(tx, actor, owner, product)
    wanted = pools_service.product(tx, product)
    at = tx.now if on is None or on <= accounts_service.today(tx) else accounts_service.start_of(tx, on)
    found = settle_snapshot(snapshot_at(tx, [wanted], at))
    row = accounts_service.row_in_scope(found.snapshot.accounts, actor, owner)
    place = found.pool_at(row, 0)
    if place < 0 or int(found.snapshot.owner[row, 0]) != row:
        raise not_found("pool of that owner", product)
    return found, place, row
