"""A real MariaDB of the tests' own, and a fresh database for whoever asks: a copy of one that is made once."""

from __future__ import annotations

import getpass
import itertools
import os
import shutil
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from datetime import timedelta
from pathlib import Path

import pytest
import sqlalchemy as sa
from argon2 import PasswordHasher
from fastapi.testclient import TestClient

from fair_ladle.app.data_import import usecases as data_import
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database, metadata
from fair_ladle.app.plumbing.own_server import OwnServer
from fair_ladle.app.plumbing.schedule import Job, run_once
from fair_ladle.app.plumbing.schema import migrate
from fair_ladle.app.plumbing.settings import Settings
from fair_ladle.app.plumbing.tables import jobs
from fair_ladle.app.sign_in import usecases as sign_in
from fair_ladle.connectors.sheets_in import read_source
from fair_ladle.demo.load import STARTS_AT
from fair_ladle.main import create_app
from tests import statements

numbers = itertools.count(1)
INTAKE = Path(__file__).parents[1] / "fair_ladle" / "demo" / "intake"
MEMORY, ENOUGH = Path("/dev/shm"), 4 * 2**30


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
        yield own
        own.stop()


def new_url(own: OwnServer) -> str:
    name = f"test_{next(numbers)}"
    connection = own.connect()
    connection.cursor().execute(f"CREATE DATABASE {name} CHARACTER SET utf8mb4 COLLATE utf8mb4_unicode_ci")
    connection.close()
    return f"mysql+mysqldb://{getpass.getuser()}@/{name}?unix_socket={own.socket}&charset=utf8mb4"


@dataclass(frozen=True)
class Template:
    """A database as it is copied: its name, and each table with what makes it and the columns that are kept in it."""

    name: str
    tables: dict[str, tuple[str, str]]

    @staticmethod
    def of(own: OwnServer, database: Database) -> Template:
        name, connection = str(database.engine.url.database), own.connect()
        cursor, found = connection.cursor(), {}
        cursor.execute(f"SHOW TABLES FROM {name}")
        for (table,) in cursor.fetchall():
            cursor.execute(f"SHOW CREATE TABLE {name}.{table}")
            made = cursor.fetchone()[1]
            cursor.execute(
                "SELECT column_name FROM information_schema.columns WHERE table_schema = %s AND "
                "table_name = %s AND generation_expression IS NULL",
                (name, table),
            )
            found[table] = (made, ", ".join(f"`{column}`" for (column,) in cursor.fetchall()))
        connection.close()
        return Template(name, found)

    def copy(self, own: OwnServer) -> Database:
        database = Database(new_url(own), settings=replace(Settings.read(), home=own.home))
        connection = own.connect()
        connection.select_db(str(database.engine.url.database))
        cursor = connection.cursor()
        cursor.execute("SET foreign_key_checks = 0, unique_checks = 0")
        for table, (made, columns) in self.tables.items():
            cursor.execute(made)
            cursor.execute(f"INSERT INTO {table} ({columns}) SELECT {columns} FROM {self.name}.{table}")
        connection.commit()
        connection.close()
        return database


@pytest.fixture(scope="session")
def empty_template(server: OwnServer) -> Template:
    database = Database(new_url(server), settings=replace(Settings.read(), home=server.home))
    migrate(database.engine)
    database.engine.dispose()
    return Template.of(server, database)


@pytest.fixture(scope="session")
def demo_template(server: OwnServer, empty_template: Template) -> Template:
    database = load(empty_template.copy(server))
    database.engine.dispose()
    return Template.of(server, database)


@pytest.fixture(scope="session")
def new_database(server: OwnServer, empty_template: Template) -> Iterator[Callable[[], Database]]:
    """Makes a database with its tables and nothing in them."""
    opened: list[Database] = []

    def make() -> Database:
        let_go(opened)
        opened.append(empty_template.copy(server))
        return opened[-1]

    yield make
    let_go(opened)


@pytest.fixture(scope="session")
def new_demo(server: OwnServer, demo_template: Template) -> Iterator[Callable[[], Database]]:
    """Makes a database with the demo's intake in it, a moment after it was loaded."""
    opened: list[Database] = []

    def make() -> Database:
        let_go(opened)
        opened.append(demo_template.copy(server))
        opened[-1].clock.set_to(STARTS_AT + timedelta(seconds=20))
        return opened[-1]

    yield make
    let_go(opened)


def let_go(opened: list[Database]) -> None:
    """Close the connections nobody uses: the server has 300, and a session makes hundreds of databases.

    A database that is still wanted (a module's) opens new ones when it is asked the next time.
    """
    for database in opened:
        database.engine.dispose()


@pytest.fixture
def database(new_database: Callable[[], Database]) -> Database:
    return new_database()


def load(database: Database, folder: Path = INTAKE) -> Database:
    """Bring an intake in, with the demo's clock."""
    database.clock.set_to(STARTS_AT)
    database.run(data_import.load, COMMAND_LINE, read_source(folder))
    return database


@pytest.fixture
def demo(new_demo: Callable[[], Database]) -> Database:
    return new_demo()


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
            cursor.execute(f"SELECT 1 FROM `{table}` FOR UPDATE")
            cursor.fetchall()
        yield
    finally:
        connection.rollback()
        connection.close()


def actor_of(account: str | None) -> Actor:
    return Actor(f"admin of {account}", "", account)
