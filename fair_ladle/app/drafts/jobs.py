"""What is done with drafts by the schedule."""

from __future__ import annotations

from fair_ladle.app.drafts import usecases
from fair_ladle.app.plumbing.database import Database, Transaction
from fair_ladle.app.plumbing.problems import Refused


def due(tx: Transaction) -> list[int]:
    """Scheduled drafts whose day has come."""
    return usecases.due(tx)


def apply_one(database: Database, draft_id: int) -> None:
    """Apply a scheduled draft whose day has come; one that cannot be is held back with the reason."""
    try:
        database.run(usecases.apply_one_due, draft_id)
    except Refused as refused:
        database.run(usecases.hold_back, draft_id, refused.problem.detail)
