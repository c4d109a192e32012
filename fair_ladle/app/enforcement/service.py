"""What is on hold, for rooms above that have checked who asks."""

from __future__ import annotations

from collections.abc import Collection

from fair_ladle.app.enforcement import store
from fair_ladle.app.plumbing.database import Transaction

MOST = 5_000


def on_hold_for(tx: Transaction, account_ids: Collection[int]) -> dict[tuple[int, int], int]:
    """How many units are on hold for the excess of these accounts, by account's and product's id."""
    return store.on_hold_for(tx.connection, account_ids, MOST) if account_ids else {}
