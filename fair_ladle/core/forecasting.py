"""What a running month may come to: what came after earlier days, put after the last day that is read.

For every earlier day that is followed by as many read days as are ahead, the days ahead are the last day's figures and
what they differed by then. So trends, steps and noise of the buyer's own are in it, and the same earlier day is taken
for all products, so that what moves together moves together. Its middle is what is likely, its outer parts the range.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import TypeVar

from fair_ladle.core.pricing import BuyerDay

OUTER = (Decimal("0.05"), Decimal("0.95"))
"""The parts of the totals that lie below the range, and below or in it."""
Total = TypeVar("Total")


@dataclass(frozen=True)
class Range:
    """What a month may come to in a currency."""

    low: Decimal
    likely: Decimal
    high: Decimal


def starts(days_read: int, days_ahead: int) -> range:
    """The places of the earlier days that are followed by enough others, of days that are read oldest first."""
    return range(max(0, days_read - days_ahead))


def days_ahead(history: Sequence[BuyerDay], start: int, seconds: Sequence[int]) -> list[BuyerDay]:
    """The days ahead, of these lengths, if from the last day of ``history`` on a product goes as from an earlier day
    on. Reserve and cap stay as they are."""
    last, then = history[-1], history[start]
    found = []
    for step, length in enumerate(seconds, start=1):
        came = history[start + step]

        def moved(name: str, came: BuyerDay = came, length: int = length) -> int:
            now, before, after = (getattr(day, name) / day.seconds for day in (last, then, came))
            return max(0, int(round((now + after - before) * length)))

        load, held, used = moved("load"), moved("held"), moved("used")
        cap = None if last.overage_cap is None else last.overage_cap * length // last.seconds
        found.append(
            BuyerDay(
                length,
                load,
                held,
                last.reserve * length // last.seconds,
                used,
                cap,
                last.counts or came.counts and (load > 0 or held > 0),
            )
        )
    return found


def range_of(totals: Sequence[Decimal]) -> Range:
    """The range of what a month came to under every earlier day, and its middle; of at least one."""
    ordered = sorted(totals)
    low, high = (ordered[min(len(ordered) - 1, int(len(ordered) * part))] for part in OUTER)
    return Range(low, ordered[len(ordered) // 2], high)
