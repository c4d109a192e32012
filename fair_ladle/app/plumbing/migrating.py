"""Migrations are done by one server at a time, on whichever node of a cluster, and go on from where one was stopped.

MariaDB keeps each change of a table at once, whatever becomes of the migration it belongs to. So the statements of a
migration are remembered as they are done; one that was killed half way is gone on with, not begun again.
"""

from __future__ import annotations

import hashlib
import re
import time
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from typing import Any

import MySQLdb
import sqlalchemy as sa

from fair_ladle.app.plumbing.database import WAITED, code_of
from fair_ladle.app.plumbing.tables import schema_change

LONGEST_WAIT = 600
"""Seconds in which another server has done a statement, or all of it."""
LOOKS_EVERY = 0.5
OTHER = re.compile(r"\s*(SHOW|DESCRIBE|SET|CREATE TABLE alembic_version)\b", re.IGNORECASE)
READS = re.compile(r"\s*SELECT\b", re.IGNORECASE)
VERSION = re.compile(r"\s*(INSERT INTO|UPDATE|DELETE FROM) alembic_version\b", re.IGNORECASE)
SHAPES = re.compile(r"\s*(CREATE|ALTER|DROP|RENAME)\b", re.IGNORECASE)
DONE_BEFORE = {1050, 1051, 1054, 1060, 1061, 1091, 1146, 1826}
DONE_BEFORE_TOO = (1005, "errno: 121")
"""The server's word that a table, column, key or constraint is there already, or is gone: the statement was kept, and
that it was done was not."""
LENGTH = 16
"""Letters by which a statement with its parameters is known."""


@contextmanager
def alone(connection: sa.Connection) -> Iterator[str]:
    """Be the only one that migrates this database; yields what was done of a migration that was stopped.

    The named lock ends with its connection, however that dies, but is known to one database server alone; the row is
    known to all nodes of a cluster: who holds the lock takes it over from a predecessor on the same node, and from
    another node once that has done nothing for LONGEST_WAIT. Raises TimeoutError.
    """
    name = f"fair ladle {connection.engine.url.database}"[:64]
    until = time.monotonic() + LONGEST_WAIT
    late = TimeoutError("Another server has been bringing the database up to date for too long.")
    if connection.scalar(sa.select(sa.func.get_lock(name, LONGEST_WAIT))) != 1:
        raise late
    _do(connection, sa.schema.CreateTable(schema_change, if_not_exists=True))
    _do(connection, sa.text("INSERT IGNORE INTO schema_change (id, until, done) VALUES (1, UTC_TIMESTAMP(6), '')"))
    here = "CONCAT(@@hostname, ' ', @@datadir)"
    take = sa.text(
        f"UPDATE schema_change SET node = {here}, until = UTC_TIMESTAMP(6) + INTERVAL {LONGEST_WAIT} SECOND "
        f"WHERE id = 1 AND (node IS NULL OR node = {here} OR until < UTC_TIMESTAMP(6))"
    )
    while _do(connection, take) != 1:
        if time.monotonic() > until:
            raise late
        time.sleep(LOOKS_EVERY)
    try:
        done = connection.scalar(sa.select(schema_change.c.done)) or ""
        connection.rollback()
        yield done
    finally:
        with suppress(sa.exc.SQLAlchemyError):  # a connection that is lost has let go by itself
            connection.rollback()
            _do(connection, sa.update(schema_change).where(schema_change.c.id == 1).values(node=None))
            _do(connection, sa.select(sa.func.release_lock(name)))


def _do(connection: sa.Connection, statement: sa.sql.Executable) -> int:
    """Rows changed by a statement that is a transaction of its own: again where another node was at it."""
    while True:
        try:
            changed = connection.execute(statement).rowcount
            connection.commit()
            return changed
        except sa.exc.OperationalError as trouble:
            connection.rollback()
            if code_of(trouble) not in WAITED:
                raise
            time.sleep(LOOKS_EVERY)


@contextmanager
def remembered(engine: sa.Engine, done: str) -> Iterator[None]:
    """Remember what migrations do on the way; what was done before of the one that was stopped is left out."""
    steps = _Steps(done)
    sa.event.listen(engine, "do_execute", steps.execute)
    sa.event.listen(engine, "do_executemany", steps.execute_many)
    try:
        yield
    finally:
        sa.event.remove(engine, "do_execute", steps.execute)
        sa.event.remove(engine, "do_executemany", steps.execute_many)


class _Steps:
    """The statements of the migration under way."""

    def __init__(self, done: str):
        self._done = Counter(done[at : at + LENGTH] for at in range(0, len(done), LENGTH))
        self._resumed = self._may_be_done = True

    def execute(self, cursor: Any, statement: str, parameters: Any, context: Any) -> bool:
        """One statement, in place of the driver's own; True where it is seen to."""
        return self._one(cursor, statement, parameters, lambda: cursor.execute(statement, parameters))

    def execute_many(self, cursor: Any, statement: str, parameters: Any, context: Any) -> bool:
        """The same with several rows of parameters."""
        return self._one(cursor, statement, parameters, lambda: cursor.executemany(statement, parameters))

    def _one(self, cursor: Any, statement: str, parameters: Any, do: Callable[[], Any]) -> bool:
        if OTHER.match(statement):
            return False
        if VERSION.match(statement):
            do()
            self._done.clear()
            self._resumed = self._may_be_done = False
            self._write(cursor, "''")
            return True
        if READS.match(statement):
            self._read(cursor, do)
            return True
        name = hashlib.sha256(f"{statement} {parameters}".encode()).hexdigest()[:LENGTH]
        if self._done[name]:
            self._done[name] -= 1
            return True
        try:
            do()
        except MySQLdb.Error as trouble:
            if not (self._may_be_done and SHAPES.match(statement) and _was_done(trouble)):
                raise
        self._may_be_done = False
        self._write(cursor, f"CONCAT(done, '{name}')")
        return True

    def _read(self, cursor: Any, do: Callable[[], Any]) -> None:
        try:
            do()
        except MySQLdb.Error as trouble:
            if not (self._resumed and _was_done(trouble)):
                raise
            cursor.execute("SELECT 1 FROM DUAL WHERE 1 = 0")  # what it read was put elsewhere, and dropped after that

    def _write(self, cursor: Any, done: str) -> None:
        beside = cursor.connection.cursor()
        until = f"UTC_TIMESTAMP(6) + INTERVAL {LONGEST_WAIT} SECOND"
        beside.execute(f"UPDATE schema_change SET done = {done}, until = {until} WHERE id = 1")
        beside.close()


def _was_done(trouble: MySQLdb.Error) -> bool:
    code, there = DONE_BEFORE_TOO
    return trouble.args[0] in DONE_BEFORE or (trouble.args[0] == code and there in str(trouble))
