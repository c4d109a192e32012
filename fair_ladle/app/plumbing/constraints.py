"""A constraint of the database that stands against a change, as a refusal: the one place where they are translated."""

from __future__ import annotations

import re
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.plumbing.problems import Refused, conflict, invalid

DUPLICATE, NO_PARENT, STILL_NAMED = 1062, 1452, 1451
TOO_LONG, OUT_OF_RANGE, WRONG_VALUE = 1406, 1264, 1366


def refusal(trouble: Any, metadata: sa.MetaData) -> Refused:
    """409 for a key that is taken or a row that is named elsewhere, 422 for a value that does not fit, with the field.

    Raises what it was given where it is none of these: a bug, not a refusal.
    """
    code, text = (*trouble.orig.args, "", "")[:2]
    if code == DUPLICATE:
        field = _last_column(metadata, _field(text, r"for key '(?:\w+\.)?(\w+)'"))
        return conflict("This exists already, or was added by someone else meanwhile. Reload and check.", where=field)
    if code in (NO_PARENT, STILL_NAMED):
        field = _field(text, r"FOREIGN KEY \(`(\w+)`\)")
        said = "is gone by now" if code == NO_PARENT else "is still in use elsewhere"
        return conflict(f"What {field or 'it'} names {said}; look again.", where=field)
    if code in (TOO_LONG, OUT_OF_RANGE, WRONG_VALUE):
        field = _field(text, r"column '?`?(?:\w+`\.`)*(\w+)`?'? at row")
        said = (
            "is too long"
            if code == TOO_LONG
            else "is out of range"
            if code == OUT_OF_RANGE
            else ("has characters that cannot be kept")
        )
        return invalid(f"{(field or 'A value').replace('_', ' ').capitalize()} {said}.", field or None)
    raise trouble


def _field(text: Any, pattern: str) -> str:
    found = re.search(pattern, str(text))
    return found[1].removesuffix("_id") if found else ""


def _last_column(metadata: sa.MetaData, key: str) -> str:
    """The column that tells rows of a unique key apart, the owner's aside."""
    for table in metadata.tables.values():
        for each in table.constraints:
            if each.name == key and isinstance(each, sa.UniqueConstraint):
                return list(each.columns)[-1].name.removesuffix("_id")
    return ""
