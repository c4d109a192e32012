"""Opening the installation a process belongs to: its database, migrated, with its clock."""

from __future__ import annotations

import os
import signal
import time
from datetime import timedelta
from pathlib import Path

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.own_server import OwnServer
from fair_ladle.app.plumbing.schema import metadata, migrate
from fair_ladle.app.plumbing.settings import Settings

WEB_PID = "web.pid"


def open_database(settings: Settings | None = None) -> Database:
    """The database of this home (started if it is not up) or of FAIR_LADLE_DATABASE_URL, brought up to date."""
    settings = settings or Settings.read()
    url = settings.database_url
    if url is None:
        settings.home.mkdir(parents=True, exist_ok=True)
        server = OwnServer(settings.home)
        server.ensure()
        url = server.url()
    database = Database(url)
    migrate(database.engine)
    set_demo_clock(database)
    return database


def _demo_shift(database: Database) -> timedelta | None:
    clock = metadata.tables["demo_clock"]
    with database.engine.connect() as connection:
        row = connection.execute(sa.select(clock.c.demo_at, clock.c.real_at)).first()
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
    if _stop_process(settings.home / WEB_PID):
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
