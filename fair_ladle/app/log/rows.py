"""What rows of log have, as the database gives them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any


@dataclass(frozen=True)
class EntryRecord:
    """A row of ``log_entries``."""

    id: int
    at: datetime
    actor: str
    through: int | None
    account_id: int | None
    action: str
    subject: str
    before: Any
    after: Any
    via: str | None
    delegation_id: int | None
    key_id: int | None
    request_id: str | None
    origin: str | None
    digest: str | None
    salt: str | None
    code: str | None


@dataclass(frozen=True)
class SealRecord:
    """A row of ``log_seals``."""

    number: int
    entry_id: int
    seal: str


@dataclass(frozen=True)
class SealedEntry(EntryRecord):
    """A seal with its entry, all of which is None where that is gone."""

    number: int
    seal: str
    entry_id: int


@dataclass(frozen=True)
class Numbered:
    """The number of an entry."""

    id: int
