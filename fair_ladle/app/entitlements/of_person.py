"""How products reach one person, layer by layer, and the components that are switched off for them alone."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.entitlements import store
from fair_ladle.app.entitlements.layers import Entitlement, Layers, named
from fair_ladle.app.log import service as log_service
from fair_ladle.app.people.groups import is_present
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import conflict, invalid
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.usage import service as usage


@dataclass(frozen=True)
class LayerCell:
    """What one layer says of a product: given or not, and the components it has on."""

    layer: str
    gives: bool
    on: list[str]


@dataclass(frozen=True)
class PersonLayers:
    """A product and how it reaches somebody: layer by layer, what is switched off directly, and the result."""

    product: Product
    cells: list[LayerCell]
    off: list[str]
    reaches: bool
    on: list[str]
    has: bool
    direct: bool
    waits_since: datetime | None
    instead: str | None = None
    """The product of its family that they have, where they do not have or want this one."""


def layers_of(tx: Transaction, actor: Actor, person: Any) -> list[PersonLayers]:
    """How products reach one person of the branch. What layers above the branch give counts, and is told as “above”."""
    accounts = accounts_service.known(tx)
    inside = set(accounts.tree.branch(accounts_service.top_row(accounts, actor)).tolist())
    layers = Layers(tx, accounts)
    me = is_present(person.id)
    mine = [
        each
        for each, members in zip(
            layers.every,
            store.members(tx.connection, me, [layers.clause(each) for each in layers.every]),
            strict=True,
        )
        if len(members)
    ]
    off: dict[int, list[str]] = defaultdict(list)
    for row in store.switched_off(tx.connection, [person.id]):
        off[row.product_id].append(row.component)
    have = {
        row.product_id for row in usage.open_assignments(tx, list(layers.products.values()), [person.username], tx.now)
    }
    _, products, reached = layers.reached(mine, me)
    column = {product.id: n for n, product in enumerate(products)}
    found = []
    for product in sorted({*products, *(layers.products[each] for each in have)}, key=lambda each: each.code):
        if product.measure != "seat":
            continue
        cells = [
            LayerCell(
                _layer_name(accounts, layers, each) if layers.row(each) in inside else "above", True, list(each.on)
            )
            for each in mine
            if each.product.id == product.id
        ]
        by_rule = person.id in store.granted(tx.connection, product.id)
        direct = product.id in have and not by_rule
        on = named(product, int(reached.components[0, column[product.id]])) if product.id in column else []
        if direct:
            on = [
                code
                for code in product.components
                if code in on or code not in off[product.id] or code in product.mandatory
            ]
        waits = store.waiting(tx.connection, product.id).get(person.id)
        found.append(
            PersonLayers(product, cells, off[product.id], product.id in column, on, product.id in have, direct, waits)
        )
    has = {each.product.family: each.product.name for each in found if each.has and each.product.family}
    return [
        replace(each, instead=has.get(each.product.family or "")) if not each.has and each.waits_since is None else each
        for each in found
    ]


def _layer_name(accounts: Accounts, layers: Layers, each: Entitlement) -> str:
    return each.group.name if each.group else f"everybody of {accounts.name(layers.row(each))}"


def switch(tx: Transaction, actor: Actor, person: Any, product_code: str, component: str, on: bool) -> None:
    """Switch a component of what somebody has off, or on again; a mandatory one stays on."""
    product = pools_service.product(tx, product_code)
    if component not in product.components:
        raise invalid(f"{product.name} has no component {component}.", "component")
    if component in product.mandatory and not on:
        raise conflict(f"{component} is always on in {product.name}.")
    store.switch(tx.connection, person.id, product.id, component, on)
    log_service.write(
        tx,
        actor,
        None,
        [
            log_service.Entry(
                "component switched",
                person.username,
                person.account_id,
                None,
                {"product": product.code, component: "on" if on else "off"},
            )
        ],
    )
