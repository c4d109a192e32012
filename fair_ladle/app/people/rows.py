"""What rows of people have, as the database gives them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any


@dataclass(frozen=True)
class PersonFacts:
    """What decides what somebody may have."""

    id: int
    account_id: int
    username: str
    display_name: str
    status: str


@dataclass(frozen=True)
class PersonRecord(PersonFacts):
    """A row of ``people``."""

    email: str | None
    invited_at: datetime | None
    last_seen_at: datetime | None
    title: str | None
    department: str | None
    protected: bool
    source: str
    removed_at: datetime | None
    kept: Any
    touched: int
    regroup: bool
    was_in: Any
    username_small: str | None
    display_name_small: str | None
    email_small: str | None
    title_small: str | None
    department_small: str | None
    find_small: str | None


@dataclass(frozen=True)
class ListedPerson(PersonRecord):
    """The same with whether they run an account, and up to when their open invitation works."""

    admin: bool
    invited_until: datetime | None


@dataclass(frozen=True)
class GroupRecord:
    """A row of ``groups``."""

    id: int
    account_id: int
    code: str
    name: str
    rule: str | None
    kept_rule: str | None
    precedence: int | None
    source: str
    touched: int


@dataclass(frozen=True)
class InvitationRecord:
    """A row of ``invitations``, with whom it is for."""

    id: int
    person_id: int
    token_hash: str
    sent_at: datetime
    expires_at: datetime
    used_at: datetime | None
    withdrawn_at: datetime | None
    username: str
    display_name: str
    status: str
    account_id: int
