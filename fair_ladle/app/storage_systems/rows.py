"""What rows of storage systems have, as the database gives them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any, Literal


@dataclass(frozen=True)
class SourceRecord:
    """A row of ``storage_sources``."""

    id: int
    touched: int
    account_id: int
    product_id: int
    kind: str
    name: str
    settings: Any
    sealed: str | None
    every_minutes: int
    paused: bool
    due_at: datetime
    asked: str | None
    failures: int
    full_at: datetime | None
    made_at: datetime
    made_by: str


@dataclass(frozen=True)
class SourceRun:
    """A row of ``storage_source_runs``."""

    id: int
    source_id: int
    kind: Literal["full", "between", "dry"]
    began_at: datetime
    ended_at: datetime | None
    outcome: Literal["done", "stopped", "failed"] | None
    found: int
    recorded: int
    limited: int
    troubles: int
    says: str


@dataclass(frozen=True)
class ReservationRecord:
    """A row of ``storage_reservations``."""

    id: int
    token_hash: str
    key_id: int
    product_id: int
    account_id: int
    category: str
    bytes: int
    until: datetime
    ended_at: datetime | None
    outcome: str | None


@dataclass(frozen=True)
class UnplacedSums:
    """Reports that have no place yet, of an account and product."""

    account: str
    product_id: int
    reports: int
    series: int
    newest: datetime
    key_account_ids: str


@dataclass(frozen=True)
class UnplacedRecord:
    """A row of ``unplaced_reports``."""

    id: int
    key_account_id: int
    product_id: int
    account: str
    category: str
    at: datetime
    bytes: int
    received_at: datetime
