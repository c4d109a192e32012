"""How products reach one person, layer by layer, and the components that are switched off for them alone."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import datetime

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.entitlements import store
from fair_ladle.app.entitlements.layers import ComponentBar, Entitlement, Layers, named
from fair_ladle.app.log import service as log_service
from fair_ladle.app.people import service as people_service
from fair_ladle.app.people.groups import is_present
from fair_ladle.app.people.rows import PersonRecord
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import conflict, invalid
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.usage import service as usage


@dataclass(frozen=True)
class LayerSays:
    """What one layer says of a product: given or not, and the components it has on."""

    layer: str
    gives: bool
    on: list[str]


@dataclass(frozen=True)
class PersonLayers:
    """A product and how it reaches somebody: layer by layer, what is switched directly and what is barred, and the
    result. ``barred`` has the component and by which account or group."""

    product: Product
    cells: list[LayerSays]
    off: list[str]
    switched_on: list[str]
    barred: list[tuple[str, str]]
    reaches: bool
    on: list[str]
    has: bool
    direct: bool
    waits_since: datetime | None
    instead: str | None = None
    """The product of its family that they have, where they do not have or want this one."""


def layers_of(tx: Transaction, actor: Actor, person: PersonRecord, have: set[int] | None = None) -> list[PersonLayers]:
    """How products reach one person of the branch, who has some of them (numbers; read, if not said). What layers above
    the branch give counts, and is told as “above”."""
    accounts = accounts_service.known(tx)
    top = accounts_service.top_row(accounts, actor)
    layers = Layers(tx, accounts)
    me = is_present(person.id)
    if have is None:
        opened = usage.open_assignments(tx, list(layers.products.values()), [person.username], tx.now)
        have = {row.product_id for row in opened}
    every: list[Entitlement | ComponentBar] = [*layers.every, *layers.bars]
    known = {(type(each), each.id): ids for each, ids in zip(every, layers.members(every, me), strict=True)}
    mine = [each for each in layers.every if len(known[Entitlement, each.id])]
    bars = [each for each in layers.bars if len(known[ComponentBar, each.id])]
    noted = store.of_person(tx.connection, person.id)
    by_hand = [layers.products[each] for each in sorted(have) if each not in noted.kept]
    _, products, reached = layers.reached(mine, me, [(person.id, each) for each in by_hand], known)
    column = {product.id: n for n, product in enumerate(products)}
    reaching = {each.product.id for each in mine}

    def told(each: Entitlement | ComponentBar) -> str:
        return _layer_name(accounts, layers, each) if accounts.tree.is_inside(layers.row(each), top) else "above"

    found = []
    for product in sorted({*products, *(layers.products[each] for each in have)}, key=lambda each: each.code):
        if product.measure != "seat":
            continue

        direct = noted.switched.get(product.id, {})
        found.append(
            PersonLayers(
                product,
                [LayerSays(told(each), True, list(each.on)) for each in mine if each.product.id == product.id],
                [code for code, on in direct.items() if not on],
                [code for code, on in direct.items() if on],
                [(each.component, told(each)) for each in bars if each.product.id == product.id],
                product.id in reaching,
                named(product, int(reached.components[0, column[product.id]]))
                if product.id in column
                else list(product.components if noted.kept[product.id] is None else noted.kept[product.id] or ()),
                product.id in have,
                product in by_hand,
                noted.waits_since.get(product.id),
            )
        )
    has = {each.product.family: each.product.name for each in found if each.has and each.product.family}
    return [
        replace(each, instead=has.get(each.product.family or "")) if not each.has and each.waits_since is None else each
        for each in found
    ]


def _layer_name(accounts: Accounts, layers: Layers, each: Entitlement | ComponentBar) -> str:
    return each.group.name if each.group else f"everybody of {accounts.name(layers.row(each))}"


def switch(tx: Transaction, actor: Actor, person: PersonRecord, product_code: str, component: str, on: bool) -> None:
    """Switch a component of what somebody has on or off; where the layers have it so by themselves, nothing stays
    switched. A mandatory one stays on, a barred one off."""
    product = pools_service.product(tx, product_code)
    if component not in product.components:
        raise invalid(f"{product.name} has no component {component}.", "component")
    if component in product.mandatory and not on:
        raise conflict(f"{component} is always on in {product.name}.")
    people_service.lock(tx, [person.id])
    store.switch(tx.connection, person.id, product.id, component, None)
    if _is_on(tx, actor, person, product, component) != on:
        store.switch(tx.connection, person.id, product.id, component, on)
        if on and not _is_on(tx, actor, person, product, component):
            raise conflict(f"{component} of {product.name} is barred for their account.")
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


def _is_on(tx: Transaction, actor: Actor, person: PersonRecord, product: Product, component: str) -> bool:
    mine = (each for each in layers_of(tx, actor, person) if each.product.id == product.id)
    return any(component in each.on for each in mine)
