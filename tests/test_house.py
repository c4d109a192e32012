"""Every part imports only what it may."""

from __future__ import annotations

from pathlib import Path

from importlinter.application.use_cases import FAILURE, lint_imports
from importlinter.configuration import configure


def test_the_parts_stand_on_one_another_as_they_should() -> None:
    configure()
    assert lint_imports(config_filename=str(Path(__file__).parents[1] / "pyproject.toml")) is not FAILURE
