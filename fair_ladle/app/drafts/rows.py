"""What rows of drafts have, as the database gives them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime


@dataclass(frozen=True)
class DraftRecord:
    """A row of ``drafts``, with its owner and the account they run."""

    id: int
    name: str
    state: str
    owner_id: int
    through_id: int
    revision: int
    apply_on: date | None
    reason: str | None
    reverses_id: int | None
    created_at: datetime
    changed_at: datetime
    applied_at: datetime | None
    open_of: str | None
    owner_name: str
    owner_email: str
    through: str


@dataclass(frozen=True)
class ListedDraft(DraftRecord):
    """The same with the number of its changes."""

    owner_name: str
    owner_email: str
    through: str
    changes: int


@dataclass(frozen=True)
class SharedWith:
    """Somebody a draft is shared with."""

    id: int
    name: str
    email: str
