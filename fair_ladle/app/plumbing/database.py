"""The database: connections, one transaction a use-case, and retries from its start."""

from __future__ import annotations

import itertools
import json
import random
import time
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager, suppress
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from typing import Any, ClassVar, Protocol, TypeVar
from weakref import WeakKeyDictionary

import sqlalchemy as sa
from sqlalchemy.dialects.mysql import DATETIME

from fair_ladle.app.plumbing import prepared, rehearsal, watch
from fair_ladle.app.plumbing.clock import Clock
from fair_ladle.app.plumbing.constraints import refusal
from fair_ladle.app.plumbing.prepared import Prepared
from fair_ladle.app.plumbing.problems import KeptRefusal
from fair_ladle.app.plumbing.rehearsal import Rehearsal
from fair_ladle.app.plumbing.settings import Settings

metadata = sa.MetaData(
    naming_convention={
        "ix": "ix_%(table_name)s_%(column_0_N_name)s",
        "uq": "uq_%(table_name)s_%(column_0_N_name)s",
        "fk": "fk_%(table_name)s_%(column_0_N_name)s",
        "pk": "pk_%(table_name)s",
    }
)

Result = TypeVar("Result")
Key = TypeVar("Key")


class RowKind(Protocol):
    """A dataclass whose fields name what a row has."""

    __dataclass_fields__: ClassVar[dict[str, Any]]


Kind = TypeVar("Kind", bound=RowKind)

DEADLOCK, NO_SAVEPOINT, LOCK_WAIT = 1213, 1305, 1205
"""After a deadlock inside a savepoint the savepoint is gone too: its rollback says 1305."""
WAITED = {DEADLOCK, NO_SAVEPOINT, LOCK_WAIT}
"""Others were at the same rows: the database is well."""
LOST = {1040, 1047, 1053, 1927, 2002, 2003, 2006, 2013, 2055, 4031}
"""The connection or its server is gone, or not to be had: 1040, it has as many as it takes; 1047, this node of a
cluster is not in it."""
TOO_LONG = 1969
"""A statement took longer than this connection lets one take."""
NOT_COMMITTED = 1180
UNSURE_AT_COMMIT = LOST | {NOT_COMMITTED}
LONGEST_WAIT, LONGEST_OUTAGE, ONE_LOCK_WAIT = 10.0, 15.0, 5
"""Seconds: a request waits for locks, a use-case is begun again after a lost connection, one statement waits for a
lock."""
CONNECT_SECONDS = 2
OF_ONE_INSTANT = Prepared(sa.text("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ, READ ONLY"))
"""Before the first statement of a transaction that only reads."""
LOCKED_AT_ONCE = 1000


class Again(Exception):
    """Something happened meanwhile that the use-case has to see: begin it anew, after some other work, if any,
    in a transaction of its own."""

    def __init__(self, after: Callable[[Transaction], Any] | None = None):
        super().__init__("begin anew")
        self.after = after


class OutcomeUnknown(Exception):
    """The connection was lost during COMMIT: whether the changes were kept is not known."""


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


def code_column(name: str, length: int = 64, **options: Any) -> sa.Column[str]:
    """A code or key: compared letter by letter, spaces and all."""
    return sa.Column(name, sa.String(length, collation="utf8mb4_nopad_bin"), **options)


def insert_row(connection: sa.Connection, table: sa.Table, values: dict[str, Any]) -> int:
    """Write a new row; its number."""
    key = connection.execute(sa.insert(table).values(values)).inserted_primary_key
    assert key is not None
    return int(key[0])


def batched(keys: Collection[Key], at_once: int = 2000) -> Iterator[list[Key]]:
    """Keys in parts of which each is short enough to be named in a statement."""
    every = list(keys)
    return (every[start : start + at_once] for start in range(0, len(every), at_once))


def pairs(values: Iterable[tuple[int, int]]) -> sa.Subquery:
    """Pairs of numbers as rows (``a``, ``b``) that others are looked up by, each by key: pairs in IN are looked up so
    only where they are few, else the whole table is read. For a ``STRAIGHT_JOIN`` from here."""
    return _as_rows(values, "BIGINT")


def listed(values: Iterable[int]) -> sa.Subquery:
    """Numbers as rows (``a``), for the same; a thousand in IN take ten milliseconds to write and to read."""
    asked = sa.text("SELECT a FROM JSON_TABLE(:listed, '$[*]' COLUMNS (a BIGINT PATH '$')) t")
    bound = asked.bindparams(sa.bindparam("listed", json.dumps(list(values)), unique=True))
    return bound.columns(sa.column("a", sa.BigInteger)).subquery("n")


def named_pairs(values: Iterable[tuple[int, str]]) -> sa.Subquery:
    """The same of numbers (``a``) and codes (``b``); both in IN would look up each number with each code."""
    return _as_rows(values, "VARCHAR(200) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin")


def _as_rows(values: Iterable[tuple[int, Any]], kind: str) -> sa.Subquery:
    columns = f"a BIGINT PATH '$[0]', b {kind} PATH '$[1]'"
    asked = sa.text(f"SELECT a, b FROM JSON_TABLE(:pairs, '$[*]' COLUMNS ({columns})) t")
    bound = asked.bindparams(sa.bindparam("pairs", json.dumps(list(values)), unique=True))
    return bound.columns(sa.column("a", sa.BigInteger), sa.column("b")).subquery("k")


def pages(read: Callable[[int, int], Sequence[Result]], at_once: int = 5000) -> Iterator[Result]:
    """Everything of a list that is read by offset and limit."""
    for offset in itertools.count(0, at_once):
        found = read(offset, at_once)
        yield from found
        if len(found) < at_once:
            return


def fetch(
    connection: sa.Connection, statement: sa.Executable, kind: type[Kind], parameters: Mapping[str, Any] | None = None
) -> list[Kind]:
    """All rows of a statement, which has to yield every field of a kind of row (a dataclass)."""
    result = connection.execute(statement, parameters)
    assert kind.__dataclass_fields__.keys() <= set(result.keys()), (kind, *result.keys())
    rows: list[Any] = list(result)
    return rows


def fetch_first(
    connection: sa.Connection, statement: sa.Executable, kind: type[Kind], parameters: Mapping[str, Any] | None = None
) -> Kind | None:
    """The first row of a statement, likewise; None where there is none."""
    result = connection.execute(statement, parameters)
    assert kind.__dataclass_fields__.keys() <= set(result.keys()), (kind, *result.keys())
    row: Any = result.first()
    return row  # type: ignore[no-any-return]


def lock_rows(connection: sa.Connection, table: sa.Table, ids: Collection[int]) -> list[Any]:
    """Rows of a table by id, locked in the order of their ids, and as they are under the lock.

    Locked by a write to ``touched``: what is only locked holds on one server, what is written on a cluster too.
    """
    wanted = sorted(ids)
    rows: list[Any] = []
    rehearsed = rehearsal.of(connection)
    locks = rehearsed is None or table.name in rehearsed.copied
    for start in range(0, len(wanted), LOCKED_AT_ONCE):
        part = wanted[start : start + LOCKED_AT_ONCE]
        touch = sa.text(f"UPDATE {table.name} SET touched = touched + 1 WHERE id IN :ids ORDER BY id")
        if locks:
            connection.execute(touch.bindparams(sa.bindparam("ids", expanding=True)), {"ids": part})
        rows += connection.execute(sa.select(table).where(table.c.id.in_(part)).order_by(table.c.id))
    return rows


def name_of(named: sa.Table, column: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
    """The name of the account or product that a column refers to, to put rows in order by."""
    return sa.select(named.c.name).where(named.c.id == column).scalar_subquery()


def id_column() -> sa.Column[int]:
    """The number a row goes by."""
    return sa.Column("id", sa.BigInteger, primary_key=True, autoincrement=True)


def money_column(name: str, **options: Any) -> sa.Column[Any]:
    """A price: up to 10 decimals."""
    return sa.Column(name, sa.Numeric(30, 10), **options)


_installations: WeakKeyDictionary[sa.Engine, str] = WeakKeyDictionary()
"""The address of an engine's database, which is dear to write out each time."""


@dataclass(frozen=True)
class Transaction:
    """One use-case's transaction and the instant at which it happens."""

    connection: sa.Connection
    clock: Clock
    settings: Settings
    kept: dict[str, Any] | None = field(default=None, compare=False)
    """What was read once and stays the same in here: only where the facts of one instant are seen."""
    handed: dict[tuple[str, str], int] = field(default_factory=dict, compare=False)
    """Units given in here so far, by the pool's owner and product: what one change may give is judged by it."""

    def once(self, name: str, read: Callable[[], Result]) -> Result:
        """Something that is asked for again and again: read once where it stays the same, else each time."""
        if self.kept is None:
            return read()
        if name not in self.kept:
            self.kept[name] = read()
        found: Result = self.kept[name]
        return found

    @property
    def installation(self) -> str:
        """Which database this is, as a key of what is kept in this process."""
        engine = self.connection.engine
        if engine not in _installations:
            _installations[engine] = str(engine.url)
        return _installations[engine]

    @property
    def now(self) -> datetime:
        """The present, read anew each time: after a lock it is later than whoever held it before."""
        return self.clock.now()

    @property
    def is_rehearsal(self) -> bool:
        """Whether this is only tried out: then nothing is told of it, and nobody waits for it."""
        return rehearsal.of(self.connection) is not None

    def rehearse(self, table: sa.Table, where: sa.ColumnElement[bool] | None = None) -> None:
        """Where this is only tried out, go on with a copy of these rows of a table (all, if not said)."""
        found = rehearsal.of(self.connection)
        if found is not None:
            found.copy(self.connection, table, sa.true() if where is None else where)


class Opening:
    """A transaction that begins when it is first asked for."""

    def __init__(self, database: Database, rehearses: bool = False):
        self._database = database
        self._rehearses = rehearses
        self._connection: sa.Connection | None = None
        self._transaction: Transaction | None = None

    def transaction(self) -> Transaction:
        """The transaction, begun now if it was not before."""
        if self._transaction is None:
            self._connection = self._database.engine.connect()
            if self._rehearses:
                self._connection = self._connection.execution_options(**{rehearsal.OPTION: Rehearsal()})
            self._connection.begin()
            self._transaction = Transaction(self._connection, self._database.clock, self._database.settings)
        return self._transaction

    def see(self, usecase: Callable[..., Result], *args: Any, **named: Any) -> Result:
        """A use-case that only reads, in the same transaction; what it keeps is not kept for others."""
        return usecase(replace(self.transaction(), kept={}), *args, **named)

    def send(self) -> None:
        """Send what was to be run later."""
        if self._connection is not None:
            prepared.send(self._connection)

    def commit(self) -> None:
        """Keep what was done, if anything was begun. Of a rehearsal nothing is kept, and its copies end with it."""
        if self._rehearses:
            self.undo()
        elif self._connection is not None:
            transaction = self._connection.get_transaction()
            assert transaction is not None
            transaction.commit()
            self._connection.close()

    def undo(self) -> None:
        """Keep nothing. A connection that cannot be trusted any more does not go back to the pool."""
        if self._connection is not None:
            with suppress(sa.exc.SQLAlchemyError):  # closed all the same: a ROLLBACK can find that a cluster undid it
                if self._rehearses:
                    self._connection.invalidate()  # the copies end with it
                self._connection.close()


@dataclass
class _Tries:
    """What went wrong with a use-case so far, and whether it is begun again."""

    began: float = field(default_factory=time.monotonic)
    lost_since: float | None = None
    lock_waits: int = 0
    others: int = 0

    def again(self, trouble: Exception) -> bool:
        """Whether to begin again after this; waits a moment where somebody else should be let through."""
        code = code_of(trouble)
        now = time.monotonic()
        if code in (DEADLOCK, NO_SAVEPOINT):
            self.others += 1
            time.sleep(random.uniform(0, min(0.3, 0.01 * 2**self.others)))
            return time.monotonic() - self.began < LONGEST_WAIT
        if code == NOT_COMMITTED:
            time.sleep(random.uniform(0.05, 0.25))
            return now - self.began < LONGEST_WAIT
        if code == LOCK_WAIT:
            self.lock_waits += 1
            return self.lock_waits == 1 and now - self.began < LONGEST_WAIT
        if code in LOST:
            self.lost_since = self.lost_since or now
            time.sleep(random.uniform(0.05, 0.25))
            return now - self.lost_since < LONGEST_OUTAGE
        return False


class Database:
    """Opened once a process. ``read_seconds`` is how long a statement may take before its connection is given up."""

    def __init__(
        self, url: str, pool_size: int = 20, read_seconds: int | None = None, settings: Settings | None = None
    ):
        timeouts = {"connect_timeout": CONNECT_SECONDS} | ({"read_timeout": read_seconds} if read_seconds else {})
        options: dict[str, Any] = {
            "max_overflow": 30,  # with it, more than there are threads
            "pool_pre_ping": False,
            "pool_recycle": 3600,
            "pool_reset_on_return": None,  # who opens a transaction ends it: no ROLLBACK after each COMMIT
            "connect_args": timeouts,
        }
        self.engine = sa.create_engine(url, pool_size=pool_size, isolation_level="READ COMMITTED", **options)
        self.clock = Clock()
        self.settings = settings or Settings.read()
        sa.event.listen(self.engine, "connect", lambda connection, record: _set_up(connection, read_seconds))
        watch.count_statements(self.engine)
        prepared.send_in_time(self.engine)

    @contextmanager
    def transaction(self) -> Iterator[Transaction]:
        """Commits at the end, undoes everything on any exception."""
        with self.engine.begin() as connection:
            yield Transaction(connection, self.clock, self.settings)

    def run(self, usecase: Callable[..., Result], *args: Any, **named: Any) -> Result:
        """A use-case in a transaction of its own, begun again after a deadlock or a connection lost before COMMIT.

        Raises OutcomeUnknown where it was lost in COMMIT: what happens once by a key is run by ``happens_once``.
        """
        return self.attempt(lambda opening: usecase(opening.transaction(), *args, **named))

    def attempt(self, work: Callable[[Opening], Result], finds_out: bool = False, rehearses: bool = False) -> Result:
        """Do some work in a transaction that it opens, and keep it; from its start again where that is safe.

        ``finds_out``: begun again, the work sees by itself whether a COMMIT that was lost was kept. ``rehearses``:
        it is only tried out, on copies. Refused with the field where a constraint of the database stands against it.
        """
        tries = _Tries()
        while True:
            opening = Opening(self, rehearses)
            refused: KeptRefusal | None = None
            try:
                try:
                    result = work(opening)
                except KeptRefusal as kept:
                    refused = kept
                if finds_out:
                    opening.commit()
                else:
                    opening.send()
            except Again as again:
                opening.undo()
                watch.begun_again()
                tries.others += 1
                if time.monotonic() - tries.began > LONGEST_WAIT:
                    raise
                if again.after is not None:
                    self.run_repeatable(again.after)  # what is made anew twice is made anew
                continue
            except (sa.exc.OperationalError, sa.exc.InternalError) as trouble:
                opening.undo()
                watch.begun_again()
                if not tries.again(trouble):
                    raise
                continue
            except (sa.exc.IntegrityError, sa.exc.DataError) as trouble:
                opening.undo()
                raise refusal(trouble, metadata) from trouble
            except BaseException:
                opening.undo()
                raise
            try:
                if not finds_out:
                    opening.commit()
            except (sa.exc.OperationalError, sa.exc.InternalError) as trouble:
                opening.undo()
                if code_of(trouble) in UNSURE_AT_COMMIT:
                    raise OutcomeUnknown(str(trouble.orig)) from trouble
                if not tries.again(trouble):
                    raise
                continue
            if refused is not None:
                raise refused
            return result

    def run_repeatable(self, usecase: Callable[..., Result], *args: Any, **named: Any) -> Result:
        """A use-case that may be done twice without harm: of a COMMIT that was lost nobody has to find out."""
        return self.attempt(lambda opening: usecase(opening.transaction(), *args, **named), finds_out=True)

    def snapshot(self, usecase: Callable[..., Result], *args: Any, **named: Any) -> Result:
        """A use-case that only reads: it sees the facts of one instant, whatever is written meanwhile, and holds nobody
        back. Begun again after a connection that was lost."""
        tries = _Tries()
        while True:
            try:
                with self._of_one_instant() as tx:
                    return usecase(tx, *args, **named)
            except sa.exc.OperationalError as trouble:
                if not tries.again(trouble):
                    raise

    @contextmanager
    def _of_one_instant(self) -> Iterator[Transaction]:
        with self.engine.connect() as connection:  # it ends with the connection's use: there is nothing to keep
            OF_ONE_INSTANT.run(connection, {})
            yield Transaction(connection, self.clock, self.settings, {})

    def stream(self, usecase: Callable[..., Iterator[Result]], *args: Any, **named: Any) -> Iterator[Result]:
        """What a use-case that only reads finds bit by bit, all of one instant, however long whoever asks takes. It is
        begun when the first bit is asked for; what is lost on the way is not begun again."""
        with self._of_one_instant() as tx:
            yield from usecase(tx, *args, **named)

    def try_out(self, usecase: Callable[..., Result], *args: Any, **named: Any) -> Result:
        """What a use-case would do and answer; nothing of it is kept, and nothing that others use is locked: it
        works on copies of what it says it touches (``Transaction.rehearse``)."""

        def undone(opening: Opening) -> None:
            raise _Undone(usecase(opening.transaction(), *args, **named))

        try:
            self.attempt(undone, rehearses=True)
        except _Undone as found:
            return found.answer  # type: ignore[no-any-return]
        raise AssertionError("unreachable")


class AskedDatabase(Database):
    """The database as one request has it: who asks is found out in the same snapshot that the answer is read from."""

    def __init__(self, database: Database):
        self.__dict__ |= database.__dict__
        self._begun: tuple[ExitStack, Transaction] | None = None

    def begin_snapshot(self, usecase: Callable[..., Result], *args: Any, **named: Any) -> Result:
        """As ``snapshot`` does, which then goes on with the facts of the same instant, once."""
        tries = _Tries()
        while True:
            stack = ExitStack()
            try:
                tx = stack.enter_context(self._of_one_instant())
                result = usecase(tx, *args, **named)
            except BaseException as trouble:
                stack.close()
                if not isinstance(trouble, sa.exc.OperationalError) or not tries.again(trouble):
                    raise
                continue
            self._begun = stack, tx
            return result

    def snapshot(self, usecase: Callable[..., Result], *args: Any, **named: Any) -> Result:
        """A use-case that only reads, in the snapshot that is begun, if it was not used yet."""
        if self._begun is None:
            return super().snapshot(usecase, *args, **named)
        (stack, tx), self._begun = self._begun, None
        try:
            with stack:
                return usecase(tx, *args, **named)
        except sa.exc.OperationalError as trouble:
            if not _Tries().again(trouble):
                raise
        return super().snapshot(usecase, *args, **named)

    def attempt(self, work: Callable[[Opening], Result], finds_out: bool = False, rehearses: bool = False) -> Result:
        """As ``Database`` has it; a thread does not hold a connection while it waits for another one."""
        self.end_snapshot()
        return super().attempt(work, finds_out, rehearses)

    def stream(self, usecase: Callable[..., Iterator[Result]], *args: Any, **named: Any) -> Iterator[Result]:
        """As ``Database`` has it; it takes its own time and begins anew."""
        self.end_snapshot()
        return super().stream(usecase, *args, **named)

    def end_snapshot(self) -> None:
        """Give up the snapshot that is begun, if any."""
        if self._begun is not None:
            (stack, _), self._begun = self._begun, None
            stack.close()


def code_of(trouble: Exception) -> int | None:
    """The server's or the driver's number of an error; a deadlock that surfaces as a lost savepoint counts as one."""
    orig = getattr(trouble, "orig", None)
    code = orig.args[0] if orig is not None and orig.args else None
    return code if isinstance(code, int) else None


def _set_up(connection: Any, read_seconds: int | None) -> None:
    cursor = connection.cursor()
    if read_seconds is not None:  # what nobody waits for any more is given up by the server, too
        cursor.execute(f"SET SESSION max_statement_time = {read_seconds - 1}")
    cursor.execute(f"SET SESSION innodb_lock_wait_timeout = {ONE_LOCK_WAIT}")
    cursor.execute("SHOW VARIABLES LIKE 'wsrep_on'")
    if ("wsrep_on", "ON") in cursor.fetchall():  # a node of a cluster: read what others have committed, too
        cursor.execute("SET SESSION wsrep_sync_wait = @@wsrep_sync_wait | 1")
    cursor.close()
