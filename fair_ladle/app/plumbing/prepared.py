"""Statements that are run for every taking: compiled once, then handed to the driver as they are."""

from __future__ import annotations

from collections import namedtuple
from datetime import UTC, datetime
from typing import Any, NoReturn

import sqlalchemy as sa
from sqlalchemy.dialects import mysql


class Prepared:
    """A statement that is compiled once and goes to the driver with its parameters: of what SQLAlchemy does around a
    statement only what others rely on is done, which is half of what a short one takes.

    Parameters go in as they are, but for instants, which go in UTC. Columns come out as they say; those of a text that
    names none as the driver has them, instants without zone.
    """

    def __init__(self, statement: sa.sql.Executable):
        dialect = mysql.dialect(paramstyle="format")
        options = {"render_postcompile": True}
        compiled = statement.compile(dialect=dialect, compile_kwargs=options)  # type: ignore[attr-defined]
        self.sql = str(compiled)
        self.names = tuple(compiled.positiontup or ())
        self._stands = {name: value for name, value in compiled.params.items() if value is not None}
        self._row: Any = None
        columns = statement.selected_columns if isinstance(statement, sa.sql.expression.SelectBase) else ()
        made = (each.type.dialect_impl(dialect).result_processor(dialect, None) for each in columns)
        self._made = [(place, make) for place, make in enumerate(made) if make is not None]

    def run(self, connection: sa.Connection, *rows: dict[str, Any]) -> list[Any]:
        """Run it for one row of parameters, or for several: the rows that it yields, if any, by the names of their
        columns. Raises the errors of SQLAlchemy."""
        if not connection.in_transaction():
            connection.begin()  # whoever opened the connection ends it
        if self._stands:
            rows = tuple(self._stands | row for row in rows)
        values = [tuple(_value(row[name]) for name in self.names) for row in rows]
        many = len(values) > 1
        parameters: Any = values if many else values[0]
        cursor = connection.connection.cursor()
        try:
            for heard in connection.dispatch.before_cursor_execute:
                heard(connection, cursor, self.sql, parameters, None, many)
            (cursor.executemany if many else cursor.execute)(self.sql, parameters)
            for heard in connection.dispatch.after_cursor_execute:
                heard(connection, cursor, self.sql, parameters, None, many)
            return [] if cursor.description is None else self._rows(cursor)
        except connection.dialect.loaded_dbapi.Error as trouble:
            self._raise(connection, cursor, parameters, trouble)
        finally:
            cursor.close()

    def _rows(self, cursor: Any) -> list[Any]:
        if self._row is None:
            names = [each[0] for each in cursor.description]
            self._row = namedtuple("Row", names)  # type: ignore[misc]  # noqa: PYI024
        found = cursor.fetchall()
        if self._made:
            found = [self._as_said(row) for row in found]
        return list(map(self._row._make, found))

    def _as_said(self, row: tuple[Any, ...]) -> list[Any]:
        found = list(row)
        for place, make in self._made:
            found[place] = make(found[place])
        return found

    def _raise(self, connection: sa.Connection, cursor: Any, parameters: Any, trouble: Exception) -> NoReturn:
        is_lost = connection.dialect.is_disconnect(trouble, connection.connection, cursor)  # type: ignore[arg-type]
        if is_lost:
            connection.invalidate(trouble)
        raise sa.exc.DBAPIError.instance(
            self.sql,
            parameters,
            trouble,
            connection.dialect.loaded_dbapi.Error,
            hide_parameters=connection.engine.hide_parameters,
            connection_invalidated=is_lost,
            dialect=connection.dialect,
        ) from trouble


def in_utc(at: datetime) -> datetime:
    """An instant as aware, whether it came with its zone or, from a text in SQL, without."""
    return at if at.tzinfo is not None else at.replace(tzinfo=UTC)


def _value(value: Any) -> Any:
    return in_utc(value).astimezone(UTC).replace(tzinfo=None) if isinstance(value, datetime) else value
