"""The commands as a script sees them: figures on standard output, trouble on standard error, and an exit code."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest
import sqlalchemy as sa

from fair_ladle.app.plumbing.database import Again, Database
from fair_ladle.cli import commands

PROJECT = Path(__file__).parents[2]


@pytest.fixture(scope="module")
def run(new_demo, tmp_path_factory: pytest.TempPathFactory):  # type: ignore[no-untyped-def]
    database: Database = new_demo()

    environment = os.environ | {
        "FAIR_LADLE_DATABASE_URL": database.engine.url.render_as_string(hide_password=False),
        "FAIR_LADLE_HOME": str(tmp_path_factory.mktemp("home")),
    }

    def command(*words: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            [sys.executable, "-m", "fair_ladle", *words],
            cwd=PROJECT,
            env=environment,
            capture_output=True,
            text=True,
            check=False,
        )

    command.database, command.environment = database, environment  # type: ignore[attr-defined]
    return command


@pytest.mark.parametrize(
    ("words", "code", "says"),
    [
        (["import", "/nonexistent"], 1, "1 fault; nothing was changed"),
        (["headroom", "NOBODY", "DISPATCH"], 1, "There is no account 'NOBODY' here."),
        (["positions", "--product", "NOTHING", "--csv"], 1, "There is no product 'NOTHING' here."),
        (["statement", "--buyer", "TERN", "--month", "October"], 1, "is no month; write it like 2026-10"),
        (["readings", "--product", "DISPATCH"], 2, "Missing option '--month'"),
        (["serve", "--port", "99999999"], 2, "--port"),
        (["database", "mariadb", "fair_ladle"], 1, "FAIR_LADLE_DATABASE_URL; reach it as you do"),
        (["no-such-command"], 2, "No such command"),
    ],
)
def test_what_cannot_be_exits_otherwise_than_0(  # type: ignore[no-untyped-def]
    run, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str], words: list[str], code: int, says: str
) -> None:
    monkeypatch.setenv("FAIR_LADLE_DATABASE_URL", run.environment["FAIR_LADLE_DATABASE_URL"])
    monkeypatch.setattr(sys, "argv", ["fair-ladle", *words])
    monkeypatch.setattr(commands.signal, "signal", lambda *_: None)  # a pipe that breaks is this process's own
    with pytest.raises(SystemExit) as ended:
        commands.main()
    assert (ended.value.code, says in capsys.readouterr().err) == (code, True)


def test_a_command_of_its_own_process_says_what_cannot_be_in_words(run) -> None:  # type: ignore[no-untyped-def]
    done = run("headroom", "NOBODY", "DISPATCH")
    said = "There is no account 'NOBODY' here."
    assert (done.returncode, said in done.stderr, "Traceback" in done.stderr, done.stdout) == (1, True, False, ""), done


@pytest.mark.parametrize(
    ("trouble", "says"),
    [
        (sa.exc.OperationalError("", None, Exception(1205, "Lock wait timeout")), "is changing the same here"),
        (Again(), "is changing the same here"),
        (sa.exc.OperationalError("", None, Exception(2002, "Can't connect")), "The database does not answer"),
    ],
)
def test_a_database_that_is_held_by_others_is_not_said_to_be_away(
    monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str], trouble: Exception, says: str
) -> None:
    def fails(**_: object) -> None:
        raise trouble

    monkeypatch.setattr(commands, "app", fails)
    monkeypatch.setattr(commands.signal, "signal", lambda *_: None)
    with pytest.raises(SystemExit) as ended:
        commands.main()
    assert (ended.value.code, says in capsys.readouterr().err) == (1, True)


def test_verify_exits_with_1_where_anything_differs(run) -> None:  # type: ignore[no-untyped-def]
    assert run("verify").returncode == 0
    with run.database.engine.begin() as connection:
        connection.execute(sa.text("UPDATE log_entries SET subject = 'another' ORDER BY id LIMIT 1"))
    broken = run("verify", "--csv")
    assert broken.returncode == 1 and '"entry 1 of' in broken.stdout, broken
