"""What is dear to work out, kept in this process under generations: bounded, and worked out once for all who wait."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from concurrent.futures import Future
from threading import BoundedSemaphore, Lock
from typing import Generic, TypeVar

from cachetools import LRUCache

from fair_ladle.app.plumbing.problems import Problem, Refused
from fair_ladle.app.plumbing.sizes import bytes_of

Value = TypeVar("Value")


class Cache(Generic[Value]):
    """Values by key, the least recently used dropped first: where there are more than ``most``, or they take more than
    ``megabytes`` together (the newest alone may), by what ``bytes_of`` says of each. A key has to name all that its
    value depends on.

    ``at_once``: so many are made at the same time, and whoever waits for a turn too long is told so: what takes long
    by itself would take all of the machine together.
    """

    def __init__(
        self,
        most: int,
        megabytes: int,
        at_once: int | None = None,
        bytes_of: Callable[[Value], int] = bytes_of,
    ):
        self._turns = None if at_once is None else BoundedSemaphore(at_once)
        self._kept: LRUCache[Hashable, Future[Value]] = LRUCache(most)
        self._most_bytes = megabytes * 1_000_000
        self._bytes_of = bytes_of
        self._sizes: dict[Hashable, int] = {}
        self._lock = Lock()

    def __contains__(self, key: Hashable) -> bool:
        """Whether the value of a key is kept, or being made."""
        return key in self._kept

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
                return self._made(make)
        try:
            made = self._made(make)
        except BaseException as trouble:
            with self._lock:
                if self._kept.get(key) is mine:
                    del self._kept[key]
            mine.set_exception(trouble)
            raise
        mine.set_result(made)
        self._weigh(key, mine, self._bytes_of(made))
        return made

    def _weigh(self, key: Hashable, mine: Future[Value], size: int) -> None:
        with self._lock:
            if self._kept.get(key) is not mine:
                return
            self._sizes = {each: size for each, size in self._sizes.items() if each in self._kept} | {key: size}
            while len(self._kept) > 1 and sum(self._sizes.values()) > self._most_bytes:
                self._sizes.pop(self._kept.popitem()[0], None)

    def _made(self, make: Callable[[], Value]) -> Value:
        if self._turns is None:
            return make()
        if not self._turns.acquire(timeout=TURN_SECONDS):
            said = "Other figures are still being calculated. Ask again in a minute."
            raise Refused(Problem("busy", "Too busy", 503, said))
        try:
            return make()
        finally:
            self._turns.release()


WAITS_SECONDS, TURN_SECONDS = 60.0, 20.0
