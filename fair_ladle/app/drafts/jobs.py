"""What is done with drafts by the schedule."""

from __future__ import annotations

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.drafts import store, usecases
from fair_ladle.app.log import service as log_service
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Database, Transaction
from fair_ladle.app.plumbing.problems import Refused, conflict
from fair_ladle.app.sign_in import service as sign_in_service


def due(tx: Transaction) -> list[int]:
    """Scheduled drafts whose day has come."""
    return store.due(tx.connection, accounts_service.today(tx))


def apply_one(database: Database, draft_id: int) -> None:
    """Apply a scheduled draft whose day has come; one that cannot be is held back with the reason."""
    try:
        database.run(_apply_as_its_owner, draft_id)
    except Refused as refused:
        database.run(_hold_back, draft_id, refused.problem.detail)


def _apply_as_its_owner(tx: Transaction, draft_id: int) -> None:
    found = store.one(tx.connection, draft_id, lock=True)
    if found is None or found.state != "scheduled":
        return
    if found.apply_on is None or found.apply_on > accounts_service.today(tx):
        return
    owner = sign_in_service.actor_for(tx, found.owner_id, found.through)
    if owner is None:
        raise conflict(f"{found.owner_name} does not run {found.through} any more.")
    if "drafts.change" not in owner.permissions:
        raise conflict(f"{found.owner_name} may not apply drafts in {found.through} any more.")
    usecases.apply(tx, owner, draft_id, found.revision)


def _hold_back(tx: Transaction, draft_id: int, reason: str) -> None:
    found = store.one(tx.connection, draft_id, lock=True)
    if found is not None and found.state == "scheduled":
        store.update(tx.connection, draft_id, {"state": "held", "reason": reason, "changed_at": tx.now})
        log_service.write(
            tx,
            Actor("schedule", "", None),
            None,
            [log_service.Entry("draft held back", found.name, found.through_id, None, {"reason": reason})],
        )
