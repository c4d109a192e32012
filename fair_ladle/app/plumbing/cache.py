"""What is dear to work out, kept in this process under generations: bounded, and worked out once for all who wait."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from concurrent.futures import Future
from threading import Lock
from typing import Generic, TypeVar

from cachetools import LRUCache

Value = TypeVar("Value")


class Cache(Generic[Value]):
    """Values by key, the least recently used dropped first. A key has to name all that its value depends on."""

    def __init__(self, most: int):
        self._kept: LRUCache[Hashable, Future[Value]] = LRUCache(most)
        self._lock = Lock()

    def get(self, key: Hashable, make: Callable[[], Value]) -> Value:
        """The value of a key, made where it is not kept; whoever asks meanwhile waits for it. Nothing is kept of a
        failure."""
        with self._lock:
            found = self._kept.get(key)
            if found is None:
                mine: Future[Value] = Future()
                self._kept[key] = mine
        if found is not None:
            try:
                return found.result(WAITS_SECONDS)
            except Exception:  # it failed for whoever made it: perhaps only their connection was lost
                return make()
        try:
            made = make()
        except BaseException as trouble:
            with self._lock:
                if self._kept.get(key) is mine:
                    del self._kept[key]
            mine.set_exception(trouble)
            raise
        mine.set_result(made)
        return made


WAITS_SECONDS = 60.0
