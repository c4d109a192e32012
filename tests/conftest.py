"""A real MariaDB of the tests' own, and a fresh database for whoever asks: a copy of one that is made once.

A database nobody uses any more is made like new for the next: of its tables only those that were written are filled again.
"""

from __future__ import annotations

import getpass
import itertools
import os
import re
import shutil
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import MySQLdb
import pytest
import sqlalchemy as sa
from argon2 import PasswordHasher
from fastapi.testclient import TestClient
from hypothesis import settings

from fair_ladle.app.data_import import usecases as data_import
from fair_ladle.app.log.sealing import ANCHORS
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database, _installations, metadata
from fair_ladle.app.plumbing.own_server import OwnServer
from fair_ladle.app.plumbing.schedule import Job, run_once
from fair_ladle.app.plumbing.schema import migrate
from fair_ladle.app.plumbing.settings import Settings
from fair_ladle.app.plumbing.tables import jobs
from fair_ladle.app.sign_in import usecases as sign_in
from fair_ladle.connectors.sheets_in import read_source
from fair_ladle.demo.load import STARTS_AT
from fair_ladle.main import create_app
from tests import odd_intake, statements

numbers = itertools.count(1)
INTAKE = Path(__file__).parents[1] / "fair_ladle" / "demo" / "intake"
ODD_AT = datetime.fromisoformat("2026-04-20T10:00:00+00:00")
TIMES = int(os.environ.get("FAIR_LADLE_SEARCHES", "1"))
"""How often as much is tried at random as in a check."""
MEMORY, ENOUGH = Path("/dev/shm"), 4 * 2**30
# What takes longer on a machine that is busy is not wrong.
settings.register_profile("check", deadline=None)
settings.load_profile("check")


@pytest.fixture(autouse=True)
def every_lock_names_its_rows() -> Iterator[None]:
    """No statement of any test locks rows that cannot be told from it: see `statements`."""
    statements.violations.clear()
    yield
    assert statements.violations == []


@pytest.fixture(scope="session", autouse=True)
def nothing_is_written_at_home(tmp_path_factory: pytest.TempPathFactory) -> None:
    """Keys, and how far the log of a database of that name was sealed, are no other run's."""
    os.environ["FAIR_LADLE_HOME"] = str(tmp_path_factory.mktemp("own"))


@pytest.fixture(scope="session", autouse=True)
def passwords_are_hashed_quickly() -> None:
    """What a hash costs is the library's to choose; a check signs in a thousand times."""
    sign_in.hasher = PasswordHasher(time_cost=1, memory_cost=1024, parallelism=1)


@contextmanager
def folder_in_memory(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    """A new folder, in memory where there is enough of it; what is in it outlives processes, not the block."""
    if not MEMORY.is_dir() or shutil.disk_usage(MEMORY).free < ENOUGH:
        yield tmp_path_factory.mktemp("home")
        return
    folder = Path(tempfile.mkdtemp(dir=MEMORY))
    try:
        yield folder
    finally:
        shutil.rmtree(folder, ignore_errors=True)


@pytest.fixture(scope="session")
def server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[OwnServer]:
    """In memory where there is enough of it: what is tested does not outlive the run, and a disk only slows it."""
    with folder_in_memory(tmp_path_factory) as home:
        own = OwnServer(home)
        own.ensure()
        connection = own.connect()
        connection.cursor().execute("SET GLOBAL userstat = 1")  # it tells which tables were written
        connection.close()
        yield own
        own.stop()


def new_url(own: OwnServer) -> str:
    name = f"test_{next(numbers)}"
    connection = own.connect()
    connection.cursor().execute(f"CREATE DATABASE {name} CHARACTER SET utf8mb4 COLLATE utf8mb4_unicode_ci")
    connection.close()
    return f"mysql+mysqldb://{getpass.getuser()}@/{name}?unix_socket={own.socket}&charset=utf8mb4"


@dataclass(eq=False)
class Template:
    """A database as it is copied: its name, and each table with what makes it and the columns that are kept in it."""

    own: OwnServer
    name: str
    tables: dict[str, tuple[str, str]]
    used: dict[Database, dict[str, int]] = field(default_factory=dict)
    """Copies that are used, and how many rows of each table had been written before."""
    free: list[tuple[sa.Engine, dict[str, int]]] = field(default_factory=list)
    """Those that are like new; an engine knows statements that it has run once."""

    @staticmethod
    def of(own: OwnServer, database: Database) -> Template:
        name, found = str(database.engine.url.database), {}
        database.engine.dispose()
        with _filling(own, name) as cursor:
            cursor.execute("SHOW TABLES")
            for (table,) in cursor.fetchall():
                cursor.execute(f"SHOW CREATE TABLE {table}")
                made = cursor.fetchone()[1]
                cursor.execute(
                    "SELECT column_name FROM information_schema.columns WHERE table_schema = %s AND "
                    "table_name = %s AND generation_expression IS NULL",
                    (name, table),
                )
                found[table] = (made, ", ".join(f"`{column}`" for (column,) in cursor.fetchall()))
        made_of.append(Template(own, name, found))
        return made_of[-1]

    def copy(self) -> Database:
        for database in self.used:  # the server has 300 connections; whoever still wants one opens it anew
            database.engine.dispose()
        url = new_url(self.own) if not self.free else str(self.free[-1][0].url)
        made = Database(url, settings=replace(Settings.read(), home=self.own.home))
        if self.free:
            made.engine, self.used[made] = self.free.pop()
        else:
            self.used[made] = self._make(str(made.engine.url.database))
        _installations[made.engine] = f"copy {next(numbers)}"  # by which a process keeps what it knows of a database
        return made

    def take_back(self, database: Database) -> None:
        """Make a copy like new for whoever is next."""
        name, written = str(database.engine.url.database), self.used.pop(database)
        database.engine.dispose()
        (self.own.home / ANCHORS).unlink(missing_ok=True)  # of a chain that is gone
        with suppress(MySQLdb.OperationalError), _filling(self.own, name) as cursor:  # unless a test left it locked
            now = _written(cursor, name)
            changed = {table for table in self.tables if now.get(table, 0) != written.get(table, 0)}
            # What goes with a row of another table is not counted.
            changed |= {table for table, (made, _) in self.tables.items() if changed & set(GOES_WITH.findall(made))}
            for table in changed:
                cursor.execute(f"TRUNCATE {table}")
                self._fill(cursor, table)
            cursor.connection.commit()
            self.free.append((database.engine, _written(cursor, name)))

    def _make(self, name: str) -> dict[str, int]:
        with _filling(self.own, name) as cursor:
            for table, (made, _) in self.tables.items():
                cursor.execute(made)
                self._fill(cursor, table)
            return _written(cursor, name)

    def _fill(self, cursor: Any, table: str) -> None:
        columns = self.tables[table][1]
        cursor.execute(f"INSERT INTO {table} ({columns}) SELECT {columns} FROM {self.name}.{table}")


GOES_WITH = re.compile("REFERENCES `([a-z_]+)` [^,]*? ON DELETE (?:CASCADE|SET NULL)")
made_of: list[Template] = []


@contextmanager
def _filling(own: OwnServer, name: str) -> Iterator[Any]:
    connection = own.connect()
    connection.select_db(name)
    cursor = connection.cursor()
    cursor.execute("SET foreign_key_checks = 0, unique_checks = 0, lock_wait_timeout = 2")
    try:
        yield cursor
        connection.commit()
    finally:
        connection.close()


def _written(cursor: Any, name: str) -> dict[str, int]:
    """How many rows of each table were ever written, whoever did it."""
    cursor.execute(
        "SELECT table_name, rows_changed FROM information_schema.table_statistics WHERE table_schema = %s", (name,)
    )
    return dict(cursor.fetchall())


@pytest.fixture(scope="module", autouse=True)
def databases_go_to_the_next() -> Iterator[None]:
    """What a module made it uses to its end."""
    yield
    for template in made_of:
        for database in list(template.used):
            template.take_back(database)


@pytest.fixture(scope="session")
def empty_template(server: OwnServer) -> Template:
    database = Database(new_url(server), settings=replace(Settings.read(), home=server.home))
    migrate(database.engine)
    return Template.of(server, database)


@pytest.fixture(scope="session")
def demo_template(server: OwnServer, empty_template: Template) -> Template:
    database = load(empty_template.copy())
    del empty_template.used[database]
    return Template.of(server, database)


@pytest.fixture(scope="session")
def new_database(empty_template: Template) -> Callable[[], Database]:
    """Makes a database with its tables and nothing in them."""
    return empty_template.copy


@pytest.fixture(scope="session")
def new_demo(demo_template: Template) -> Callable[[], Database]:
    """Makes a database with the demo's intake in it, a moment after it was loaded."""

    def make() -> Database:
        made = demo_template.copy()
        made.clock.set_to(STARTS_AT + timedelta(seconds=20))
        return made

    return make


@pytest.fixture(scope="session")
def new_odd(
    server: OwnServer, empty_template: Template, tmp_path_factory: pytest.TempPathFactory
) -> Callable[[int, int, str], Database]:
    """Makes a database with an odd intake in it: overcommit, true-up, burst, grace, overage, lots that have ended, pools
    below pools, euros and yen."""
    templates: dict[tuple[int, int, str], Template] = {}

    def make(seed: int, accounts: int, shape: str) -> Database:
        asked = seed, accounts, shape
        if asked not in templates:
            loaded = empty_template.copy()
            folder = odd_intake.write(tmp_path_factory.mktemp(shape), *asked, "Europe/Lisbon")
            load(loaded, folder, ODD_AT)
            del empty_template.used[loaded]
            templates[asked] = Template.of(server, loaded)
        made = templates[asked].copy()
        made.clock.set_to(ODD_AT)
        return made

    return make


@pytest.fixture
def database(new_database: Callable[[], Database], empty_template: Template) -> Iterator[Database]:
    made = new_database()
    yield made
    empty_template.take_back(made)


def load(database: Database, folder: Path = INTAKE, at: datetime = STARTS_AT) -> Database:
    """Bring an intake in, as if it were then."""
    database.clock.set_to(at)
    database.run(data_import.load, COMMAND_LINE, read_source(folder))
    return database


@pytest.fixture
def demo(new_demo: Callable[[], Database], demo_template: Template) -> Iterator[Database]:
    made = new_demo()
    yield made
    demo_template.take_back(made)


@pytest.fixture(scope="module")
def shared_demo(new_demo: Callable[[], Database]) -> Database:
    return new_demo()


@pytest.fixture
def app(demo: Database) -> TestClient:
    client = TestClient(create_app(demo), raise_server_exceptions=False)
    client.app.state.database = demo  # type: ignore[attr-defined]
    return client


def do_job(database: Database, job: Job) -> bool:
    """Do a job as if it were due, whoever did it last."""
    with database.engine.begin() as connection:
        connection.execute(sa.delete(jobs).where(jobs.c.name == job.name))
    return run_once(database, job, "a test")


@contextmanager
def everything_locked(database: Database) -> Iterator[None]:
    """Meanwhile somebody else holds every row there is: who waits for none gets by."""
    connection = database.engine.raw_connection()
    cursor = connection.cursor()
    try:
        for table in metadata.tables:
            cursor.execute(f"SELECT COUNT(*) FROM `{table}` FOR UPDATE")
            cursor.fetchall()
        yield
    finally:
        connection.rollback()
        connection.close()


def actor_of(account: str | None) -> Actor:
    return Actor(f"admin of {account}", "", account)
