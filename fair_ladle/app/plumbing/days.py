"""Days as requests may name them."""

from __future__ import annotations

from datetime import date
from typing import Annotated

from pydantic import AfterValidator

YEARS = (1970, 2200)


def _within_bounds(day: date) -> date:
    if not YEARS[0] <= day.year <= YEARS[1]:
        raise ValueError(f"a day between {YEARS[0]} and {YEARS[1]}")
    return day


Day = Annotated[date, AfterValidator(_within_bounds)]
"""A day in a request: one that the days around it can be reckoned from, in any time zone."""
