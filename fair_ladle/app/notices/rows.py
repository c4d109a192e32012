"""What rows of notices have, as the database gives them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime


@dataclass(frozen=True)
class NoticeRecord:
    """A row of ``notices``, with its product's code."""

    id: int
    at: datetime
    kind: str
    account_id: int
    product_id: int | None
    key: str
    subject: str
    text: str
    product: str | None
