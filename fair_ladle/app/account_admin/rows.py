"""What rows of account admin have, as the database gives them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any


@dataclass(frozen=True)
class TemplateRecord:
    """A row of ``account_templates``."""

    id: int
    branch_id: int
    name: str
    shape: Any
    made_by: str
    made_at: datetime
