"""Work shared with a process beside: whatever becomes of that, every item is worked on, once for all that is told."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from multiprocessing import active_children

import pytest

from fair_ladle.app.plumbing.shared_work import shared_out


def squares(items: Iterator[int]) -> Iterator[int]:
    return (each * each for each in items)


def never(items: Iterator[int]) -> Iterator[int]:
    for each in items:
        time.sleep(600)
        yield each


def fails(items: Iterator[int]) -> Iterator[int]:
    for each in items:
        raise RuntimeError(f"{each} is too much")
    yield 0


def kill_it() -> None:
    for each in active_children():
        each.kill()


@pytest.mark.parametrize(("there", "meanwhile"), [(squares, lambda: None), (fails, lambda: None), (never, kill_it)])
def test_every_item_is_worked_on(there: Callable[..., Iterator[int]], meanwhile: Callable[[], None]) -> None:
    assert sorted(shared_out([1, 2, 3], lambda each: each * each, there, (), meanwhile)) == [1, 4, 9]
    assert active_children() == []


def test_who_stops_waiting_ends_the_process_beside() -> None:
    def stop() -> None:
        raise InterruptedError

    with pytest.raises(InterruptedError):
        list(shared_out([1, 2, 3], lambda each: each, never, (), stop))
    assert active_children() == []
