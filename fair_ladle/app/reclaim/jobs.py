"""Policies that run by themselves."""

from __future__ import annotations

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.log import service as log_service
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.reclaim import store, usecases
from fair_ladle.app.reclaim.usecases import POLICIES


def due_today(tx: Transaction) -> list[int]:
    """Policies that run daily and have not run today."""
    today = accounts_service.today(tx)
    return [row.id for row in store.policies(tx.connection) if row.daily and row.looked_on != today]


def run_due(tx: Transaction, policy_id: int) -> None:
    """Run a policy that runs daily, unless it ran today; why it could not is kept beside it."""
    row = store.lock_policy(tx.connection, policy_id)
    today = accounts_service.today(tx)
    if row is None or not row.daily or row.looked_on == today:
        return
    store.looked_on(tx.connection, policy_id, today)
    try:
        with tx.connection.begin_nested():
            usecases.run(tx, POLICIES, policy_id)
        store.note_trouble(tx.connection, policy_id, None)
    except Refused as refused:
        store.note_trouble(tx.connection, policy_id, refused.problem.detail)
        log_service.write(
            tx,
            POLICIES,
            None,
            [log_service.Entry("policy not run", row.name, row.account_id, None, {"reason": refused.problem.detail})],
        )
