"""The migrations make the tables that the code knows."""

from __future__ import annotations

import re

from alembic import command
from alembic.autogenerate import compare_metadata
from alembic.migration import MigrationContext

from fair_ladle.app.allocations.positions import positions_at
from fair_ladle.app.enforcement.usecases import enforce_all, on_hold
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.own_server import OwnServer
from fair_ladle.app.plumbing.schema import config, metadata, migrate
from fair_ladle.app.pools import usecases as pools
from fair_ladle.app.takings import usecases as takings
from tests.conftest import load, new_url


def test_the_migrations_end_where_the_tables_are(database: Database) -> None:
    assert migrate(database.engine) is False, "nothing left to migrate"
    with database.engine.connect() as connection:
        differences = compare_metadata(MigrationContext.configure(connection, opts={"compare_type": True}), metadata)
    assert [each for each in differences if not re.search("lock_order", str(each))] == []


def test_an_installation_of_the_first_schema_is_brought_up_with_its_data(server: OwnServer) -> None:
    database = Database(new_url(server))
    settings = config()
    with database.engine.begin() as connection:
        settings.attributes["connection"] = connection
        command.upgrade(settings, "0001")
    load(database)

    def figures() -> list[list[int]]:
        with database.transaction() as unit:
            found = positions_at(unit, pools.products(unit), unit.now)
        return [found.settled.load.tolist(), found.settled.held.tolist(), found.headroom.room.tolist()]

    before = figures()
    assert migrate(database.engine) is True
    assert figures() == before and database.run(takings.verify, COMMAND_LINE) == []
    enforce_all(database)
    assert database.run(on_hold, COMMAND_LINE)
    database.engine.dispose()
