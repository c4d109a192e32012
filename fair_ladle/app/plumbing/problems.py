"""Refusals as values: what is wrong, where, and what would be right (RFC 9457), raised to undo a transaction."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

EMPTY = "empty"
"""The kind of problem that an installation has before its first accounts."""


@dataclass(frozen=True)
class Problem:
    """A refusal. ``kind`` names its type, ``more`` holds members of its own, such as the ladder."""

    kind: str
    title: str
    status: int
    detail: str = ""
    more: dict[str, Any] = field(default_factory=dict)


class Refused(Exception):
    """Carries a Problem out of a use-case; nothing the use-case did is kept. ``about`` names those for whose own sake
    it is, where it is for that, so that the others can be tried without them."""

    about: frozenset[str] = frozenset()

    def __init__(self, problem: Problem, headers: dict[str, str] | None = None):
        super().__init__(problem.detail or problem.title)
        self.problem = problem
        self.headers = headers


class KeptRefusal(Refused):
    """A refusal with which what the use-case did is kept all the same: a try that was counted, say."""


def not_found(what: str, name: str) -> Refused:
    """Also the answer for what is out of scope: it does not exist for the asker."""
    return Refused(Problem("not-found", f"No such {what}", 404, f"There is no {what} {name!r} here."))


def not_allowed(detail: str) -> Refused:
    """The asker sees the thing but may not do this with it."""
    return Refused(Problem("not-allowed", "Not allowed", 403, detail))


def invalid(detail: str, where: str | None = None) -> Refused:
    """Something asked for makes no sense; ``where`` names the field."""
    return Refused(Problem("invalid", "Not valid", 422, detail, {"where": where} if where else {}))


def conflict(detail: str, **more: Any) -> Refused:
    """It was right once, but things have changed or stand against it."""
    return Refused(Problem("conflict", "In conflict with what is there", 409, detail, more))
