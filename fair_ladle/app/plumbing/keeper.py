"""Runs a home's database server as long as anybody uses it: a small process of its own, so that however a server of
ours ends, killed too, its database ends with it.

Whoever uses a home holds a shared lock on a file there, which the kernel takes from a process that is gone. The
keeper starts the database and ends it once it gets that lock alone. Run as `python -m fair_ladle.app.plumbing.keeper
FOLDER LINGER PROGRAM ARGUMENT…`.
"""

from __future__ import annotations

import fcntl
import os
import signal
import subprocess
import sys
import time
from functools import partial
from pathlib import Path

from fair_ladle.app.plumbing.processes import end_with_parent

USERS = "users.lock"
LOOK_SECONDS = 0.2


def hold(folder: Path) -> int:
    """Say that this process uses the home, until it ends; the file that is held open."""
    handle = os.open(folder / USERS, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
    fcntl.flock(handle, fcntl.LOCK_SH)
    return handle


def _alone(handle: int) -> bool:
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    return True


def keep(folder: Path, linger: float, command: list[str]) -> int:
    """Run the server until nobody uses it for ``linger`` seconds, or it ends by itself."""
    ignored = (signal.SIGINT, signal.SIGHUP)
    for each in ignored:
        signal.signal(each, signal.SIG_IGN)
    with (folder / "server.log").open("ab") as log:
        ends = partial(end_with_parent, signal.SIGTERM)
        server = subprocess.Popen(command, stdout=log, stderr=log, stdin=subprocess.DEVNULL, preexec_fn=ends)
    (folder / "keeper.pid").write_text(str(os.getpid()))
    signal.signal(signal.SIGTERM, lambda *_: server.terminate())
    handle = os.open(folder / USERS, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
    unused_since: float | None = None
    while server.poll() is None:
        time.sleep(LOOK_SECONDS)
        if not _alone(handle):
            unused_since = None
            continue
        unused_since = unused_since or time.monotonic()
        if time.monotonic() - unused_since >= linger:
            # The lock is kept until the server is gone: whoever comes now waits, and starts it anew.
            server.terminate()
            server.wait()
            break
        fcntl.flock(handle, fcntl.LOCK_UN)
    return server.returncode


if __name__ == "__main__":
    sys.exit(keep(Path(sys.argv[1]), float(sys.argv[2]), sys.argv[3:]))
