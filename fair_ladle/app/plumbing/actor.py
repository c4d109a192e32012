"""Who is acting, through which delegation, over which branch."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Actor:
    """``scope`` is the code of the account at the top of the actor's branch; None = the whole installation."""

    name: str
    email: str
    scope: str | None
    sign_in_id: int | None = None
    role: str = "admin"


COMMAND_LINE = Actor("command line", "", None)
"""Whoever may run commands on the machine runs the whole installation."""
