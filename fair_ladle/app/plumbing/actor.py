"""Who is acting, through which delegation, over which branch."""

from __future__ import annotations

from dataclasses import dataclass

from fair_ladle.app.plumbing.limits import FREE, Limits
from fair_ladle.app.plumbing.permissions import EVERYTHING
from fair_ladle.app.plumbing.problems import not_allowed


@dataclass(frozen=True)
class Actor:
    """``scope`` is the code of the account at the top of the actor's branch, ``scope_id`` its number where it is known;
    None = the whole installation.

    ``delegation_id`` is what they act through, which has a role with these permissions and limits; ``key_id`` the key
    with which a program acts through it. ``request_id`` and ``origin`` say which request they make, and from which
    address. ``people_of`` names a group (its account's code, / and its own) whose people, and what they hold, are all
    that the actor sees; no figure of an account. Whoever ``lacks_second_factor`` where one is required may do nothing
    but set it up; whoever ``only_looks`` sees the product as a role of that name has it, and changes nothing.
    """

    name: str
    email: str
    scope: str | None
    sign_in_id: int | None = None
    role: str = "admin"
    permissions: frozenset[str] = EVERYTHING
    delegation_id: int | None = None
    limits: Limits = FREE
    lacks_second_factor: bool = False
    people_of: str | None = None
    scope_id: int | None = None
    key_id: int | None = None
    key_name: str | None = None
    only_looks: str | None = None
    request_id: str | None = None
    origin: str | None = None


COMMAND_LINE = Actor("command line", "", None)
"""Whoever may run commands on the machine runs the whole installation."""


FOR_PEOPLE = frozenset({"accounts.see", "people.see", "people.invite", "seats.give"})
"""What a delegation for the people of a group can be for; of accounts it sees the name of its own."""


def may_change_group(actor: Actor, account: str, code: str) -> None:
    """Refused where the actor's delegation is not for a group, by its account's code and its own."""
    if actor.limits.groups is not None and f"{account}/{code}" not in actor.limits.groups:
        raise not_allowed("Your delegation is not for that group.")


def changes_rules(actor: Actor) -> None:
    """Refused where the actor's delegation is not for changing rules."""
    if not actor.limits.rules:
        raise not_allowed("Your delegation does not let you change rules here.")
