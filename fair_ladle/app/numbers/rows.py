"""What rows of numbers have, as the database gives them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime


@dataclass(frozen=True)
class NumberRecord:
    """A row of ``items``."""

    id: int
    pool_id: int
    product_id: int
    number: str
    brought_in_at: datetime
    withdrawn_at: datetime | None
    reserved_by: int | None
    reserved_until: datetime | None
    person_id: int | None
    address: str | None


@dataclass(frozen=True)
class ShownNumber:
    """A number, with where it is and whose."""

    number: str
    account_id: int | None
    begins: datetime
    id: int | None
    address: str | None
    reserved_by: int | None
    reserved_until: datetime | None
    withdrawn_at: datetime | None
    username: str | None
    display_name: str | None
