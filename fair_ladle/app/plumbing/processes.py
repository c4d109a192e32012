"""What a process of ours asks of the system."""

from __future__ import annotations

import ctypes
import gc
import os
import sys
import threading
import time
from pathlib import Path

PR_SET_PDEATHSIG, M_ARENA_MAX = 1, -8
ARENAS = 2
"""Places that threads allocate from (otherwise eight for each core, and each keeps what it once needed: twice the
memory, under load)."""


GARBAGE = 10_000, 20, 20
"""Objects made between two looks for what refers to itself, and so many looks at the young between two at the older:
700, 10, 10 otherwise, a twentieth of all time where an answer is made of some thousand objects."""


def end_with_parent(signal: int) -> None:
    """Let the kernel send this process a signal when the one that started it ends, however that ends."""
    ctypes.CDLL(None, use_errno=True).prctl(PR_SET_PDEATHSIG, signal)


def share_memory_among_threads() -> None:
    """Let threads begun from now on allocate from the same few places."""
    ctypes.CDLL(None).mallopt(M_ARENA_MAX, ARENAS)


def look_for_garbage_seldom() -> None:
    """Leave out what is there by now, which stays as long as the process, and look at the rest less often."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(*GARBAGE)


GIVEN_BACK_SECONDS = 60.0


def give_memory_back() -> None:
    """Let a thread give back to the system, each minute, what this process has and does not use: what an answer needed
    once would be kept for good."""

    def again_and_again() -> None:
        library = ctypes.CDLL(None)
        while True:
            time.sleep(GIVEN_BACK_SECONDS)
            library.malloc_trim(0)  # milliseconds

    threading.Thread(target=again_and_again, name="memory", daemon=True).start()


def give_way() -> None:
    """Let processes that answer somebody have the machine first: a third of a turn of theirs, where all want one. Not
    less, since what waits may hold rows that others wait for."""
    os.nice(5)


def take_short_turns() -> None:
    """Let a thread that waits for the interpreter have it after a millisecond (five otherwise, again after each of its
    statements): a short request beside a long one waits for little else."""
    sys.setswitchinterval(0.001)


def memory_bytes() -> int:
    """The memory of this machine, or what of it our control group may have."""
    found = os.sysconf("SC_PHYS_PAGES") * os.sysconf("SC_PAGE_SIZE")
    limit = Path("/sys/fs/cgroup/memory.max")
    said = limit.read_text().strip() if limit.exists() else "max"
    return min(found, int(said)) if said.isdigit() else found


def is_over(pid: int) -> bool:
    """Whether a process has ended, waited for by its parent or not. It may end while it is looked at."""
    try:
        return ") Z " in Path(f"/proc/{pid}/stat").read_text()
    except (FileNotFoundError, ProcessLookupError):
        return True
