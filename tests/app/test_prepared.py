"""Prepared statements, and what is run later: it comes before whatever else is asked, or is undone with the rest."""

from __future__ import annotations

from datetime import UTC, datetime

import MySQLdb
import pytest
import sqlalchemy as sa
from MySQLdb.connections import Connection

from fair_ladle.app.plumbing.database import Database, Transaction
from fair_ladle.app.plumbing.once import KeyedDatabase, RequestKey, happens_once
from fair_ladle.app.plumbing.prepared import Prepared, Question, ask
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.plumbing.tables import request_keys as keys
from tests.statements import hearing

AT = datetime(2026, 11, 30, 8, 15, tzinfo=UTC)
ADD = Prepared(
    sa.insert(keys).values({name: sa.bindparam(name) for name in ("whose", "key", "fingerprint", "attempt", "at")})
)
MINE = Prepared(sa.select(keys.c.key, keys.c.at).where(keys.c.whose == sa.bindparam("whose"), keys.c.attempt == "one"))


def row(key: str) -> dict[str, object]:
    return {"whose": "100%; o'them", "key": key, "fingerprint": "f", "attempt": "one", "at": AT}


def there(database: Database) -> list[str]:
    with database.transaction() as tx:
        return sorted(tx.connection.scalars(sa.select(keys.c.key)))


def test_columns_come_out_as_they_say_and_one_statement_writes_several_rows(database: Database) -> None:
    with database.transaction() as tx, hearing() as heard:
        ADD.run(tx.connection, row("a"), row("b"))
        assert MINE.run(tx.connection, row("")) == [("a", AT), ("b", AT)]
    assert len(heard) == 2
    with pytest.raises(sa.exc.IntegrityError), database.transaction() as tx:
        ADD.run(tx.connection, row("a"))


@pytest.mark.parametrize("asks", ["prepared", "otherwise", "commit"])
def test_what_is_run_later_comes_before_what_is_asked_next(database: Database, asks: str) -> None:
    with hearing() as heard, database.transaction() as tx:
        for key in "ab":
            ADD.run_later(tx.connection, row(key))
        assert heard == []
        if asks == "prepared":
            assert [each.key for each in MINE.run(tx.connection, row(""))] == ["a", "b"]
        elif asks == "otherwise":
            assert tx.connection.scalar(sa.select(sa.func.count()).select_from(keys)) == 2
    assert there(database) == ["a", "b"] and len(heard) == (2 if asks == "commit" else 3)


def test_what_is_run_later_is_undone_with_its_savepoint_and_its_transaction(database: Database) -> None:
    with database.transaction() as tx:
        ADD.run_later(tx.connection, row("kept"))
        with pytest.raises(ValueError, match="undone"), tx.connection.begin_nested():
            ADD.run_later(tx.connection, row("undone"))
            raise ValueError("undone")
    with pytest.raises(ValueError, match="all of it"), database.transaction() as tx:
        ADD.run_later(tx.connection, row("undone"))
        raise ValueError("all of it")
    assert there(database) == ["kept"]


def test_a_use_case_whose_last_statement_cannot_be_sent_is_undone_or_begun_again(database: Database) -> None:
    tried = []

    def twice_the_same(tx: Transaction) -> None:
        for key in "aba":
            ADD.run_later(tx.connection, row(key))

    def over_a_lost_connection(tx: Transaction) -> None:
        tried.append(tx.connection.scalar(sa.text("SELECT CONNECTION_ID()")))
        ADD.run_later(tx.connection, row("c"))
        if len(tried) == 1:
            with database.engine.connect() as other:
                other.exec_driver_sql(f"KILL {tried[0]}")

    with pytest.raises(Refused):
        database.run(twice_the_same)
    assert there(database) == []
    database.run(over_a_lost_connection)
    assert there(database) == ["c"] and len(set(tried)) == 2


def test_several_questions_are_one_message_in_their_order(database: Database, monkeypatch: pytest.MonkeyPatch) -> None:
    sent = messages(monkeypatch)
    mine = Question([(MINE, row(""))], lambda rows: [each.key for each in rows])
    with database.transaction() as tx:
        ADD.run_later(tx.connection, row("a"))
        assert ask(tx.connection, mine, Question([(MINE, {"whose": "nobody"})], len)) == [["a"], 0]
    with pytest.raises(sa.exc.IntegrityError), database.transaction() as tx:
        ADD.run_later(tx.connection, row("b"))
        ADD.run_later(tx.connection, row("a"))
        ask(tx.connection, mine, mine)
    assert there(database) == ["a"]
    assert [each.count("EXECUTE") for each in sent if "o\\'them" in each] == [3, 4]


def test_what_comes_again_is_prepared_once_a_connection_as_far_as_the_server_does(
    database: Database, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A server that prepares no more runs all the same what was to be prepared, and what comes after it."""
    sent = messages(monkeypatch)
    most = sa.text("SET GLOBAL max_prepared_stmt_count = :most")

    def write(key: str) -> None:
        with database.transaction() as tx:
            for each in (key, f"{key}{key}"):
                ADD.run_later(tx.connection, row(each))
            MINE.run(tx.connection, row(""))

    for key in "ab":
        write(key)
    assert "".join(sent).count("PREPARE") == 2
    with database.engine.begin() as connection:
        connection.execute(most, {"most": 0})
    try:
        database.engine.dispose()
        for key in "cd":
            write(key)
    finally:
        with database.engine.begin() as connection:
            connection.execute(most, {"most": 16382})
    assert there(database) == sorted(key * times for key in "abcd" for times in (1, 2))


@pytest.mark.parametrize("kept", [True, False])
def test_a_connection_lost_in_the_message_that_commits_is_found_out(
    database: Database, monkeypatch: pytest.MonkeyPatch, kept: bool
) -> None:
    done, asked = [], RequestKey("s1", "lost", "f")
    messages(monkeypatch, lose_once="; COMMIT", kept=kept)

    def work(db: KeyedDatabase) -> str:
        done.append(db.transaction())
        ADD.run_later(done[-1].connection, row("written"))
        return "done"

    assert happens_once(database, lambda opening: asked, work, str) == "done"
    assert there(database) == ["lost", "written"] and len(done) == 2


def messages(monkeypatch: pytest.MonkeyPatch, lose_once: str | None = None, kept: bool = False) -> list[str]:
    """What goes to the server from now on; the first message that ends so loses its connection, when it was done or
    before."""
    sent: list[str] = []
    real = Connection.query

    def query(self: Connection, sql: bytes) -> None:
        sent.append(sql.decode(errors="replace"))
        loses = lose_once is not None and [each.endswith(lose_once) for each in sent].count(True) == 1
        if not loses or not sent[-1].endswith(str(lose_once)):
            return real(self, sql)
        if kept:
            real(self, sql)
            while self.next_result() == 0:
                pass
        self.close()
        raise MySQLdb.OperationalError(2013, "Lost connection to server during query")

    monkeypatch.setattr(Connection, "query", query)
    return sent
