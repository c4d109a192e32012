"""What a server does beside requests, in a process of its own: long work holds no request up. It ends with the server,
however that ends. Run as `python -m fair_ladle.beside`."""

from __future__ import annotations

import logging
import os
import signal
import subprocess
import sys
import threading
import time

from fair_ladle.app.plumbing.installation import open_database
from fair_ladle.app.plumbing.processes import (
    end_with_parent,
    give_way,
    look_for_garbage_seldom,
    share_memory_among_threads,
    take_short_turns,
)
from fair_ladle.app.plumbing.schedule import STOPPED_WITHIN, Schedule
from fair_ladle.app.plumbing.settings import Settings
from fair_ladle.jobs import jobs

LOOK_SECONDS, AGAIN_SECONDS = 0.2, 1.0
logger = logging.getLogger("fair_ladle")
READ_SECONDS = 1800
"""How long a statement of a job may take: nobody waits for it, and some go through everything."""


def keep(stopping: threading.Event) -> None:
    """Keep the process of the jobs running until told to stop; begun again when it dies."""
    while not stopping.is_set():
        try:
            process = subprocess.Popen([sys.executable, "-m", "fair_ladle.beside", str(os.getpid())])
        except OSError as trouble:  # the system has no process to give just now
            logger.warning("the jobs' process cannot begin (%s); it is tried again", trouble)
            stopping.wait(AGAIN_SECONDS)
            continue
        while process.poll() is None and not stopping.wait(LOOK_SECONDS):
            pass
        if process.poll() is None:
            process.terminate()
            try:
                process.wait(STOPPED_WITHIN + 5)
            except subprocess.TimeoutExpired:
                process.kill()
                process.wait()
        elif not stopping.wait(AGAIN_SECONDS):
            logger.warning("the jobs' process ended (%s) and is begun again", process.returncode)


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
    give_way()  # after the database is there, which it would hold back too
    schedule.start()
    while os.getppid() == server and not is_told:
        time.sleep(LOOK_SECONDS)
    schedule.stop()


if __name__ == "__main__":
    main(int(sys.argv[1]))
