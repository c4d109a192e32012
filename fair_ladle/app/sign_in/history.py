"""What each delegation was and when: who could do what on a past day."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.plumbing.actor import FOR_PEOPLE, Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.sign_in import delegation_store
from fair_ladle.app.sign_in.service import permissions_of, role_name
from fair_ladle.app.sign_in.tables import delegations as table


def remember(tx: Transaction, delegation_ids: Collection[int]) -> None:
    """Keep what these delegations are from now on."""
    found = delegation_store.delegations_by_id(tx.connection, delegation_ids)
    rows = [
        {
            "delegation_id": each.id,
            "since": tx.now,
            "role_name": role_name(each),
            "permissions": ", ".join(sorted(_permissions(tx, each))),
            "first_day": each.first_day,
            "last_day": each.last_day,
            "passes_on": each.passes_on,
        }
        for each in found
    ]
    delegation_store.add_history(tx.connection, rows)


def _permissions(tx: Transaction, delegation: Any) -> frozenset[str]:
    found = permissions_of(tx, delegation)
    return found if delegation.people_of is None else found & FOR_PEOPLE


@dataclass(frozen=True)
class Could:
    """Who could do what in an account at some time of a day."""

    email: str
    name: str
    account: str
    account_name: str
    role_name: str
    permissions: frozenset[str]
    passes_on: bool


def on_day(tx: Transaction, actor: Actor, day: date) -> list[Could]:
    """Who could do what in the actor's branch at some time of a day, in the order of the tree: each delegation as it
    was last on that day."""
    accounts = accounts_service.known(tx)
    inside = accounts_service.in_branch(accounts, accounts_service.top_row(accounts, actor), table.c.account_id)
    begins, ends = (accounts_service.start_of(tx, each) for each in (day, day + timedelta(1)))
    return [
        Could(
            each.email,
            each.name,
            each.code,
            each.account_name,
            each.role_name,
            frozenset(each.permissions.split(", ")) if each.permissions else frozenset(),
            each.passes_on,
        )
        for each in delegation_store.history_on(tx.connection, inside, day, begins, ends)
    ]
