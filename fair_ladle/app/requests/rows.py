"""What rows of requests have, as the database gives them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime
from typing import Literal


@dataclass(frozen=True)
class RequestRecord:
    """A row of ``requests``, with its product's code."""

    id: int
    account_id: int
    product_id: int
    amount: int
    as_what: Literal["cap", "reserve"]
    reason: str
    wish_day: date | None
    last_day: date | None
    state: str
    granted: int | None
    asked_by_id: int
    asked_by: str
    asked_at: datetime
    passed_up_id: int | None
    product: str


@dataclass(frozen=True)
class StepRecord:
    """A row of ``request_steps``."""

    id: int
    request_id: int
    at: datetime
    by: str
    what: str
    text: str
