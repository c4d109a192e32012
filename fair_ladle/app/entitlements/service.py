"""What others need to know of what layers give. Trusted: the caller has judged scope."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence

import sqlalchemy as sa

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.entitlements import store
from fair_ladle.app.entitlements.layers import Layers
from fair_ladle.app.people.groups import Group
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import invalid
from fair_ladle.app.pools.service import Product


def products_of_group(tx: Transaction, group: Group) -> list[str]:
    """Names of the products a group gives: it cannot go before these do."""
    accounts = accounts_service.known(tx)
    return [
        each.product.name for each in Layers(tx, accounts).every if each.group is not None and each.group.id == group.id
    ]


def forget_bars_of(tx: Transaction, group: Group) -> None:
    """A group bars nothing any more: it goes."""
    store.forget_bars_of(tx.connection, group.id)


def rehearse(tx: Transaction, product_ids: Sequence[int], person_ids: Sequence[int]) -> None:
    """Where an act to these people is only tried out: go on with copies of what their layers and switches say."""
    store.rehearse(tx, product_ids)
    store.rehearse_switches(tx, person_ids)


def comes_by_a_layer(tx: Transaction, product: Product, person_ids: Sequence[int]) -> set[int]:
    """Whose seat of a product a layer gave: it goes with the layer, not by hand."""
    return store.granted(tx.connection, product.id) & set(person_ids)


def carry_over(
    tx: Transaction, old: Product, new: Product, mapped: dict[str, str | None], person_ids: Sequence[int]
) -> dict[str, int]:
    """What is switched off of one product is switched off of what it becomes in another one; components that were on
    and become nothing, with how many people lose each.

    ``mapped`` says what each component of the old product becomes (None = nothing); a component of the new one is
    off where everything it comes from was off, and one that comes from nothing is as the product has it.
    """
    off: dict[int, set[str]] = defaultdict(set)
    for row in store.switches(tx.connection, person_ids) if person_ids else []:
        if row.product_id == old.id and not row.on:
            off[row.person_id].add(row.component)
    lost = {
        component: sum(component not in off[each] for each in person_ids)
        for component in old.components
        if mapped.get(component) is None
    }
    origins = {
        each: [part for part in old.components if mapped.get(part) == each]
        for each in new.components
        if each not in new.mandatory
    }
    origins = {each: parts for each, parts in origins.items() if parts}
    store.switch_anew(
        tx.connection,
        list(off),
        [(old.id, old.components), (new.id, list(origins))],
        [
            {"person_id": person_id, "product_id": new.id, "component": each, "on": False}
            for person_id, gone in off.items()
            for each, parts in origins.items()
            if gone.issuperset(parts)
        ],
    )
    return {component: count for component, count in lost.items() if count}


def has_component(tx: Transaction, accounts: Accounts, product: Product, component: str) -> sa.ColumnElement[bool]:
    """People, of those with a seat of a product, who have a component of it on."""
    if component not in product.components:
        raise invalid(f"{product.name} has no component {component}.", "component")
    if component in product.mandatory:
        return sa.true()
    layers = Layers(tx, accounts)
    giving = [layers.clause(each) for each in layers.every if each.product.id == product.id and component in each.on]
    bars = [each for each in layers.bars if each.product.id == product.id and each.component == component]
    return store.has_it_on(
        product.id,
        component,
        sa.or_(sa.false(), *(layers.clause(each) for each in layers.every if each.product.id == product.id)),
        sa.or_(sa.false(), *giving),
        sa.or_(sa.false(), *(layers.clause(each) for each in bars if each.group is None)),
        sa.or_(sa.false(), *(layers.clause(each) for each in bars if each.group is not None)),
    )
