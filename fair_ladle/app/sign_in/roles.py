"""Roles: the ready-made ones, and those that accounts compose from what their own has."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.log import service as log_service
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.addresses import name as a_name
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.permissions import PERMISSIONS, ROLES
from fair_ladle.app.plumbing.problems import conflict, invalid, not_allowed, not_found
from fair_ladle.app.sign_in import delegation_store, history
from fair_ladle.app.sign_in.tables import roles as table

MOST_ROLES = 100


@dataclass(frozen=True)
class RoleFacts:
    """A role: ready-made (``id`` None) or composed by an account; ``givable``: it has nothing the asker lacks."""

    key: str
    id: int | None
    name: str
    about: str
    account: str | None
    permissions: frozenset[str]
    givable: bool


def in_sight(tx: Transaction, actor: Actor, accounts: Accounts) -> list[RoleFacts]:
    """The roles that can be given in the actor's branch, and those that only others could."""
    found = [
        RoleFacts(each.key, None, each.name, each.about, None, each.permissions, each.permissions <= actor.permissions)
        for each in ROLES.values()
    ]
    top = accounts_service.top_row(accounts, actor)
    composed = delegation_store.composed_roles(
        tx.connection, accounts_service.in_branch(accounts, top, table.c.account_id)
    )
    permissions = delegation_store.permissions_of(tx.connection, [each.id for each in composed])
    return found + [
        RoleFacts(
            str(each.id),
            each.id,
            each.name,
            "",
            accounts.tree.codes[accounts.row_of_id[each.account_id]],
            permissions[each.id],
            permissions[each.id] <= actor.permissions,
        )
        for each in composed
    ]


def named(tx: Transaction, actor: Actor, accounts: Accounts, said: str) -> RoleFacts:
    """A role of the branch: a ready-made one by its key, a composed one by its number as text."""
    found = next((each for each in in_sight(tx, actor, accounts) if each.key == said), None)
    if found is None:
        raise invalid(f"There is no role {said[:80]!r} here.", "role")
    return found


def put(tx: Transaction, actor: Actor, role_id: int | None, name: str, permissions: Collection[str]) -> int:
    """Compose a role, or change one, from what one's own has; its number. Who has it may do the new from then on."""
    accounts = accounts_service.known(tx)
    account = accounts.tree.codes[accounts_service.top_row(accounts, actor)]
    account_id, name = accounts_service.ids_by_code(tx, [account])[account], a_name(name, "name")
    unknown = sorted(set(permissions) - PERMISSIONS.keys())
    if unknown or not permissions:
        named = unknown[0][:80] if unknown else "nothing"
        raise invalid(f"{named}: name one or more of {', '.join(PERMISSIONS)}.", "permissions")
    lacks = sorted(set(permissions) - actor.permissions)
    if lacks:
        raise not_allowed(f"Your own role does not let you {PERMISSIONS[lacks[0]]}.")
    there = {each.key: each for each in in_sight(tx, actor, accounts) if each.id is not None}
    before = None if role_id is None else there.get(str(role_id))
    if role_id is not None and before is None:
        raise not_found("role", str(role_id))
    if before is not None and not before.givable:
        raise not_allowed("This role has more permissions than yours; a person with at least as many has to change it.")
    if role_id is None and len(there) >= MOST_ROLES:
        raise conflict(f"There are {MOST_ROLES} roles here; take one away first.")
    if any(each.name.lower() == name.lower() and each.id != role_id for each in there.values()):
        raise invalid(f"There is a role {name} already.", "name")
    made = delegation_store.put_role(tx.connection, role_id, account_id, name, permissions)
    if role_id is not None:
        history.remember(tx, delegation_store.with_role(tx.connection, role_id))
    log_service.write(
        tx,
        actor,
        None,
        [
            log_service.Entry(
                "role composed" if before is None else "role changed",
                name,
                account_id,
                None if before is None else {"permissions": ", ".join(sorted(before.permissions))},
                {"permissions": ", ".join(sorted(permissions))},
            )
        ],
    )
    return made


def drop(tx: Transaction, actor: Actor, role_id: int) -> None:
    """Take a composed role away that nobody ever had."""
    accounts = accounts_service.known(tx)
    found = next((each for each in in_sight(tx, actor, accounts) if each.id == role_id), None)
    if found is None:
        raise not_found("role", str(role_id))
    if delegation_store.has_role(tx.connection, role_id):
        raise conflict(
            f"The role {found.name} is or was in use, and the log refers to it. Rename or change it instead."
        )
    delegation_store.drop_role(tx.connection, role_id)
    ids = accounts_service.ids_by_code(tx, [found.account or ""])
    log_service.write(tx, actor, None, [log_service.Entry("role taken away", found.name, ids.get(found.account or ""))])
