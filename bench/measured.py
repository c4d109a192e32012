"""One measurement, and how it is taken."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from statistics import median
from typing import Any


@dataclass(frozen=True)
class Measure:
    """A row of the table."""

    what: str
    ours: str
    against: str = ""
    theirs: str = ""
    ratio: str = ""


def best(work: Callable[[], Any], times: int = 7) -> float:
    """Seconds of the fastest of some runs."""
    found = []
    for _ in range(times):
        begin = time.perf_counter()
        work()
        found.append(time.perf_counter() - begin)
    return min(found)


def interleaved(*works: Callable[[], Any], times: int = 7) -> list[float]:
    """Seconds of the fastest run of each, taken in turns so that the machine's moods reach all alike."""
    found = [[] for _ in works]  # type: list[list[float]]
    for _ in range(times):
        for place, work in enumerate(works):
            begin = time.perf_counter()
            work()
            found[place].append(time.perf_counter() - begin)
    return [min(each) for each in found]


def alternating(*works: Callable[[int], Any], times: int) -> list[float]:
    """Seconds of the middle run of each, one of each in turn: for what is short. Each is told which run it is."""
    found = [[] for _ in works]  # type: list[list[float]]
    for number in range(times):
        for place, work in enumerate(works):
            begin = time.perf_counter()
            work(number)
            found[place].append(time.perf_counter() - begin)
    return [median(each) for each in found]


def compared(what: str, ours: float, against: str, theirs: float, unit: str = "s") -> Measure:
    """Times side by side; a ratio under 1 is faster than what it is compared with."""
    return Measure(what, f"{ours:.3f} {unit}", against, f"{theirs:.3f} {unit}", f"{ours / theirs:.2f}")
