"""What an admin does with devices chosen together: with all of them, or with none."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.assignments import many
from fair_ladle.app.assignments import service as assignments
from fair_ladle.app.assignments.eligibility import Wanted
from fair_ladle.app.devices import store
from fair_ladle.app.devices.rows import DeviceRecord
from fair_ladle.app.log import service as log_service
from fair_ladle.app.people import service as people_service
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import conflict, invalid, not_found
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.usage import service as usage

Ref = tuple[str, str]
"""A device by its product's code and its machine."""
MOST_AT_ONCE = many.MOST_AT_ONCE


@dataclass(frozen=True)
class Chosen:
    """A device of the branch; ``row`` is None where it is only recorded as an assignment."""

    product: Product
    machine: str
    row: DeviceRecord | None
    account_id: int
    in_use: bool

    @property
    def state(self) -> str:
        """active, revoking or revoked."""
        return "active" if self.row is None else str(self.row.state)

    @property
    def reports(self) -> bool:
        """Whether something on it will ask whether it may go on."""
        return self.row is not None and self.row.token_hash is not None


def _chosen(tx: Transaction, actor: Actor, refs: Sequence[Ref]) -> tuple[Accounts, list[Chosen]]:
    """The devices meant; whatever is out of sight does not exist."""
    if not 1 <= len(refs) <= MOST_AT_ONCE:
        raise invalid(f"Between 1 and {MOST_AT_ONCE} devices at once; here are {len(refs)}.", "devices")
    accounts = accounts_service.known(tx)
    products = {each.code: each for each in pools_service.products(tx) if each.measure == "device"}
    known = [(products[product].id, machine) for product, machine in refs if product in products]
    rows = {(row.product_id, row.machine): row for row in store.some(tx.connection, known)}
    there = {
        (row.product_id, row.subject): row
        for row in usage.open_assignments(tx, list(products.values()), [machine for _, machine in known], tx.now)
    }
    found = []
    for product, machine in dict.fromkeys(refs):
        at = (products[product].id, machine) if product in products else None
        row, used = rows.get(at) if at else None, there.get(at) if at else None
        account_id = row.account_id if row is not None else used.account_id if used is not None else None
        if account_id is None or not accounts_service.sees(accounts, actor, account_id):
            raise not_found("device", machine)
        found.append(Chosen(products[product], machine, row, account_id, used is not None))
    return accounts, found


def _set(tx: Transaction, chosen: Sequence[Chosen], values: dict[str, Any]) -> None:
    """The same new values for all; what was only recorded is kept as a device from now on."""
    store.change(tx.connection, [each.row.id for each in chosen if each.row is not None], values)
    store.record(
        tx.connection,
        [
            {
                "account_id": each.account_id,
                "product_id": each.product.id,
                "machine": each.machine,
                "name": each.machine,
                "state": "active",
                "activated_at": tx.now,
                **values,
            }
            for each in chosen
            if each.row is None
        ],
    )


def _log(tx: Transaction, actor: Actor, act: str, chosen: Sequence[Chosen], after: dict[str, Any]) -> None:
    log_service.write(
        tx,
        actor,
        None,
        [
            log_service.Entry(act, each.machine, each.account_id, None, {"product": each.product.code, **after})
            for each in chosen
        ],
    )


def revoke(tx: Transaction, actor: Actor, refs: Sequence[Ref]) -> int:
    """First step: their units are free at once. Second: each is told at its next report. How many are still to be told;
    what reports nothing is revoked at once."""
    accounts, chosen = _chosen(tx, actor, refs)
    for each in chosen:
        if each.state != "active":
            raise conflict(f"{each.machine} is revoked already.")
    used = [
        Wanted(accounts.tree.codes[accounts.row_of_id[each.account_id]], each.product.code, each.machine)
        for each in chosen
        if each.in_use
    ]
    if used:
        assignments.release(tx, actor, used)
    for reports, state in ((True, "revoking"), (False, "revoked")):
        _set(tx, [each for each in chosen if each.reports == reports], {"state": state, "revoked_at": tx.now})
    _log(tx, actor, "revoked", chosen, {})
    return sum(each.reports for each in chosen)


def confirm_revoked(tx: Transaction, actor: Actor, refs: Sequence[Ref]) -> None:
    """Second step by hand: they are gone and will not report any more."""
    _, chosen = _chosen(tx, actor, refs)
    for each in chosen:
        if each.state != "revoking":
            raise conflict(f"{each.machine} is not waiting for confirmation.")
    _set(tx, chosen, {"state": "revoked"})
    _log(tx, actor, "revoking confirmed", chosen, {})


def let_back(tx: Transaction, actor: Actor, refs: Sequence[Ref]) -> None:
    """Revoked devices may be activated again."""
    _, chosen = _chosen(tx, actor, refs)
    for each in chosen:
        if each.state == "active":
            raise conflict(f"{each.machine} is not revoked.")
    store.forget(tx.connection, [each.row.id for each in chosen if each.row is not None])
    _log(tx, actor, "let come back", chosen, {})


def give_to(tx: Transaction, actor: Actor, refs: Sequence[Ref], username: str | None) -> None:
    """Move devices to somebody of their account or below it, or to nobody; their units stay where they are counted."""
    accounts, chosen = _chosen(tx, actor, refs)
    person = people_service.by_username(tx, [username]).get(username) if username else None
    above = (
        []
        if person is None or person.status == "removed"
        else accounts.tree.path_up(accounts.row_of_id[person.account_id])
    )
    for each in chosen:
        if each.state != "active":
            raise conflict(f"{each.machine} is revoked.")
        if username and accounts.row_of_id[each.account_id] not in above:
            raise invalid(
                f"{username} is not a person of "
                f"{accounts.name(accounts.row_of_id[each.account_id])}, which {each.machine} belongs to.",
                "username",
            )
    _set(tx, chosen, {"person_id": person.id if person else None})
    _log(tx, actor, "device given", chosen, {"to": username or "nobody"})
