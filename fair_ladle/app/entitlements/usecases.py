"""What layers give: changing it, laying it out over everybody, and the queue for seats."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

import sqlalchemy as sa

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.assignments import service as assignments
from fair_ladle.app.entitlements import store
from fair_ladle.app.entitlements.layers import ComponentBar, Entitlement, Layers
from fair_ladle.app.entitlements.reconciling import ReconcileResult, reconcile
from fair_ladle.app.log import service as log_service
from fair_ladle.app.people.groups import PRESENT, Group, in_branch
from fair_ladle.app.plumbing.actor import Actor, may_change_group
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import conflict, invalid, not_found
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product


@dataclass(frozen=True)
class EntitlementTerms:
    """What a layer shall give; ``group`` None = everybody of the account's branch. ``on`` names the components that are
    on; none named = all."""

    account: str
    group: str | None
    product: str
    on: tuple[str, ...]
    priority: int = 100


def entitlements(tx: Transaction, actor: Actor) -> list[tuple[str, str, Entitlement]]:
    """What the layers of the branch give: account's code and name, and what."""
    accounts = accounts_service.known(tx)
    top = accounts_service.top_row(accounts, actor)
    layers = Layers(tx, accounts)
    return [
        (accounts.tree.codes[layers.row(each)], accounts.name(layers.row(each)), each)
        for each in layers.every
        if accounts.tree.is_inside(layers.row(each), top)
    ]


def seat_products(tx: Transaction, actor: Actor) -> list[Product]:
    """The products that people have seats of."""
    accounts_service.top_row(accounts_service.known(tx), actor)
    return [each for each in pools_service.products(tx) if each.measure == "seat"]


def put(tx: Transaction, actor: Actor, wanted: EntitlementTerms) -> ReconcileResult:
    """Let a layer give a product, or give it otherwise; seats follow at once."""
    accounts = accounts_service.known(tx)
    layers, there, group, product = _find(tx, actor, accounts, wanted)
    unknown = [code for code in wanted.on if code not in product.components]
    if unknown:
        raise invalid(
            f"{product.name} has no component {unknown[0]}; it has {', '.join(product.components) or 'none'}.",
            "components",
        )
    if product.measure != "seat":
        raise invalid(f"{product.name} is no product that people have seats of.", "product")
    assignments.may_give(actor, product)
    if group is not None:
        may_change_group(actor, accounts.tree.codes[accounts.row_of_id[group.account_id]], group.code)
    if not 1 <= wanted.priority <= 1000:
        raise invalid("A priority from 1 (first) to 1000.", "priority")
    on = [code for code in product.components if wanted.on and (code in wanted.on or code in product.mandatory)]
    row = accounts.tree.row(wanted.account)
    store.put(
        tx.connection,
        there.id if there else None,
        {
            "account_id": int(accounts.ids[row]),
            "group_id": group.id if group else None,
            "product_id": product.id,
            "components": on,
            "priority": wanted.priority,
        },
    )
    to = group.name if group else "everybody"
    log_service.write(
        tx,
        actor,
        None,
        [
            log_service.Entry(
                "layer changed" if there else "layer made",
                product.code,
                int(accounts.ids[row]),
                {"to": to, "components": ", ".join(there.names) or "all", "priority": there.priority}
                if there
                else None,
                {"to": to, "components": ", ".join(on) or "all", "priority": wanted.priority},
            )
        ],
    )
    result = reconcile(tx, [product])
    assignments.judge_layers(tx, actor, result.granted)
    return result


def forget(tx: Transaction, actor: Actor, wanted: EntitlementTerms) -> ReconcileResult:
    """Let a layer give a product no more; seats that only it gave are taken back."""
    accounts = accounts_service.known(tx)
    _, there, group, product = _find(tx, actor, accounts, wanted)
    if there is None:
        raise not_found("entitlement to", wanted.product)
    store.forget(tx.connection, there.id)
    log_service.write(
        tx,
        actor,
        None,
        [
            log_service.Entry(
                "layer taken away", product.code, there.account_id, {"to": group.name if group else "everybody"}
            )
        ],
    )
    return reconcile(tx, [product])


def bars(tx: Transaction, actor: Actor) -> list[tuple[str, ComponentBar]]:
    """The components that accounts and groups of the branch bar, with the account's code."""
    accounts = accounts_service.known(tx)
    top = accounts_service.top_row(accounts, actor)
    layers = Layers(tx, accounts)
    return [
        (accounts.tree.codes[layers.row(each)], each)
        for each in layers.bars
        if accounts.tree.is_inside(layers.row(each), top)
    ]


def bar(
    tx: Transaction, actor: Actor, account: str, group: str | None, product: str, component: str, barred: bool
) -> None:
    """Bar a component for an account's branch or for one of its groups, or no longer; a mandatory one is refused."""
    accounts = accounts_service.known(tx)
    layers, _, found, of = _find(tx, actor, accounts, EntitlementTerms(account, group, product, ()))
    if component not in of.components:
        raise invalid(f"{of.name} has no component {component}.", "component")
    if component in of.mandatory:
        raise conflict(f"{component} is always on in {of.name}; it cannot be barred.")
    account_id = int(accounts.ids[accounts.tree.row(account)])
    there = [
        each
        for each in layers.bars
        if (each.account_id, each.group, each.product.id, each.component) == (account_id, found, of.id, component)
    ]
    if bool(there) == barred:
        return
    if barred:
        values = {"account_id": account_id, "group_id": found.id if found else None, "product_id": of.id}
        store.add_bar(tx.connection, values | {"component": component})
    for each in there:
        store.forget_bar(tx.connection, each.id)
    log_service.write(
        tx,
        actor,
        None,
        [
            log_service.Entry(
                "component barred" if barred else "component allowed again",
                of.code,
                account_id,
                None,
                {"component": component, "for": found.name if found else "everybody"},
            )
        ],
    )


def _find(
    tx: Transaction, actor: Actor, accounts: Accounts, wanted: EntitlementTerms
) -> tuple[Layers, Entitlement | None, Group | None, Product]:
    row = accounts_service.row_in_scope(accounts, actor, wanted.account)
    store.lock_reconciling(tx)
    store.rehearse_entitlements(tx)
    layers, account_id = Layers(tx, accounts), int(accounts.ids[row])
    group = (
        None
        if wanted.group is None
        else next(
            (each for each in layers.groups.every if each.account_id == account_id and each.code == wanted.group), None
        )
    )
    if wanted.group is not None and group is None:
        raise not_found("group", wanted.group)
    product = pools_service.product(tx, wanted.product)
    there = next(
        (
            each
            for each in layers.every
            if (each.account_id, each.group, each.product.id) == (account_id, group, product.id)
        ),
        None,
    )
    return layers, there, group, product


@dataclass(frozen=True)
class WaitingForSeat:
    """Somebody who waits for a seat, since when, and with which priority, in the order in which they get one.

    ``why`` says what stands against them besides the seats; empty = only a free seat is missing, and ``place`` is which
    of those who wait for that product gets the next one.
    """

    username: str
    name: str
    account_name: str
    product: Product
    since: datetime
    priority: int
    why: str
    place: int | None


@dataclass(frozen=True)
class WaitingList:
    """A part of who waits for seats, and how many do in all."""

    total: int
    rows: list[WaitingForSeat]


def queue(
    tx: Transaction, actor: Actor, product: str | None = None, offset: int = 0, limit: int | None = None
) -> WaitingList:
    """Who of the branch waits for a seat (of a product alone), product by product, first come first: a part of them.

    What this costs goes by how many wait, not by how many people the layers reach.
    """
    accounts = accounts_service.known(tx)
    top = accounts_service.top_row(accounts, actor)
    layers = Layers(tx, accounts)
    ids, products, reached = layers.reached(layers.every, sa.and_(PRESENT, store.is_waiting()))
    place = {person_id: n for n, person_id in enumerate(ids)}
    waits = store.waiting_in(tx.connection, in_branch(accounts, top))
    end, total, found = None if limit is None else offset + limit, 0, list[WaitingForSeat]()
    for n, each in enumerate(products):
        if product not in (None, each.code):
            continue
        mine = [
            (int(reached.priority[place[who.id], n]), since, who)
            for who, since in waits.get(each.id, ())
            if who.id in place and reached.layers[place[who.id], n]
        ]
        mine.sort(key=lambda one: (*one[:2], one[2].username))
        first, last = max(0, offset - total), len(mine) if end is None else min(len(mine), end - total)
        total += len(mine)
        if first >= last:
            continue
        others = [other.code for other in products if each.family and other.family == each.family]
        against = assignments.what_speaks_against(tx, each, [who for *_, who in mine[:last]], others)
        next_place = sum(who.username not in against for *_, who in mine[:first])
        for priority, since, who in mine[first:last]:
            why = against.get(who.username, "")
            next_place += not why
            account_name = accounts.full_name(accounts.row_of_id[who.account_id], top)
            found.append(
                WaitingForSeat(
                    who.username,
                    who.display_name,
                    account_name,
                    each,
                    since,
                    priority,
                    why,
                    None if why else next_place,
                )
            )
    return WaitingList(total, found)
