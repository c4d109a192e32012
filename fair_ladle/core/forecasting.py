"""What a running month may come to: what came after earlier days, put after the last day that is read.

For every earlier day that is followed by as many read days as are ahead, the days ahead are the last day's figures and
what they differed by then. So trends, steps and noise of the buyer's own are in it, and the same earlier day is taken
for all products, so that what moves together moves together. What is allocated to the buyer on the days ahead is known,
and is taken as it is. Its middle is what is likely, its outer parts the range.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import NamedTuple, TypeVar

from fair_ladle.core.pricing import BuyerDay

OUTER = (Decimal("0.05"), Decimal("0.95"))
"""The parts of the totals that lie below the range, and below or in it."""
Total = TypeVar("Total")


class DayAhead(NamedTuple):
    """A day to come: its length, and what is allocated to the buyer on it (grains; no ``overage_cap`` where its cap is
    not overage, nor where nothing is allocated)."""

    seconds: int
    reserve: int
    overage_cap: int | None
    allocated: bool


@dataclass(frozen=True)
class Range:
    """What a month may come to in a currency."""

    low: Decimal
    likely: Decimal
    high: Decimal


def starts(days_read: int, days_ahead: int) -> range:
    """The places of the earlier days that are followed by enough others, of days that are read oldest first."""
    return range(max(0, days_read - days_ahead))


def days_ahead(history: Sequence[BuyerDay], start: int, ahead: Sequence[DayAhead]) -> list[BuyerDay]:
    """The days ahead if from the last day of ``history`` on the load and use of a product go as from an earlier day on,
    with what is allocated on each."""
    last, then = history[-1], history[start]
    found = []
    for step, day in enumerate(ahead, start=1):
        came = history[start + step]

        def moved(name: str, came: BuyerDay = came, length: int = day.seconds) -> int:
            now, before, after = (getattr(day, name) / day.seconds for day in (last, then, came))
            return max(0, int(round((now + after - before) * length)))

        load, reserve = moved("load"), day.reserve * day.seconds
        held = max(load, reserve)
        cap = None if day.overage_cap is None else day.overage_cap * day.seconds
        found.append(BuyerDay(day.seconds, load, held, reserve, moved("used"), cap, day.allocated or held > 0))
    return found


def range_of(totals: Sequence[Decimal]) -> Range:
    """The range of what a month came to under every earlier day, and its middle; of at least one."""
    ordered = sorted(totals)
    low, high = (ordered[min(len(ordered) - 1, int(len(ordered) * part))] for part in OUTER)
    return Range(low, ordered[len(ordered) // 2], high)
