"""What a server does beside requests, in a process of its own: long work holds no request up. It ends with the server,
however that ends. Run as `python -m fair_ladle.beside`."""

from __future__ import annotations

import os
import signal
import sys
import time

from fair_ladle.app.plumbing.installation import open_database
from fair_ladle.app.plumbing.processes import (
    end_with_parent,
    give_memory_back,
    give_way,
    look_for_garbage_seldom,
    share_memory_among_threads,
    take_short_turns,
)
from fair_ladle.app.plumbing.schedule import Schedule
from fair_ladle.app.plumbing.settings import Settings
from fair_ladle.jobs import jobs

LOOK_SECONDS = 0.2
READ_SECONDS = 1800
"""How long a statement of a job may take: nobody waits for it, and some go through everything."""


def main(server: int) -> None:
    """Do the jobs until told to stop, or until the server (process) is gone."""
    is_told = False

    def told(*_: object) -> None:
        # Nothing with a lock in it: the signal may come while this very thread has that.
        nonlocal is_told
        is_told = True

    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C goes to both; the server says when
    signal.signal(signal.SIGTERM, told)
    end_with_parent(signal.SIGTERM)
    share_memory_among_threads()
    settings = Settings.read()
    schedule = Schedule(open_database(settings, serves=True, read_seconds=READ_SECONDS), jobs(settings))
    look_for_garbage_seldom()
    take_short_turns()
    give_memory_back()
    give_way()  # after the database is there, which it would hold back too
    schedule.start()
    while os.getppid() == server and not is_told:
        time.sleep(LOOK_SECONDS)
    schedule.stop()


if __name__ == "__main__":
    main(int(sys.argv[1]))
