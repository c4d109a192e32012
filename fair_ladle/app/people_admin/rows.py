"""What rows of people admin have, as the database gives them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime


@dataclass(frozen=True)
class HeldUnit:
    """A unit somebody has."""

    subject: str
    product_id: int
    account_id: int
    begins: datetime


@dataclass(frozen=True)
class EverHeld:
    """A unit somebody has or had."""

    id: int
    product_id: int
    account_id: int
    subject: str
    begins: datetime
    ends: datetime | None
    is_open: bool
    on_hold: bool


@dataclass(frozen=True)
class AtAddress:
    """What an address runs, with its role, or who else has it."""

    account_id: int
    role: str | None
    role_name: str | None
    """Of a composed role; a ready-made one's stands in the code."""
    username: str | None
    id: int | None


@dataclass(frozen=True)
class ReservedSeat:
    """A seat that is set aside, and for whom."""

    product_id: int
    account_id: int
    begins: datetime
    username: str
    display_name: str
    status: str


@dataclass(frozen=True)
class ViewRecord:
    """A row of ``saved_views``."""

    id: int
    sign_in_id: int
    name: str
    query: str


@dataclass(frozen=True)
class DomainRecord:
    """A row of ``email_domains``."""

    domain: str
    account_id: int
    joining: str
    approved_at: datetime | None
    approved_domain: str | None


@dataclass(frozen=True)
class JoinRecord:
    """A row of ``join_requests``."""

    id: int
    account_id: int
    email: str
    name: str
    token_hash: str
    asked_at: datetime
    proven_at: datetime | None
    decided_at: datetime | None
    decided_by: str | None
    username: str | None
