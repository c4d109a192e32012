"""A bound on how much of one kind is done at a time on this machine, by however many processes."""

from __future__ import annotations

import fcntl
import os
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

LOOK_SECONDS = 0.02


class AllTaken(Exception):
    """No slot came free in time."""


def private_folder() -> Path:
    """A folder of this machine that is this user's alone; OSError where it belongs to somebody else."""
    found = Path(tempfile.gettempdir()) / f"fair-ladle-{os.getuid()}"
    found.mkdir(mode=0o700, exist_ok=True)
    if found.stat().st_uid != os.getuid():
        raise PermissionError(f"{found} belongs to somebody else")
    return found


@contextmanager
def slot(name: str, count: int, waits_seconds: float) -> Iterator[None]:
    """Hold one of so many slots; AllTaken where none comes free in time. A process that dies gives its own back."""
    folder = private_folder()
    until = time.monotonic() + waits_seconds
    handles = [os.open(folder / f"{name}-{n}", os.O_RDWR | os.O_CREAT, 0o600) for n in range(count)]
    try:
        while not any(_is_taken(each) for each in handles):
            if time.monotonic() > until:
                raise AllTaken
            time.sleep(LOOK_SECONDS)
        yield
    finally:
        for each in handles:
            os.close(each)


def _is_taken(handle: int) -> bool:
    """Take a slot, if nobody has it."""
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    return True
