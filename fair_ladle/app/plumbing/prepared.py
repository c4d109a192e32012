"""Statements that are run for every taking: compiled once, then handed to the driver as they are; and those whose
answer nobody waits for, in one message."""

from __future__ import annotations

import hashlib
import re
from collections import namedtuple
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from itertools import islice
from typing import Any, Generic, NamedTuple, NoReturn, TypeVar

import sqlalchemy as sa
from sqlalchemy.dialects import mysql

MOST_TOLD = 2000
"""Characters of a statement in what is said of its failure; one for many rows has thousands of marks."""
_LATER = "later"
"""Where a connection has what is to be sent before anything else."""
_NAMED = "named"
"""Where a connection has what the server has prepared for it."""
MOST_NAMED, MOST_ROWS_NAMED = 64, 4
"""Statements that are prepared for a connection, and the rows that one of them is for; others go as they are."""
TOO_MANY_PREPARED = 1461
"""The server prepares no more."""
_COMMITTED = "committed"
"""Set where a transaction has sent its COMMIT with the last of what it wrote."""
Answer = TypeVar("Answer")
_VALUES = re.compile(r"(INSERT INTO .*? VALUES )(\(.*?\))((?: ON DUPLICATE KEY UPDATE .*)?)", re.DOTALL)


class _Said(NamedTuple):
    """A statement with what is put in place of its marks, what reads the rows it yields, and what is raised where a key
    of the database stands against it, if not that."""

    sql: str
    values: list[Any]
    read: Callable[[Any], list[Any]] | None = None
    refused: type[Exception] | None = None
    comes_again: bool = False
    """Whether the text is likely to come again: then the server prepares it once a connection."""


@dataclass
class _Named:
    """What the server has prepared for a connection: the name that each text is run by; ``most`` of them."""

    names: dict[str, bytes] = field(default_factory=dict)
    most: int = MOST_NAMED


_COMMIT = _Said("COMMIT", [])


class Prepared:
    """A statement that is compiled once and goes to the driver with its parameters: of what SQLAlchemy does around a
    statement only what others rely on is done, which is half of what a short one takes.

    Parameters go in as they are, but for instants, which go in UTC. Columns come out as they say; those of a text that
    names none as the driver has them, instants without zone.
    """

    def __init__(self, statement: sa.sql.Executable):
        dialect = mysql.dialect(paramstyle="format", is_mariadb=True)
        dialect.insert_returning = True
        options = {"render_postcompile": True}
        compiled = statement.compile(dialect=dialect, compile_kwargs=options)  # type: ignore[attr-defined]
        self.sql = str(compiled)
        self.names = tuple(compiled.positiontup or ())
        self._stands = {name: value for name, value in compiled.params.items() if value is not None}
        self._of_values = _VALUES.fullmatch(self.sql)
        self._row: Any = None
        self._is_select = isinstance(statement, sa.Select)
        columns = getattr(statement, "exported_columns", ())
        self._yields = bool(columns)
        made = (each.type.dialect_impl(dialect).result_processor(dialect, None) for each in columns)
        self._made = [(place, make) for place, make in enumerate(made) if make is not None]

    def run(self, connection: sa.Connection, *rows: dict[str, Any]) -> list[Any]:
        """Run it for one row of parameters or, an INSERT and a SELECT, for several: the rows that it yields, if any, by
        the names of their columns. What is to be run later goes with it. Raises the errors of SQLAlchemy."""
        return _sent(connection, [*_waiting(connection), self.said(*rows)])[-1]

    def run_later(
        self, connection: sa.Connection, *rows: dict[str, Any], refused: type[Exception] | None = None
    ) -> None:
        """Run it before the next statement or the end of the transaction, with others in one message: for what yields
        nothing and is never refused, unless it is said what is raised then."""
        if not connection.in_transaction():
            connection.begin()
        connection.info.setdefault(_LATER, []).append(self.said(*rows, refused=refused))

    def said(self, *rows: dict[str, Any], refused: type[Exception] | None = None) -> _Said:
        """It with these parameters."""
        names = self.names
        if self._stands:
            rows = tuple(self._stands | row for row in rows)
        values = [row[name] for row in rows for name in names]
        if len(rows) == 1:
            return _Said(self.sql, values, self._rows, refused, bool(values))
        if self._is_select:
            return _Said(" UNION ALL ".join([self.sql] * len(rows)), values, self._rows, refused)
        assert self._of_values is not None, f"one row at a time: {self.sql}"
        begin, one, end = self._of_values.groups()
        read = self._rows if self._yields else None
        sql, comes_again = f"{begin}{', '.join([one] * len(rows))}{end}", len(rows) <= MOST_ROWS_NAMED
        return _Said(sql, values, read, refused, comes_again)

    def _rows(self, result: Any) -> list[Any]:
        if self._row is None:
            names = [each[0] for each in result.describe()]
            self._row = namedtuple("Row", names)  # type: ignore[misc]  # noqa: PYI024
        found = result.fetch_row(0)
        if self._made:
            found = [self._as_said(row) for row in found]
        return list(map(self._row._make, found))

    def _as_said(self, row: tuple[Any, ...]) -> list[Any]:
        found = list(row)
        for place, make in self._made:
            found[place] = make(found[place])
        return found


@dataclass(frozen=True)
class Question(Generic[Answer]):
    """Prepared statements with their parameters, for one row or several, and what is made of the rows that each of them
    yields."""

    asked: Sequence[tuple[Prepared, *tuple[dict[str, Any], ...]]]
    answer: Callable[..., Answer]


def ask(connection: sa.Connection, *questions: Question[Any]) -> list[Any]:
    """What each of these comes to, asked one after the other in one message, with what is to be run later before
    them."""
    waiting = _waiting(connection)
    said = [statement.said(*rows) for each in questions for statement, *rows in each.asked]
    rows = iter(_sent(connection, [*waiting, *said])[len(waiting) :])
    return [each.answer(*islice(rows, len(each.asked))) for each in questions]


def send(connection: sa.Connection) -> None:
    """Send what is to be run later, if anything is."""
    waiting = [] if connection.invalidated else _waiting(connection)
    if waiting:
        _sent(connection, waiting)


def _send_before(connection: sa.Connection, cursor: Any, sql: str, values: Any, *rest: Any) -> tuple[str, Any]:
    send(connection)
    return sql, values


def _send_and_commit(connection: sa.Connection) -> None:
    """Send what is to be run later, and COMMIT with it."""
    waiting = [] if connection.invalidated else _waiting(connection)
    if waiting:
        _sent(connection, [*waiting, _COMMIT])
        connection.info[_COMMITTED] = True


def _waiting(connection: sa.Connection) -> list[_Said]:
    found: list[_Said] = connection.info.pop(_LATER, [])
    return found


def forget(connection: sa.Connection) -> None:
    """Send nothing of what was to be run later."""
    if not connection.invalidated:
        connection.info.pop(_LATER, None)


def send_in_time(engine: sa.Engine) -> None:
    """Let what is to be run later on connections of an engine come before all that others do on them, or be undone with
    it."""
    sa.event.listen(engine, "before_cursor_execute", _send_before, retval=True)
    sa.event.listen(engine, "savepoint", lambda connection, *rest: send(connection))
    sa.event.listen(engine, "commit", _send_and_commit)
    commit = engine.dialect.do_commit

    def commit_if_not_done(connection: Any) -> None:
        if not connection.info.pop(_COMMITTED, False):
            commit(connection)

    engine.dialect.do_commit = commit_if_not_done  # type: ignore[assignment, method-assign]
    for undone in ("rollback", "rollback_savepoint"):
        sa.event.listen(engine, undone, lambda connection, *rest: forget(connection))


def _sent(connection: sa.Connection, each: list[_Said]) -> list[list[Any]]:
    """The rows that each of these statements yields, all of which are sent in one message; whoever listens to
    statements hears of each of them. Of the driver only the connection is used: its cursors look up much that nobody
    asks for here."""
    if not connection.in_transaction():
        connection.begin()  # whoever opened the connection ends it
    cursor: Any = connection.connection.cursor()
    driver: Any = connection.connection.dbapi_connection
    hearing = connection.engine.dispatch
    before = [hear for hear in hearing.before_cursor_execute if hear is not _send_before]  # all of it is sent
    after = list(hearing.after_cursor_execute)
    found = list[list[Any]]()
    named: _Named = connection.info.setdefault(_NAMED, _Named())
    names = named.names.copy()
    parts = _parts(driver, each, names, named.most)
    try:
        for said in each:
            if said is not _COMMIT:
                for hear in before:
                    hear(connection, cursor, said.sql, said.values, None, False)
        driver.query(b"; ".join([part.text for part in parts]))
        for at, part in enumerate(parts):
            if at:
                driver.next_result()
            result = driver.store_result()
            if part.name is not None:
                named.names[part.said.sql] = part.name
                continue
            said = part.said
            found.append([] if result is None or said.read is None else said.read(result))
            if said is not _COMMIT:
                cursor.rowcount = driver.affected_rows()
                for hear in after:
                    hear(connection, cursor, said.sql, said.values, None, False)
    except connection.dialect.loaded_dbapi.Error as trouble:
        if trouble.args[0] == TOO_MANY_PREPARED:
            named.most = 0
            return found + _sent(connection, each[len(found) :])
        _raise(connection, cursor, each[len(found)], trouble)
    return found


class _Part(NamedTuple):
    """A part of a message: a statement that is run or, where it has a ``name``, prepared."""

    text: bytes
    said: _Said
    name: bytes | None = None


def _parts(driver: Any, each: list[_Said], names: dict[str, bytes], most: int) -> list[_Part]:
    """Statements as they are sent: by its name whatever has one, which is given to it first if it may have one."""
    parts = []
    for said in each:
        values = [b"%d" % value if type(value) is int else _written(driver, value) for value in said.values]
        name = names.get(said.sql)
        if name is None and (not said.comes_again or len(names) >= most):
            parts.append(_Part(said.sql.encode() % tuple(values), said))
            continue
        if name is None:
            name = names[said.sql] = b"s" + hashlib.sha256(said.sql.encode()).hexdigest()[:32].encode()
            marked = said.sql.encode() % ((b"?",) * len(values))
            parts.append(_Part(b"PREPARE %s FROM %s" % (name, driver.literal(marked.decode())), said, name))
        parts.append(_Part(b"EXECUTE %s USING %s" % (name, b", ".join(values)), said))
    return parts


def _raise(connection: sa.Connection, cursor: Any, said: _Said, trouble: Exception) -> NoReturn:
    driver = connection.dialect.loaded_dbapi
    if said.refused is not None and isinstance(trouble, driver.IntegrityError):
        raise said.refused from trouble
    is_lost = connection.dialect.is_disconnect(trouble, connection.connection, cursor)  # type: ignore[arg-type]
    if is_lost:
        connection.invalidate(trouble)
    raise sa.exc.DBAPIError.instance(
        said.sql if len(said.sql) <= MOST_TOLD else f"{said.sql[:MOST_TOLD]} …",
        said.values,
        trouble,
        driver.Error,
        hide_parameters=connection.engine.hide_parameters,
        connection_invalidated=is_lost,
        dialect=connection.dialect,
    ) from trouble


def in_utc(at: datetime) -> datetime:
    """An instant as aware, whether it came with its zone or, from a text in SQL, without."""
    return at if at.tzinfo is not None else at.replace(tzinfo=UTC)


def _written(driver: Any, value: Any) -> bytes:
    """A value that is no number, as it stands in a statement: as the driver writes it, which takes its time to find out
    what it is."""
    if value is None:
        return b"NULL"
    if type(value) is str:
        return driver.string_literal(value.encode())  # type: ignore[no-any-return]
    if type(value) is datetime:
        in_utc = value if value.tzinfo is UTC or value.tzinfo is None else value.astimezone(UTC)
        return b"'%s'" % str(in_utc.replace(tzinfo=None)).encode()
    return driver.literal(value)  # type: ignore[no-any-return]
