"""What rows of purchases have, as the database gives them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime


@dataclass(frozen=True)
class CalendarRecord:
    """A row of ``calendars``, with its account's code."""

    id: int
    token_hash: str
    sign_in_id: int
    account_id: int
    made_at: datetime
    code: str
