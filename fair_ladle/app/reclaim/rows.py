"""What rows of reclaim have, as the database gives them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime
from typing import Any


@dataclass(frozen=True)
class PolicyRecord:
    """A row of ``reclaim_policies``."""

    id: int
    touched: int
    account_id: int
    name: str
    criterion: str
    days: int
    products: Any
    exempt: Any
    notice_days: int
    act: str
    daily: bool
    looked_on: date | None
    trouble: str | None


@dataclass(frozen=True)
class WarningRecord:
    """A row of ``reclaim_notices``."""

    policy_id: int
    person_id: int
    told_at: datetime
    token_hash: str | None
    needed_at: datetime | None


@dataclass(frozen=True)
class AnsweredWarning(WarningRecord):
    """A row of ``reclaim_notices``, with whom it went to and the policy."""

    display_name: str
    username: str
    account_id: int
    name: str
    days: int
    notice_days: int


@dataclass(frozen=True)
class RunRecord:
    """A row of ``reclaim_runs``."""

    id: int
    policy_id: int
    at: datetime
    by: str
    undone_at: datetime | None
    undone_by: str | None


@dataclass(frozen=True)
class DeedRecord:
    """A row of ``reclaim_deeds``, with whom it was done to."""

    id: int
    run_id: int
    person_id: int
    what: str
    units: Any
    why: str
    username: str
    display_name: str
    account_id: int
    status: str
    last_seen_at: datetime | None
    invited_at: datetime | None
