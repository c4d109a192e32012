"""A MariaDB of the bench's own, with databases that go when it does."""

from __future__ import annotations

import getpass
import itertools
import os
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.own_server import OwnServer
from fair_ladle.app.plumbing.schema import migrate

numbers = itertools.count(1)


@contextmanager
def server() -> Iterator[OwnServer]:
    """A server that is stopped and removed at the end; its folder is the home of whatever opens its databases."""
    with tempfile.TemporaryDirectory() as folder:
        os.environ["FAIR_LADLE_HOME"] = folder
        own = OwnServer(Path(folder))
        own.ensure()
        try:
            yield own
        finally:
            own.stop()


def new_database(own: OwnServer) -> Database:
    """A migrated, empty database."""
    name = f"bench_{next(numbers)}"
    connection = own.connect()
    connection.cursor().execute(f"CREATE DATABASE {name} CHARACTER SET utf8mb4 COLLATE utf8mb4_unicode_ci")
    connection.close()
    database = Database(f"mysql+mysqldb://{getpass.getuser()}@/{name}?unix_socket={own.socket}&charset=utf8mb4")
    migrate(database.engine)
    return database
