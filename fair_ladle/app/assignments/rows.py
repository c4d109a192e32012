"""What rows of assignments have, as the database gives them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import NamedTuple


@dataclass(frozen=True)
class StepUp:
    """An account on the way up, with the pool that it owns there, if any."""

    id: int
    code: str
    name: str
    steps: int
    pool_id: int | None
    status: str | None


@dataclass(frozen=True)
class Trust:
    """Until when a pool's counters hold, whether all that it promises is physically there, and the structure's
    number."""

    fresh_until: datetime | None
    backed: bool
    structure: int


class PoolNow(NamedTuple):
    """Until when a pool's counters hold, the structure's number, and what the pool's accounts use in all (grains)."""

    fresh_until: datetime | None
    structure: int
    used: int


@dataclass(frozen=True)
class UseChange:
    """A row of ``use_changes``."""

    id: int
    pool_id: int
    account_id: int
    change: int
