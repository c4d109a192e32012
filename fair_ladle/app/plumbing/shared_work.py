"""Work on several things, each by itself, that is shared with a process beside: two cores instead of one."""

from __future__ import annotations

import logging
import os
import signal
from collections import deque
from collections.abc import Callable, Generator, Iterator, Sequence
from contextlib import suppress
from multiprocessing import get_context
from multiprocessing.connection import Connection
from threading import Thread
from typing import Any, TypeVar

from fair_ladle.app.plumbing.processes import end_with_parent, look_for_garbage_seldom

Item = TypeVar("Item")
Result = TypeVar("Result")
logger = logging.getLogger(__name__)


def has_another_core() -> bool:
    """Whether a process beside would have a core of its own."""
    return len(os.sched_getaffinity(0)) > 1


def shared_out(
    items: Sequence[Item],
    here: Callable[[Item], Result],
    there: Callable[..., Iterator[Result]],
    args: tuple[Any, ...],
    waits: Callable[[], None],
) -> Generator[Result, None, None]:
    """What work comes to for each of some items, in no order. Closed before its end, it ends the process beside.

    Args:
        items: what is worked on; whoever is done with one takes the next.
        here: the work on one of them, in this process.
        there: the same in a process beside, which is begun anew: ``there(items, *args)`` goes through the items that
            it is given and yields what each comes to. Where it ends before, fails or is killed, what it has not
            answered is worked on here.
        waits: called again and again while this process waits for the other one.
    """
    waiting, answered = deque(items), deque[Result]()
    ours, theirs = get_context("spawn").Pipe()
    process = get_context("spawn").Process(target=_serve, args=(theirs, there, args), daemon=True)
    process.start()
    theirs.close()
    asking = Thread(target=_ask, args=(ours, waiting, answered), daemon=True)
    asking.start()
    try:
        while waiting or answered or asking.is_alive():
            while answered:
                yield answered.popleft()
            with suppress(IndexError):  # the other one took the last
                yield here(waiting.popleft())
                continue
            waits()
            asking.join(0.1)
    finally:
        process.kill()
        process.join()
        asking.join()
        ours.close()


def _ask(pipe: Connection, waiting: deque[Item], answered: deque[Result]) -> None:
    while waiting:
        with suppress(IndexError):
            item = waiting.popleft()
            try:
                pipe.send(item)
                answered.append(pipe.recv())
            except (EOFError, OSError):
                waiting.append(item)
                logger.warning("the process beside has ended; this one goes on alone")
                return


def _serve(pipe: Connection, there: Callable[..., Iterator[Any]], args: tuple[Any, ...]) -> None:
    end_with_parent(signal.SIGKILL)
    look_for_garbage_seldom()
    with suppress(EOFError, BrokenPipeError):
        for result in there(iter(pipe.recv, None), *args):
            pipe.send(result)
