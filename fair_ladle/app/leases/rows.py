"""What rows of leases have, as the database gives them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime


@dataclass(frozen=True)
class LeaseRecord:
    """A row of ``leases``."""

    id: int
    account_id: int
    product_id: int
    person_id: int
    username: str
    machine: str
    token_hash: str
    began_at: datetime
    until: datetime
    offline_until: datetime | None
    ends_at: datetime | None
    ended_at: datetime | None
    why: str | None


@dataclass(frozen=True)
class OverLease(LeaseRecord):
    """A lease that is over; ``held`` = there is still a unit."""

    held: bool


@dataclass(frozen=True)
class ShownLease(LeaseRecord):
    """A lease with the name of whoever has it."""

    display_name: str
