"""The migrations make the tables that the code knows."""

from __future__ import annotations

import itertools
import random
import re
from collections.abc import Iterator
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
import sqlalchemy as sa
from alembic import command
from alembic.autogenerate import compare_metadata
from alembic.migration import MigrationContext

from fair_ladle.app.allocations.positions import positions_at
from fair_ladle.app.assignments import usecases as assignments
from fair_ladle.app.enforcement.enforcing import enforce_all
from fair_ladle.app.enforcement.usecases import on_hold
from fair_ladle.app.people import store as people_store
from fair_ladle.app.plumbing import installation, migrating
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.own_server import OwnServer
from fair_ladle.app.plumbing.schema import config, metadata, migrate
from fair_ladle.app.plumbing.settings import Settings
from fair_ladle.app.plumbing.tables import schema_change
from fair_ladle.app.pools import service as pools
from tests.conftest import new_url


def test_the_migrations_end_where_the_tables_are(database: Database) -> None:
    assert migrate(database.engine) is False, "nothing left to migrate"
    the_same_tables(database)


def the_same_tables(database: Database) -> None:
    """What is there is what the code knows."""
    with database.engine.connect() as connection:
        differences = compare_metadata(MigrationContext.configure(connection, opts={"compare_type": True}), metadata)
    assert [each for each in differences if not re.search("lock_order", str(each))] == []


LISTS = {
    "groups.members": "(SELECT IFNULL(GROUP_CONCAT(member ORDER BY place SEPARATOR ';'), '') "
    "FROM {new}.group_members WHERE group_id = t.id)",
    "products.requires": "(SELECT IFNULL(GROUP_CONCAT(p.code ORDER BY place SEPARATOR ';'), '') "
    "FROM {new}.product_bases b JOIN {new}.products p ON p.id = b.base_id WHERE b.product_id = t.id)",
    "products.components": "(SELECT IFNULL(GROUP_CONCAT(component, IF(mandatory, '!', '') ORDER BY place "
    "SEPARATOR ';'), '') FROM {new}.product_components WHERE product_id = t.id)",
}
"""What once was a column with a list, from the tables it has become."""


def test_an_installation_of_the_first_schema_is_brought_up_with_its_data(
    server: OwnServer, shared_demo: Database
) -> None:
    database = Database(new_url(server))
    settings = config()
    with database.engine.begin() as connection:
        settings.attributes["connection"] = connection
        command.upgrade(settings, "0001")
    database.clock.shift = shared_demo.clock.shift
    with database.engine.begin() as connection:
        newest = sa.inspect(shared_demo.engine)
        connection.execute(sa.text("SET foreign_key_checks = 0"))
        there = set(newest.get_table_names()) - {"alembic_version", "failed_tries"}
        for table in there & set(sa.inspect(database.engine).get_table_names()):
            known = {each["name"] for each in newest.get_columns(table)}
            new = shared_demo.engine.url.database
            came = {
                f"`{name}`": LISTS[f"{table}.{name}"].format(new=new) if f"{table}.{name}" in LISTS else f"`{name}`"
                for each in sa.inspect(database.engine).get_columns(table)
                if (name := each["name"]) in known or f"{table}.{name}" in LISTS
            }
            connection.execute(
                sa.text(
                    f"INSERT INTO `{table}` ({', '.join(came)}) SELECT {', '.join(came.values())} FROM {new}.`{table}` t"
                )
            )
        connection.execute(sa.text("SET foreign_key_checks = 1"))

    def figures(of: Database) -> list[Any]:
        with of.transaction() as tx:
            found = positions_at(tx, pools.products(tx), shared_demo.clock.now())
            products = [replace(each, tax_class=None) for each in pools.products(tx)]  # came later
            lists = products, people_store.members_of(tx.connection)
        return [found.settled.load.tolist(), found.settled.held.tolist(), found.headroom.room.tolist(), *lists]

    assert migrate(database.engine) is True
    with database.transaction() as tx:  # caps that follow seats came later
        same = f"(SELECT %s FROM {shared_demo.engine.url.database}.allocations t WHERE t.id = allocations.id)"
        per, each = same % "t.per_id", same % "t.each"
        tx.connection.execute(sa.text(f"UPDATE allocations SET per_id = {per}, `each` = {each} WHERE id > 0"))
        pools.mark_stale(tx)
    assert figures(database) == figures(shared_demo) and database.run(assignments.verify, COMMAND_LINE) == []
    enforce_all(database)
    assert database.run(on_hold, COMMAND_LINE)
    database.engine.dispose()


@pytest.mark.parametrize("seed", range(2))
def test_a_first_start_that_is_killed_goes_on_from_there(server: OwnServer, seed: int) -> None:
    """Killed after a statement, before or after that is remembered; nine times, then once more to the end."""
    chance = random.Random(seed)
    database = Database(new_url(server))
    write = migrating._Steps._write
    for left in (chance.randrange(1, 60) for _ in range(9)):
        after, countdown = chance.random() < 0.5, itertools.count(left, -1)

        def killed(
            self: Any, cursor: Any, done: str, after: bool = after, countdown: Iterator[int] = countdown
        ) -> None:
            last = next(countdown) <= 0
            if after or not last:
                write(self, cursor, done)
            if last:
                raise KeyboardInterrupt

        with pytest.MonkeyPatch.context() as patched, pytest.raises(KeyboardInterrupt):
            patched.setattr(migrating._Steps, "_write", killed)
            migrate(database.engine)
    assert migrate(database.engine) is True
    the_same_tables(database)


def test_who_migrates_is_known_to_all_nodes_of_a_cluster(server: OwnServer, monkeypatch: pytest.MonkeyPatch) -> None:
    database = Database(new_url(server))
    now = datetime.now(UTC)
    with database.engine.begin() as connection:
        connection.execute(sa.schema.CreateTable(schema_change))
        row = {"id": 1, "node": "another", "until": now + timedelta(hours=1), "done": ""}
        connection.execute(sa.insert(schema_change).values(row))
    monkeypatch.setattr(migrating, "LOOKS_EVERY", 0.01)
    with monkeypatch.context() as patched:
        patched.setattr(migrating, "LONGEST_WAIT", 0.2)
        with pytest.raises(TimeoutError):
            migrate(database.engine)
    with database.engine.begin() as connection:
        connection.execute(sa.update(schema_change).values(until=now - timedelta(seconds=1)))
    assert migrate(database.engine) is True, "a node that has done nothing for long is not waited for"


def test_bringing_a_large_database_up_to_date_may_take_long(
    server: OwnServer, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A server gives up what takes long, but for that."""
    limits: list[float] = []

    def changes(engine: sa.Engine) -> None:
        with engine.connect() as connection:
            limits.append(float(connection.scalar(sa.text("SELECT @@max_statement_time")) or 0))
        migrate(engine)

    monkeypatch.setattr(installation, "migrate", changes)
    opened = installation.open_database(Settings(tmp_path, new_url(server)), serves=True)
    with opened.engine.connect() as connection:
        limits.append(float(connection.scalar(sa.text("SELECT @@max_statement_time")) or 0))
    assert limits == [0, installation.READ_SECONDS - 1]


def test_a_server_keeps_its_temporary_tables_to_itself(server: OwnServer) -> None:
    """One that starts clears its folder away: in a shared one, tables that another is just making go with it."""
    connection = server.connect()
    cursor = connection.cursor()
    cursor.execute("SELECT @@tmpdir")
    assert cursor.fetchone()[0] == str(server.temporary())
    connection.close()
