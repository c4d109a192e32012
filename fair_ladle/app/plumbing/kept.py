"""Something dear to work out, kept for moments while nothing is written."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from datetime import datetime, timedelta
from threading import Lock
from typing import Generic, TypeVar

Value = TypeVar("Value")


class Kept(Generic[Value]):
    """Values by key, each at most so old; what the key leaves out must not matter for that long."""

    def __init__(self, at_most: timedelta):
        self.at_most = at_most
        self._kept: dict[Hashable, tuple[datetime, Value]] = {}
        self._lock = Lock()

    def get(self, key: Hashable, now: datetime, make: Callable[[], Value]) -> Value:
        """The value kept under a key, or a new one."""
        with self._lock:
            kept = self._kept.get(key)
            if kept is not None and timedelta(0) <= now - kept[0] < self.at_most:
                return kept[1]
        made = make()
        with self._lock:
            self._kept = {each: value for each, value in self._kept.items() if now - value[0] < self.at_most}
            self._kept[key] = (now, made)
        return made
