"""What rows of people import have, as the database gives them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime
from typing import Any


@dataclass(frozen=True)
class ImportSummary:
    """A row of ``people_imports`` without what came."""

    id: int
    sign_in_id: int
    through: str
    by: str
    name: str
    at: datetime
    count: int
    state: str
    total: int
    done: int
    trouble: str | None
    on_day: date | None
    reversed_by: int | None


@dataclass(frozen=True)
class ImportRecord(ImportSummary):
    """A row of ``people_imports``."""

    header: Any
    cells: bytes | None
    how: Any


@dataclass(frozen=True)
class PartRecord:
    """A row of ``people_import_parts``."""

    import_id: int
    number: int
    steps: bytes
    outcome: bytes | None
