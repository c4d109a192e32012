"""Views of the people list that somebody keeps under a name."""

from __future__ import annotations

from typing import Any

from fair_ladle.app.people_admin import store
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import invalid, not_found


def _who(actor: Actor) -> int:
    if actor.sign_in_id is None:
        raise not_found("view", "of the command line")
    return actor.sign_in_id


def views(tx: Transaction, actor: Actor) -> list[Any]:
    """One's own views, by name."""
    return store.views(tx.connection, _who(actor))


def keep(tx: Transaction, actor: Actor, name: str, query: str) -> None:
    """Keep a view, in the place of one of the same name."""
    if not name.strip():
        raise invalid("A view has a name.", "name")
    store.keep_view(tx.connection, _who(actor), name.strip(), query)


def forget(tx: Transaction, actor: Actor, name: str) -> None:
    """Put a view away."""
    store.forget_view(tx.connection, _who(actor), name)
