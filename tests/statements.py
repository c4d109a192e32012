"""Listens to every statement of a test run: which rows it locks has to be told from it alone."""

from __future__ import annotations

import os
import re
import sys
from typing import Any

import sqlalchemy as sa

INNERMOST = re.compile(r"\([^()]*\)")
HOLDS = re.compile(
    r"(?:^\s*INSERT(?: IGNORE)? INTO|^\s*UPDATE|^\s*DELETE FROM|^\s*REPLACE INTO|\bFROM(?=.*FOR UPDATE))\s+(\S+)", re.S
)
violations: list[str] = []
_explained: set[str] = set()
_heard: list[list[str]] = []


def flat(statement: str) -> str:
    """A statement without what stands in parentheses: subqueries, lists and functions."""
    text = " ".join(statement.split())
    while INNERMOST.search(text):
        text = INNERMOST.sub("", text)
    return text


def faults(statement: str) -> list[str]:
    """What is wrong with a statement by its text: a locking read of several tables or without a condition, and an update
    that joins."""
    text = flat(statement)
    found = []
    if text.upper().endswith(("FOR UPDATE", "FOR UPDATE SKIP LOCKED")):
        tables = re.search(r"\bFROM (.*?)(?: WHERE | ORDER BY | LIMIT | FOR UPDATE)", f"{text} ", re.IGNORECASE)
        if tables is None or "," in tables[1] or " JOIN " in tables[1].upper():
            found.append("a locking read of several tables")
        if " WHERE " not in text.upper():
            found.append("a lock without a key")
    if re.match(r"UPDATE\b", text, re.IGNORECASE):
        before_set = text.upper().split(" SET ")[0]
        if " JOIN " in before_set or "," in before_set:
            found.append("an update that joins")
    return found


def _is_the_products() -> bool:
    """Whether the statement that is about to run is one of the product, and not of a test that harms something."""
    frame = sys._getframe(2)
    while frame.f_back is not None and "sqlalchemy" in frame.f_code.co_filename:
        frame = frame.f_back
    return f"{os.sep}fair_ladle{os.sep}" in frame.f_code.co_filename


def _listen(
    connection: sa.Connection, cursor: Any, statement: str, parameters: Any, context: Any, executemany: bool
) -> None:
    rehearsed = connection.get_execution_options().get("rehearsal")
    for heard in _heard if rehearsed is None else ():
        heard.append(statement)
    if rehearsed is not None:
        named = HOLDS.search(statement)
        if named and named[1].strip("`") not in rehearsed.copied and not named[1].strip("`").startswith("copy_of_"):
            violations.append(f"what is only tried out holds others back: {statement}")
        return
    locks = "FOR UPDATE" in statement or statement.startswith(("UPDATE", "DELETE"))
    if not locks:
        return
    violations.extend(f"{each}: {statement}" for each in faults(statement))
    if "FOR UPDATE" not in statement and not _is_the_products():
        return
    if statement not in _explained and not executemany:
        _explained.add(statement)
        other = cursor.connection.cursor()
        other.execute(f"EXPLAIN {statement}", parameters)
        names = [each[0] for each in other.description]
        for row in other.fetchall():
            plan = dict(zip(names, row, strict=True))
            nothing = plan["table"] is None
            if plan["select_type"] in ("SIMPLE", "PRIMARY") and not nothing and plan["possible_keys"] is None:
                violations.append(f"a lock without a key: {statement}")


sa.event.listen(sa.Engine, "before_cursor_execute", _listen)


class hearing:  # noqa: N801
    """The statements that are run within: ``with hearing() as heard``."""

    def __enter__(self) -> list[str]:
        self._mine: list[str] = []
        _heard.append(self._mine)
        return self._mine

    def __exit__(self, *trouble: object) -> None:
        _heard.remove(self._mine)


def that_hold(heard: list[str]) -> list[str]:
    """Those of these statements that lock or write anything but that a session was used."""
    writes = ("INSERT", "UPDATE", "DELETE", "REPLACE")
    return [
        each
        for each in heard
        if "FOR UPDATE" in each or (each.lstrip().upper().startswith(writes) and "UPDATE sessions" not in each)
    ]
