"""Who is acting, through which delegation, over which branch."""

from __future__ import annotations

from dataclasses import dataclass

from fair_ladle.app.plumbing.permissions import EVERYTHING


@dataclass(frozen=True)
class Actor:
    """``scope`` is the code of the account at the top of the actor's branch; None = the whole installation.
    ``delegation_id`` is what they act through, which has a role with these permissions."""

    name: str
    email: str
    scope: str | None
    sign_in_id: int | None = None
    role: str = "admin"
    permissions: frozenset[str] = EVERYTHING
    delegation_id: int | None = None


COMMAND_LINE = Actor("command line", "", None)
"""Whoever may run commands on the machine runs the whole installation."""
