"""Every part imports only what it may, and uses it; lint and format hold."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

from importlinter.application.use_cases import FAILURE, lint_imports
from importlinter.configuration import configure

PROJECT = Path(__file__).parents[1]


def test_the_parts_stand_on_one_another_as_they_should() -> None:
    configure()
    assert lint_imports(config_filename=str(PROJECT / "pyproject.toml")) is not FAILURE


def test_types() -> None:
    done = subprocess.run(
        [sys.executable, "-m", "mypy", "fair_ladle"],
        cwd=PROJECT,
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 0, done.stdout[-3000:]


def test_lint_and_format() -> None:
    for arguments in (["check"], ["format", "--check"]):
        done = subprocess.run(
            [sys.executable, "-m", "ruff", *arguments, "."], cwd=PROJECT, capture_output=True, text=True, check=False
        )
        assert done.returncode == 0, done.stdout[-3000:]
