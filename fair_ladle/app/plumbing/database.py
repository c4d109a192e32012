"""The database: connections, one transaction a use-case, and retries from its start."""

from __future__ import annotations

import random
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any, TypeVar

import sqlalchemy as sa
from sqlalchemy.dialects import mysql
from sqlalchemy.dialects.mysql import DATETIME

from fair_ladle.app.plumbing.clock import Clock

metadata = sa.MetaData(
    naming_convention={
        "ix": "ix_%(table_name)s_%(column_0_N_name)s",
        "uq": "uq_%(table_name)s_%(column_0_N_name)s",
        "fk": "fk_%(table_name)s_%(column_0_N_name)s",
        "pk": "pk_%(table_name)s",
    }
)

DEADLOCK, LOCK_WAIT, GONE, LOST = 1213, 1205, 2006, 2013
TRIES = 8


class Again(Exception):
    """Something happened meanwhile that the use-case has to see: begin it anew, after some other work, if any,
    in a transaction of its own."""

    def __init__(self, after: Callable[[Transaction], Any] | None = None):
        super().__init__("begin anew")
        self.after = after


Result = TypeVar("Result")


class _Undone(Exception):
    """Carries an answer out of a transaction that is undone."""

    def __init__(self, answer: Any):
        super().__init__("undone")
        self.answer = answer


class Instant(sa.types.TypeDecorator[datetime]):
    """An aware instant, kept as DATETIME(6) in UTC."""

    impl = DATETIME(fsp=6)
    cache_ok = True

    def process_bind_param(self, value: datetime | None, dialect: Any) -> datetime | None:
        """To UTC without zone."""
        return None if value is None else value.astimezone(UTC).replace(tzinfo=None)

    def process_result_value(self, value: datetime | None, dialect: Any) -> datetime | None:
        """Back to an aware instant."""
        return None if value is None else value.replace(tzinfo=UTC)


class Prepared:
    """A statement that is run for every taking: compiled once, then handed to the driver with its parameters.

    Instants go in as they are and come out without zone, in UTC.
    """

    def __init__(self, statement: sa.sql.Executable):
        compiled = statement.compile(dialect=mysql.dialect(paramstyle="format"))  # type: ignore[attr-defined]
        self.sql = str(compiled)
        self.names = tuple(compiled.positiontup or ())

    def run(self, connection: sa.Connection, *rows: dict[str, Any]) -> sa.CursorResult[Any]:
        """Run it for one row of parameters, or for several."""
        values = [tuple(self._value(row[name]) for name in self.names) for row in rows]
        return connection.exec_driver_sql(self.sql, values if len(values) > 1 else values[0])

    @staticmethod
    def _value(value: Any) -> Any:
        return in_utc(value).astimezone(UTC).replace(tzinfo=None) if isinstance(value, datetime) else value


def in_utc(at: datetime) -> datetime:
    """An instant as aware, whether it came with its zone or, from a prepared statement, without."""
    return at if at.tzinfo is not None else at.replace(tzinfo=UTC)


def code_column(name: str, length: int = 64, **options: Any) -> sa.Column[str]:
    """A code or key: compared letter by letter, spaces and all."""
    return sa.Column(name, sa.String(length, collation="utf8mb4_nopad_bin"), **options)


def name_of(table: str, column: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
    """The name of the account or product that a column refers to, to put rows in order by."""
    named = metadata.tables[table]
    return sa.select(named.c.name).where(named.c.id == column).scalar_subquery()


def id_column() -> sa.Column[int]:
    """The number a row goes by."""
    return sa.Column("id", sa.BigInteger, primary_key=True, autoincrement=True)


def money_column(name: str, **options: Any) -> sa.Column[Any]:
    """A price: up to 10 decimals."""
    return sa.Column(name, sa.Numeric(30, 10), **options)


@dataclass(frozen=True)
class Transaction:
    """One use-case's transaction and the instant at which it happens."""

    connection: sa.Connection
    clock: Clock

    @property
    def now(self) -> datetime:
        """The present, read anew each time: after a lock it is later than whoever held it before."""
        return self.clock.now()


class Database:
    """Opened once a process."""

    def __init__(self, url: str, pool_size: int = 20):
        self.engine = sa.create_engine(
            url,
            pool_size=pool_size,
            max_overflow=30,
            pool_pre_ping=False,
            pool_recycle=3600,
            isolation_level="READ COMMITTED",
        )
        self.clock = Clock()

    @contextmanager
    def transaction(self) -> Iterator[Transaction]:
        """Commits at the end, undoes everything on any exception."""
        with self.engine.begin() as connection:
            yield Transaction(connection, self.clock)

    def run(self, usecase: Callable[..., Result], *args: Any, **named: Any) -> Result:
        """A use-case in a transaction of its own, begun again after a deadlock or a lost connection."""
        for attempt in range(TRIES):
            try:
                with self.transaction() as tx:
                    return usecase(tx, *args, **named)
            except Again as again:
                if attempt == TRIES - 1:
                    raise
                if again.after is not None:
                    self.run(again.after)
            except sa.exc.OperationalError as trouble:
                code = trouble.orig.args[0] if trouble.orig and trouble.orig.args else None
                if code not in (DEADLOCK, LOCK_WAIT, GONE, LOST) or attempt == TRIES - 1:
                    raise
                time.sleep(random.uniform(0, 0.01 * 2**attempt))
        raise AssertionError("unreachable")

    def try_out(self, usecase: Callable[..., Result], *args: Any, **named: Any) -> Result:
        """What a use-case would do and answer; nothing of it is kept."""

        def undone(tx: Transaction) -> None:
            raise _Undone(usecase(tx, *args, **named))

        try:
            self.run(undone)
        except _Undone as found:
            return found.answer  # type: ignore[no-any-return]
        raise AssertionError("unreachable")
