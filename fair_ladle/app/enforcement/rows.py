"""What rows of enforcement have, as the database gives them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime


@dataclass(frozen=True)
class EnforcedRecord:
    """A row of ``enforced``."""

    product_id: int
    until: datetime
    made_of: str | None


@dataclass(frozen=True)
class HoldRecord:
    """A row of ``holds``."""

    id: int
    product_id: int
    account_id: int
    assignment_id: int
    place: int
    begins: datetime
    ends: datetime | None


@dataclass(frozen=True)
class ShownHold(HoldRecord):
    """A row of ``holds``, with what is on hold and whose it is."""

    subject: str
    of_account_id: int
    product: str
    display_name: str | None
