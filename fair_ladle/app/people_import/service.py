"""Imports of people for the schedule. Trusted: no actor is there."""

from __future__ import annotations

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.people_import import store
from fair_ladle.app.plumbing.database import Transaction


def under_way(tx: Transaction) -> list[int]:
    """Imports that are under way, those left by a server that is gone and those planned for today among them."""
    store.begin_due(tx.connection, accounts_service.today(tx))
    return store.running(tx.connection)
