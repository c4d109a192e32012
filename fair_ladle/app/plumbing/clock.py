"""The clock of an installation: the real time, or, for a demo, a time of its own that runs on from a start."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta


class Clock:
    """``shift`` is what a demo's time is ahead of (or behind) the real one."""

    def __init__(self, shift: timedelta = timedelta(0)):
        self.shift = shift

    def now(self) -> datetime:
        """The present as an aware UTC instant."""
        return datetime.now(UTC) + self.shift

    def set_to(self, at: datetime) -> None:
        """Run on from this instant."""
        self.shift = at - datetime.now(UTC)
