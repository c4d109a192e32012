"""All-day events as an iCalendar file (RFC 5545)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta

import icalendar


@dataclass(frozen=True)
class Event:
    """Something on a day; ``uid`` stays the same whenever it is asked for."""

    uid: str
    day: date
    summary: str
    description: str


def as_calendar(name: str, events: Sequence[Event], now: datetime) -> bytes:
    """The file."""
    calendar = icalendar.Calendar()
    calendar.add("prodid", "-//Fair Ladle//EN")
    calendar.add("version", "2.0")
    calendar.add("x-wr-calname", name)
    for each in events:
        event = icalendar.Event()
        event.add("uid", f"{each.uid}@fair-ladle.invalid")
        event.add("dtstamp", now)
        event.add("dtstart", each.day)
        event.add("dtend", each.day + timedelta(days=1))
        event.add("summary", each.summary)
        event.add("description", each.description)
        event.add("transp", "TRANSPARENT")
        calendar.add_component(event)
    return bytes(calendar.to_ical())
