"""The commands as a script sees them: figures on standard output, trouble on standard error, and an exit code."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest
import sqlalchemy as sa

from fair_ladle.app.plumbing.database import Database

PROJECT = Path(__file__).parents[2]


@pytest.fixture(scope="module")
def run(new_demo, tmp_path_factory: pytest.TempPathFactory):  # type: ignore[no-untyped-def]
    database: Database = new_demo()

    def command(*words: str) -> subprocess.CompletedProcess[str]:
        environment = os.environ | {
            "FAIR_LADLE_DATABASE_URL": database.engine.url.render_as_string(hide_password=False),
            "FAIR_LADLE_HOME": str(tmp_path_factory.mktemp("home")),
        }
        return subprocess.run(
            [sys.executable, "-m", "fair_ladle", *words],
            cwd=PROJECT,
            env=environment,
            capture_output=True,
            text=True,
            check=False,
        )

    command.database = database  # type: ignore[attr-defined]
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
def test_what_cannot_be_exits_otherwise_than_0(run, words: list[str], code: int, says: str) -> None:  # type: ignore[no-untyped-def]
    done = run(*words)
    assert (done.returncode, says in done.stderr, "Traceback" in done.stderr) == (code, True, False), done


def test_verify_exits_with_1_where_anything_differs(run) -> None:  # type: ignore[no-untyped-def]
    assert run("verify").returncode == 0
    with run.database.engine.begin() as connection:
        connection.execute(sa.text("UPDATE log_entries SET subject = 'another' ORDER BY id LIMIT 1"))
    broken = run("verify", "--csv")
    assert broken.returncode == 1 and '"entry 1 of' in broken.stdout, broken
