"""What each request costs: its id, time, statements and rows, as a line of the log and for whoever measures."""

from __future__ import annotations

import json
import logging
import os
import time
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import sqlalchemy as sa

KEPT_DAYS = 14
logger = logging.getLogger("fair_ladle")
_in_json = json.JSONEncoder(ensure_ascii=False).encode


@dataclass
class Watched:
    """A piece of work under way: a request or a job.

    ``statements`` counts what was sent to the database (one for many rows at once), ``rows`` what came back or was
    written, ``retries`` how often a transaction was begun again, ``units`` how many were assigned and released;
    ``route`` is the path with names for what varies.
    """

    statements: int = 0
    rows: int = 0
    retries: int = 0
    route: str = ""
    units: dict[str, int] = field(default_factory=dict)
    began: float = field(default_factory=time.perf_counter)

    def seconds(self) -> float:
        """How long it has gone on."""
        return time.perf_counter() - self.began


_current: ContextVar[Watched | None] = ContextVar("watched", default=None)


@contextmanager
def watching() -> Iterator[Watched]:
    """Count what is done in here."""
    mine = Watched()
    token = _current.set(mine)
    try:
        yield mine
    finally:
        _current.reset(token)


def begun_again() -> None:
    """A transaction was begun again."""
    mine = _current.get()
    if mine is not None:
        mine.retries += 1
        mine.units.clear()


def units_are(what: str, count: int) -> None:
    """So many units were assigned, or released."""
    mine = _current.get()
    if mine is not None:
        mine.units[what] = mine.units.get(what, 0) + count


def count_statements(engine: sa.Engine) -> None:
    """Let every statement of an engine count for the work that sends it; what only begins a transaction is none."""

    def sent(connection: Any, cursor: Any, statement: str, *rest: Any) -> None:
        mine = _current.get()
        if mine is not None and not statement.startswith("SET TRANSACTION"):
            mine.statements += 1
            mine.rows += max(0, cursor.rowcount)

    sa.event.listen(engine, "after_cursor_execute", sent)


class RequestLog:
    """A line of JSON a request, in a file a day, which all servers of a home append to."""

    def __init__(self, folder: Path):
        self._folder, self._day, self._file = folder, "", -1

    def write(self, entry: dict[str, Any]) -> None:
        """Append an entry; a log that cannot be written stops nobody."""
        now = datetime.now(UTC)
        line = _in_json({"at": now.isoformat(timespec="milliseconds"), **entry}) + "\n"
        try:
            if self._day != now.date().isoformat():
                self._turn(now)
            os.write(self._file, line.encode())
        except OSError as trouble:
            logger.warning("the log of requests cannot be written: %s", trouble.strerror)

    def _turn(self, now: datetime) -> None:
        self._folder.mkdir(parents=True, exist_ok=True)
        if self._file >= 0:
            os.close(self._file)
        self._day = now.date().isoformat()
        path = self._folder / f"requests-{self._day}.jsonl"
        self._file = os.open(path, os.O_WRONLY | os.O_APPEND | os.O_CREAT, 0o640)
        oldest = (now - timedelta(days=KEPT_DAYS)).date().isoformat()
        for old in self._folder.glob("requests-*.jsonl"):
            if old.stem.removeprefix("requests-") < oldest:
                old.unlink(missing_ok=True)
