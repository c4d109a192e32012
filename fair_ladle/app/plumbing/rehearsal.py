"""Doing something to see what it would do, without holding anybody back.

A rehearsal works on copies: temporary tables that stand in for the real ones on its own connection, with the rows
that it may touch. So it runs the very code that would do it, locks nothing that others use, and ends with its
connection.
"""

from __future__ import annotations

import sqlalchemy as sa

OPTION = "rehearsal"


class Rehearsal:
    """The copies of one connection, by the names of the tables they stand in for."""

    def __init__(self) -> None:
        self.copied: set[str] = set()

    def copy(self, connection: sa.Connection, table: sa.Table, where: sa.ColumnElement[bool]) -> None:
        """From now on this connection reads and writes a copy of these rows where it names the table.

        What is not among them is not there: the caller names every row that is read from here on. Foreign keys and
        savepoints: a copy has none of the former and is made before the first of the latter.
        """
        if table.name in self.copied:
            raise ValueError(f"{table.name} is copied already")
        quoted = connection.dialect.identifier_preparer.quote
        name, copy = quoted(table.name), quoted(f"copy_of_{table.name}")
        connection.exec_driver_sql(f"CREATE TEMPORARY TABLE {copy} LIKE {name}")
        columns = [each.name for each in table.columns if each.computed is None]
        rows = sa.select(*(table.c[each] for each in columns)).where(where)
        into = sa.table(f"copy_of_{table.name}", *(sa.column(each) for each in columns))
        connection.execute(sa.insert(into).from_select(columns, rows))
        connection.exec_driver_sql(f"RENAME TABLE {copy} TO {name}")
        self.copied.add(table.name)


def of(connection: sa.Connection) -> Rehearsal | None:
    """The rehearsal that runs on a connection; None where it is in earnest."""
    return connection.get_execution_options().get(OPTION)
