"""Every part imports only what it may, and uses it; every name is known."""

from __future__ import annotations

from pathlib import Path

import pyflakes.api
import pytest
from importlinter.application.use_cases import FAILURE, lint_imports
from importlinter.configuration import configure


def test_the_parts_stand_on_one_another_as_they_should() -> None:
    configure()
    assert lint_imports(config_filename=str(Path(__file__).parents[1] / "pyproject.toml")) is not FAILURE


def test_every_name_is_known_and_every_import_used(capsys: pytest.CaptureFixture[str]) -> None:
    project = Path(__file__).parents[1]
    files = [each for part in ("fair_ladle", "tests", "bench", "scripts") for each in sorted((project / part).rglob("*.py")) if "versions" not in each.parts]
    found = sum(pyflakes.api.checkPath(str(each)) for each in files)
    assert found == 0, capsys.readouterr().out
