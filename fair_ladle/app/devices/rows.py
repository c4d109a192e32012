"""What rows of devices have, as the database gives them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime


@dataclass(frozen=True)
class ActivationKeyRecord:
    """A row of ``activation_keys``."""

    id: int
    touched: int
    account_id: int
    product_id: int
    name: str
    key_hash: str
    ending: str
    most: int | None
    last_day: date | None
    made_at: datetime
    made_by: str
    withdrawn_at: datetime | None


@dataclass(frozen=True)
class CountedKey(ActivationKeyRecord):
    """A row of ``activation_keys``, with the active devices it made."""

    devices: int


@dataclass(frozen=True)
class DeviceRecord:
    """A row of ``devices``."""

    id: int
    key_id: int | None
    account_id: int
    product_id: int
    machine: str
    name: str
    person_id: int | None
    token_hash: str | None
    state: str
    activated_at: datetime
    reported_at: datetime | None
    offline_until: datetime | None
    revoked_at: datetime | None


@dataclass(frozen=True)
class ShownDevice:
    """A device or another machine, with whose it is."""

    product_id: int
    account_id: int
    subject: str
    begins: datetime
    id: int | None
    name: str | None
    key_id: int | None
    state: str | None
    reported_at: datetime | None
    offline_until: datetime | None
    revoked_at: datetime | None
    username: str | None
    display_name: str | None
