"""When something is full at the pace at which it grows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta

FURTHEST_DAYS = 3650
"""A day further ahead says nothing."""


@dataclass(frozen=True)
class Filling:
    """The day on which a limit is reached at the middle pace, and at the fastest and the slowest; None = not within ten
    years."""

    day: date | None
    soonest: date | None
    latest: date | None


def filling(now: int, limit: int, grown: Sequence[tuple[int, int]], today: date) -> Filling:
    """When what is ``now`` (grains) reaches a limit, where it grew by so many grains in so many days over several
    spans: each span is a pace, and the middle one counts.

    A pace of nothing or less never gets there; what is at its limit is full today.
    """
    days = sorted(_days_left(limit - now, by, span) for by, span in grown)
    soonest, middle, latest = (
        None if each > FURTHEST_DAYS else today + timedelta(days=each)
        for each in (days[0], days[(len(days) - 1) // 2], days[-1])
    )
    return Filling(middle, soonest, latest)


def _days_left(left: int, by: int, span: int) -> int:
    """Whole days until nothing is left, at ``by`` grains in ``span`` days."""
    if left <= 0:
        return 0
    return FURTHEST_DAYS + 1 if by <= 0 else min(-(-left * span // by), FURTHEST_DAYS + 1)
