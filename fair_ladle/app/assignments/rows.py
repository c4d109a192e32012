"""What rows of assignments have, as the database gives them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime


@dataclass(frozen=True)
class StepUp:
    """An account on the way up, with the pool that it owns there, if any."""

    id: int
    code: str
    name: str
    steps: int
    pool_id: int | None
    fresh_until: datetime | None
    backed: bool | None
    status: str | None


@dataclass(frozen=True)
class UseChange:
    """A row of ``use_changes``."""

    id: int
    pool_id: int
    account_id: int
    change: int
