"""What rows of usage have, as the database gives them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime


@dataclass(frozen=True)
class UnitsInUse:
    """Units of a product in use in an account."""

    product_id: int
    account_id: int
    units: int


@dataclass(frozen=True)
class BytesStored:
    """Bytes of a product stored in an account."""

    product_id: int
    account_id: int
    bytes: int


@dataclass(frozen=True)
class OpenAssignment:
    """An assignment that is in force."""

    id: int
    account_id: int
    product_id: int
    subject: str


@dataclass(frozen=True)
class OpenHere:
    """An assignment of an account that is in force."""

    id: int
    product_id: int
    subject: str


@dataclass(frozen=True)
class HeldTime:
    """An assignment with its time."""

    id: int
    account_id: int
    subject: str
    begins: datetime
    ends: datetime | None


@dataclass(frozen=True)
class AssignmentRecord:
    """A row of ``assignments``."""

    id: int
    account_id: int
    product_id: int
    subject: str
    begins: datetime
    ends: datetime | None


@dataclass(frozen=True)
class SampleRecord:
    """A row of ``storage_samples``."""

    product_id: int
    account_id: int
    category: str
    at: datetime
    bytes: int


@dataclass(frozen=True)
class SeriesSample:
    """A sample of one series."""

    category: str
    at: datetime
    bytes: int


@dataclass(frozen=True)
class StoredRecord:
    """A row of ``stored``."""

    product_id: int
    account_id: int
    kind: str
    name: str
    bytes: int
    week_ago: int
    month_ago: int
    quarter_ago: int
    at: datetime
    used_at: datetime | None
    past_limit_since: datetime | None
    delete_at: datetime | None
    told: int
    person_id: int | None


@dataclass(frozen=True)
class HeldNow:
    """What a holder of an account stores, and since when they are over their limit."""

    bytes: int
    past_limit_since: datetime | None


@dataclass(frozen=True)
class StoredDay:
    """A row of ``stored_days``."""

    product_id: int
    day: date
    ahead_at: datetime | None


@dataclass(frozen=True)
class Round:
    """A round in which an account's samples were taken."""

    account_id: int
    at: datetime
    digest: bytes


@dataclass(frozen=True)
class SampleSet:
    """A row of ``sample_sets``."""

    account_id: int
    digest: bytes
    categories: bytes
