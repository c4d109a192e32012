"""Days of a time zone as instants. Instants are whole microseconds since 1970-01-01 UTC in the engine."""

from __future__ import annotations

import calendar
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from zoneinfo import ZoneInfo

MICRO = 10**6
EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
FAR = 2**62
"""Later than every instant: the end of what has no end."""


def micros(at: datetime) -> int:
    """An aware instant as microseconds since the epoch, exactly."""
    return (at - EPOCH) // timedelta(microseconds=1)


def instant(at_micros: int) -> datetime:
    """Microseconds since the epoch as an aware UTC instant."""
    return EPOCH + timedelta(microseconds=at_micros)


@dataclass(frozen=True)
class Day:
    """A day of a time zone: from ``start`` (included) to ``end`` (not), both in whole seconds."""

    date: date
    start: int
    end: int

    @property
    def seconds(self) -> int:
        """23, 24 or 25 hours."""
        return self.end - self.start


def day_start(day: date, zone: ZoneInfo) -> int:
    """The second at which a day begins; where midnight does not exist, the first instant after the gap."""
    return micros(datetime(day.year, day.month, day.day, tzinfo=zone).astimezone(UTC)) // MICRO


def days_of(first: date, last: date, zone: ZoneInfo) -> list[Day]:
    """The days from first to last, both included."""
    count = (last - first).days + 1
    dates = [first + timedelta(days=n) for n in range(count + 1)]
    starts = [day_start(day, zone) for day in dates]
    return [Day(dates[n], starts[n], starts[n + 1]) for n in range(count)]


def month_of(text: str) -> tuple[date, date]:
    """First and last day of a month written YYYY-MM; ValueError otherwise."""
    first = datetime.strptime(text, "%Y-%m").date()
    if text != f"{first:%Y-%m}":
        raise ValueError(f"{text!r} is no month; write it like 2026-10")
    return first, first.replace(day=calendar.monthrange(first.year, first.month)[1])


def local_day(at: datetime, zone: ZoneInfo) -> date:
    """The day on which an instant falls."""
    return at.astimezone(zone).date()


def month_after(first: date) -> date:
    """The first day of the month after."""
    return (first.replace(day=28) + timedelta(days=4)).replace(day=1)


def month_before(first: date) -> date:
    """The first day of the month before."""
    return (first - timedelta(days=1)).replace(day=1)


def day_name(day: date) -> str:
    """A day as people write it, as everywhere on screen: 31 Dec 2026."""
    return f"{day.day} {day:%b %Y}"
