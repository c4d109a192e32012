"""What storage systems outside are to us: something that says who stores how much, and may take limits."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Protocol


@dataclass(frozen=True)
class Found:
    """Bytes stored by one subject as the system names it (a mailbox, a folder); ``part`` is a category of it."""

    subject: str
    bytes: int
    part: str | None = None
    limit: int | None = None
    """The limit there in bytes; None = none, or not told."""


@dataclass(frozen=True)
class Trouble:
    """Something of a system that could not be read or set, and why; the rest went on."""

    subject: str
    says: str


class NotReached(Exception):
    """A system cannot be asked at all, in words."""


GoingOn = Callable[[], bool]


class StorageSystem(Protocol):
    """One system; ``subjects`` are those that are asked about where the system cannot list them."""

    can_list: bool
    """Whether it knows its subjects itself."""
    can_limit: bool
    """Whether limits can be set there."""

    def usage(self, subjects: Sequence[str], going_on: GoingOn) -> Iterator[Found | Trouble]:
        """Who stores how much, one after the other; NotReached where it cannot be asked."""

    def set_limits(self, wanted: Sequence[tuple[str, int | None]], going_on: GoingOn) -> Iterator[Trouble]:
        """Set limits in bytes (None = none), one after the other; what was refused comes back."""
