"""What rows of sign in have, as the database gives them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime
from typing import Any


@dataclass(frozen=True)
class Running:
    """Somebody who runs an account."""

    account_id: int
    sign_in_id: int
    name: str
    email: str
    role: str
    limits: Any


@dataclass(frozen=True)
class StandingDelegation:
    """A delegation that has not ended, and whose it is."""

    id: int
    sign_in_id: int
    account_id: int
    role: str
    role_id: int | None
    limits: Any
    email: str


@dataclass(frozen=True)
class DelegationThere:
    """A delegation, and the account where it is."""

    delegation_id: int
    role: str
    role_id: int | None
    limits: Any
    people_of: int | None
    account_id: int
    code: str
    name: str
    kind: str


@dataclass(frozen=True)
class OwnDelegation(DelegationThere):
    """One as whoever holds it knows it."""

    called: str | None


@dataclass(frozen=True)
class ActingDelegation(DelegationThere):
    """One that somebody acts through; ``person`` is what they are called there."""

    first_day: date | None
    last_day: date | None
    composed: str | None
    sign_in_id: int
    email: str
    person: str
    lacks_second_factor: bool


@dataclass(frozen=True)
class RoleRecord:
    """A row of ``roles``."""

    id: int
    account_id: int
    name: str


@dataclass(frozen=True)
class DelegationRecord:
    """A row of ``delegations``."""

    id: int
    sign_in_id: int
    account_id: int
    role: str
    role_id: int | None
    passes_on: bool
    name: str | None
    first_day: date | None
    last_day: date | None
    ended_at: datetime | None
    ended_by: str | None
    people_of: str | None
    given_through: int | None
    limits: Any


@dataclass(frozen=True)
class NamedDelegation(DelegationRecord):
    """A row of ``delegations``, with the name of its composed role."""

    role_name: str | None


@dataclass(frozen=True)
class GivenDelegation:
    """A row of ``delegations``, with whose it is and where."""

    id: int
    sign_in_id: int
    account_id: int
    role: str
    role_id: int | None
    passes_on: bool
    first_day: date | None
    last_day: date | None
    ended_at: datetime | None
    ended_by: str | None
    people_of: str | None
    given_through: int | None
    limits: Any
    email: str
    name: str
    code: str
    account_name: str
    kind: str
    path: str
    role_name: str | None


@dataclass(frozen=True)
class PastDelegation:
    """What a delegation was on a day."""

    role_name: str
    permissions: Any
    passes_on: bool
    email: str
    name: str
    code: str
    account_name: str


@dataclass(frozen=True)
class KeyRecord:
    """A row of ``api_keys``."""

    id: int
    delegation_id: int
    name: str
    key_hash: str
    ending: str
    permissions: Any
    limits: Any
    made_at: datetime
    expires_at: datetime
    ended_at: datetime | None
    last_used: datetime | None
    last_origin: str | None
    minute: int
    asked: int


@dataclass(frozen=True)
class SecondFactorRecord:
    """A row of ``second_factors``."""

    sign_in_id: int
    secret: str
    confirmed_at: datetime | None
    last_step: int


@dataclass(frozen=True)
class SecondFactorRule:
    """A role that needs a second factor, and from which account down."""

    role: str
    code: str
    name: str


@dataclass(frozen=True)
class SignInRecord:
    """A row of ``sign_ins``."""

    id: int
    email: str
    name: str
    password_hash: str


@dataclass(frozen=True)
class LinkRecord:
    """A row of ``sign_in_links``."""

    token_hash: str
    kind: str
    sign_in_id: int | None
    made_at: datetime
    expires_at: datetime
    used_at: datetime | None


@dataclass(frozen=True)
class SessionDelegation(ActingDelegation):
    """A delegation that a session may act through, with the session and all generations of its instant."""

    csrf_token: str
    began: datetime
    last_used: datetime
    generations: str


@dataclass(frozen=True)
class KeyDelegation(ActingDelegation):
    """The delegation that a key acts through, with the key."""

    key_id: int
    key_name: str
    ending: str
    permissions: Any
    key_limits: Any
    expires_at: datetime
    ended_at: datetime | None
    is_ended: bool
    """Whether its delegation is."""


@dataclass(frozen=True)
class SessionRecord:
    """A row of ``sessions``."""

    token_hash: str
    sign_in_id: int
    csrf_token: str
    began: datetime
    last_used: datetime
    origin: str | None
    agent: str | None
