"""Where this installation keeps its things, read from the environment once."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path

PROJECT = Path(__file__).resolve().parents[3]


@dataclass(frozen=True)
class Settings:
    """``home`` holds the data; ``database_url`` points at another MariaDB, or is None for one of our own."""

    home: Path
    database_url: str | None

    @staticmethod
    def read() -> Settings:
        """From FAIR_LADLE_HOME (``.data`` beside the program if not said) and FAIR_LADLE_DATABASE_URL."""
        home = os.environ.get("FAIR_LADLE_HOME") or PROJECT / ".data"
        return Settings(Path(home).resolve(), os.environ.get("FAIR_LADLE_DATABASE_URL") or None)
