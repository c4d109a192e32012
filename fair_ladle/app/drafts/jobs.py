"""What is done with drafts by the schedule."""

from __future__ import annotations

from fair_ladle.app.drafts import usecases
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.problems import Refused


def apply_due(database: Database) -> None:
    """Apply every scheduled draft whose day has come, each in a transaction of its own; what cannot be is held back."""
    for draft_id in database.run(usecases.due):
        try:
            database.run(usecases.apply_one_due, draft_id)
        except Refused as refused:
            database.run(usecases.hold_back, draft_id, refused.problem.detail)
