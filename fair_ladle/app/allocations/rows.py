"""What rows of allocations have, as the database gives them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime
from typing import Literal


@dataclass(frozen=True)
class AllocationRecord:
    """A row of ``allocations``."""

    id: int
    account_id: int
    product_id: int
    reserve: int
    cap: int | None
    at_cap: Literal["block", "grace", "overage"]
    burst: int | None
    grace_days: int | None
    first_day: date
    last_day: date | None
    per_id: int | None
    each: int | None


@dataclass(frozen=True)
class VersionRecord(AllocationRecord):
    """The same with the counted product whose units its cap follows."""

    per: str | None


@dataclass(frozen=True)
class EndingVersion(AllocationRecord):
    """One that ends, with the terms that follow (None = none do)."""

    then_id: int | None
    then_reserve: int | None
    then_cap: int | None


@dataclass(frozen=True)
class CounterRecord:
    """A row of ``counters``."""

    pool_id: int
    account_id: int
    parent_id: int | None
    depth: int
    own: int
    load: int
    reserve: int
    cap: int | None
    at_cap: str
    burst: int | None
    grace_days: int | None
    past_cap_since: datetime | None
    promisable: int | None
    physical: int | None
    allocated: bool
    per: str | None
    each: int | None
    fixed: int | None
    pressed: bool | None


@dataclass(frozen=True)
class FreshCounter(CounterRecord):
    """A row of ``counters``, with how long its pool's hold."""

    fresh_until: str | None


@dataclass(frozen=True)
class OwnAndClock:
    """What an account uses itself of a pool, and since when it is past its cap."""

    pool_id: int
    account_id: int
    own: int
    past_cap_since: datetime | None
    grace_days: int | None


@dataclass(frozen=True)
class PoolLimit:
    """An account in a pool with its limits, in grains (None = none)."""

    pool_id: int
    account_id: int
    parent_id: int | None
    cap: int | None
    physical: int | None


@dataclass(frozen=True)
class PoolRoom:
    """What a pool may promise, and what is held of it."""

    owner: str
    product: str
    promisable: int | None
    load: int


@dataclass(frozen=True)
class HeldBelow:
    """What an account directly below a pool's owner holds."""

    account_id: int
    held: int


@dataclass(frozen=True)
class KeptDayRecord:
    """A row of ``kept_days``."""

    product_id: int
    day: date
    made_of: str
    late: str | None
    base_day: date | None
    base_made_of: str | None
    figures: bytes


@dataclass(frozen=True)
class HeldAhead:
    """A row of ``held_ahead``."""

    product_id: int
    owner_id: int
    day: date
    held: int
    used: int
    made_on: date
