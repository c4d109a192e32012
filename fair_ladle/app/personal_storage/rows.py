"""What rows of personal storage have, as the database gives them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal


@dataclass(frozen=True)
class LimitRecord:
    """A row of ``storage_limits``."""

    id: int
    product_id: int
    account_id: int | None
    group_id: int | None
    person_id: int | None
    grains: int
    at_limit: Literal["tell", "stop", "grace"]
    tell_at: int
    grace_days: int | None
