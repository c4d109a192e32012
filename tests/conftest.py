"""A real MariaDB of the tests' own, and a fresh database for whoever asks."""

from __future__ import annotations

import getpass
import itertools
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from fair_ladle.app.intake import usecases as intake
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.own_server import OwnServer
from fair_ladle.app.plumbing.schema import migrate
from fair_ladle.connectors.sheets_in import read_source
from fair_ladle.demo.load import STARTS_AT

numbers = itertools.count(1)
INTAKE = Path(__file__).parents[1] / "fair_ladle" / "demo" / "intake"


@pytest.fixture(scope="session")
def server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[OwnServer]:
    own = OwnServer(tmp_path_factory.mktemp("home"))
    own.ensure()
    yield own
    own.stop()


def new_url(own: OwnServer) -> str:
    name = f"test_{next(numbers)}"
    connection = own.connect()
    connection.cursor().execute(f"CREATE DATABASE {name} CHARACTER SET utf8mb4 COLLATE utf8mb4_unicode_ci")
    connection.close()
    return f"mysql+mysqldb://{getpass.getuser()}@/{name}?unix_socket={own.socket}&charset=utf8mb4"


@pytest.fixture(scope="session")
def new_database(server: OwnServer) -> Iterator[Callable[[], Database]]:
    opened: list[Database] = []

    def make() -> Database:
        database = Database(new_url(server))
        migrate(database.engine)
        opened.append(database)
        return database

    yield make
    for database in opened:
        database.engine.dispose()


@pytest.fixture
def database(new_database: Callable[[], Database]) -> Database:
    return new_database()


def load(database: Database, folder: Path = INTAKE) -> Database:
    """Bring an intake in, with the demo's clock."""
    database.clock.set_to(STARTS_AT)
    database.run(intake.bring_in, COMMAND_LINE, read_source(folder))
    return database


@pytest.fixture
def demo(database: Database) -> Database:
    return load(database)


@pytest.fixture(scope="module")
def shared_demo(new_database: Callable[[], Database]) -> Database:
    return load(new_database())


def actor_of(account: str | None) -> Actor:
    return Actor(f"admin of {account}", "", account)
