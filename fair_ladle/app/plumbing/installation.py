"""Opening the installation a process belongs to: its database, migrated, with its clock."""

from __future__ import annotations

import logging
import os
import signal
import threading
import time
from datetime import timedelta
from pathlib import Path

import MySQLdb
import sqlalchemy as sa

from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.own_server import LINGER_SECONDS, OwnServer, ServerTrouble
from fair_ladle.app.plumbing.schema import migrate
from fair_ladle.app.plumbing.settings import Settings
from fair_ladle.app.plumbing.tables import demo_clock

WEB_PIDS = "web.*.pid"
READ_SECONDS = 60
WATCH_SECONDS = 1.0
logger = logging.getLogger("fair_ladle")


def open_database(settings: Settings | None = None, serves: bool = False, read_seconds: int = READ_SECONDS) -> Database:
    """The database of this home (started if it is not up) or of FAIR_LADLE_DATABASE_URL, brought up to date.

    ``serves``: for a server, whose own database ends with it at once and whose statements have a time limit
    (``read_seconds``).
    """
    settings = settings or Settings.read()
    url = settings.database_url
    if url is None:
        make_home(settings.home)
        server = OwnServer(settings.home)
        server.ensure(0.0 if serves else LINGER_SECONDS)
        url = server.url()
    unhurried = Database(url, settings=settings)  # a large table takes long to change
    migrate(unhurried.engine)
    unhurried.engine.dispose()
    database = Database(url, read_seconds=read_seconds if serves else None, settings=settings)
    set_demo_clock(database)
    return database


def make_home(home: Path) -> None:
    """The folder of the installation; a plain word where it cannot be made."""
    try:
        home.mkdir(parents=True, exist_ok=True)
    except OSError as trouble:
        raise ServerTrouble(
            f"{home} cannot be made ({trouble.strerror}); say with FAIR_LADLE_HOME where the data goes"
        ) from None
    if not os.access(home, os.W_OK):
        raise ServerTrouble(f"{home} is not yours to write; say with FAIR_LADLE_HOME where the data goes")


def watch_over(settings: Settings, stopping: threading.Event) -> None:
    """Start a server's own database again when it dies, until told to stop."""
    server = OwnServer(settings.home)
    while not stopping.wait(WATCH_SECONDS):
        if not server.answers():
            try:
                server.ensure(0.0)
                logger.warning("the database had ended and was started again")
            except (ServerTrouble, MySQLdb.Error, OSError) as trouble:
                logger.error("the database cannot be started: %s", trouble)


def _demo_shift(database: Database) -> timedelta | None:
    with database.engine.connect() as connection:
        row = connection.execute(sa.select(demo_clock.c.demo_at, demo_clock.c.real_at)).first()
    return None if row is None else row.demo_at - row.real_at


def is_demo(database: Database) -> bool:
    """Whether this installation is a demo, with a time of its own."""
    return _demo_shift(database) is not None


def set_demo_clock(database: Database) -> None:
    """Where the installation is a demo, let its own time run on."""
    shift = _demo_shift(database)
    if shift is not None:
        database.clock.shift = shift


def close_installation(settings: Settings | None = None) -> list[str]:
    """Stop the web server and the database of this home; what was stopped."""
    settings = settings or Settings.read()
    stopped = []
    servers = sorted(settings.home.glob(WEB_PIDS))
    if sum(_stop_process(each) for each in servers):
        stopped.append("server")
    if settings.database_url is None and OwnServer(settings.home).stop():
        stopped.append("database")
    return stopped


def _stop_process(pid_file: Path) -> bool:
    try:
        pid = int(pid_file.read_text())
        if b"fair_ladle" not in Path(f"/proc/{pid}/cmdline").read_bytes():
            return False
        os.kill(pid, signal.SIGTERM)
    except (FileNotFoundError, ProcessLookupError, ValueError):
        return False
    for _ in range(200):
        if not Path(f"/proc/{pid}").exists():
            break
        time.sleep(0.05)
    pid_file.unlink(missing_ok=True)
    return True
