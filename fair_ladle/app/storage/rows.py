"""What rows of storage have, as the database gives them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from decimal import Decimal


@dataclass(frozen=True)
class KindTotal:
    """What is stored of a kind."""

    kind: str
    bytes: int
    week_ago: int
    month_ago: int
    quarter_ago: int


@dataclass(frozen=True)
class BranchSize:
    """What is stored in a branch, by the path of its top."""

    path: str
    bytes: int
    week_ago: int
    month_ago: int
    quarter_ago: int


@dataclass(frozen=True)
class PastLimit:
    """A person who would be past a limit."""

    username: str
    display_name: str
    account_name: str
    grains: Decimal
    limit: Decimal


@dataclass(frozen=True)
class Band:
    """So many people store so much (grains, to two digits), and so much together."""

    size: int
    people: int
    grains: Decimal


@dataclass(frozen=True)
class BandStates:
    """Of people who store so much: how many would be over a limit and near it, by how many grains beyond it, and how
    many are over and near the one there is."""

    size: int
    people: int
    over: int
    near: int
    over_now: int
    near_now: int
    beyond: Decimal


@dataclass(frozen=True)
class AccountSize:
    """What is stored in an account."""

    account_id: int
    bytes: int
    week_ago: int
    month_ago: int
    quarter_ago: int


@dataclass(frozen=True)
class NamedPerson:
    """A person's names."""

    username: str
    display_name: str


@dataclass(frozen=True)
class ForecastRecord:
    """A row of ``storage_forecasts``."""

    product_id: int
    account_id: int
    grains: int
    most: int
    full_on: date
    soonest: date
    latest: date | None
