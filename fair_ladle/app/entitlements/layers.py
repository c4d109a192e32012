"""Everything the layers give, read together, and whom it reaches."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import sqlalchemy as sa

from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.entitlements import store
from fair_ladle.app.people.groups import PRESENT, Group, Groups, in_branch
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.core.layers import MOST_COMPONENTS, Bar, Grant, Reached, Switch, family_order, reach
from fair_ladle.core.tree import Ints


@dataclass(frozen=True)
class Entitlement:
    """What one layer gives: a product, with these of its components on, to a branch's people or to a group of them.

    One that ``names`` none has all of them on.
    """

    id: int
    account_id: int
    group: Group | None
    product: Product
    names: tuple[str, ...]
    priority: int

    @property
    def on(self) -> tuple[str, ...]:
        """The components that it has on."""
        return self.names or self.product.components


@dataclass(frozen=True)
class ComponentBar:
    """A component of a product that an account bars for its branch, or for one of its groups."""

    id: int
    account_id: int
    group: Group | None
    product: Product
    component: str


class Layers:
    """Everything any layer gives, over a tree."""

    def __init__(self, tx: Transaction, accounts: Accounts):
        self.tx, self.accounts = tx, accounts
        self.products = {each.id: each for each in pools_service.products(tx)}
        self.groups = Groups.read(tx, accounts)
        by_id = {each.id: each for each in self.groups.every}
        given, barred = store.given_and_barred(tx.connection)
        self.every = [
            Entitlement(
                row.id,
                row.account_id,
                by_id[row.group_id] if row.group_id else None,
                self.products[row.product_id],
                tuple(row.components),
                row.priority,
            )
            for row in given
            if row.account_id in accounts.row_of_id
        ]

        self.bars = [
            ComponentBar(
                row.id,
                row.account_id,
                by_id[row.group_id] if row.group_id else None,
                self.products[row.product_id],
                row.component,
            )
            for row in barred
            if row.account_id in accounts.row_of_id
        ]

    def families(self) -> list[list[Product]]:
        """Products that exclude each other, the lowest first; one that excludes none is alone. Add-ons come last."""
        by_family: dict[str, list[Product]] = {}
        for each in sorted(self.products.values(), key=lambda product: product.id):
            by_family.setdefault(each.family or f"product {each.code}", []).append(each)
        found = []
        for every in by_family.values():
            codes = [each.code for each in every]
            order = family_order([codes.index(each.successor) if each.successor in codes else -1 for each in every])
            found.append([every[place] for place in order])
        return sorted(found, key=lambda family: (any(each.requires for each in family), family[0].code))

    def row(self, each: Entitlement | ComponentBar) -> int:
        """The row of the account it belongs to."""
        return self.accounts.row_of_id[each.account_id]

    def clause(self, each: Entitlement | ComponentBar) -> sa.ColumnElement[bool]:
        """Whom it gives to, or bars for, of those present."""
        branch = in_branch(self.accounts, self.row(each))
        return branch if each.group is None else sa.and_(branch, self.groups.reaches(each.group))

    def members(self, of: Sequence[Entitlement | ComponentBar], among: sa.ColumnElement[bool]) -> list[Ints]:
        """Whom (numbers) each of these has, among some people."""
        return store.members(self.tx.connection, among, [self.clause(each) for each in of])

    def reached(
        self,
        of: Sequence[Entitlement],
        among: sa.ColumnElement[bool] = PRESENT,
        by_hand: Sequence[tuple[int, Product]] = (),
        known: Mapping[tuple[type, int], Ints] | None = None,
    ) -> tuple[list[int], list[Product], Reached]:
        """Who is reached by these: people (numbers), products, and what of which reaches whom.

        A seat given ``by_hand`` (person, product) is a layer of its own that names no component. ``known``: whom
        (numbers) each layer and bar (its class and number) has among them, where that was read before.
        """
        found = {*(each.product for each in of), *(product for _, product in by_hand)}
        products = sorted(found, key=lambda product: (bool(product.requires), product.code))
        column = {product.id: n for n, product in enumerate(products)}
        bars = [each for each in self.bars if each.product.id in column]
        every: list[Entitlement | ComponentBar] = [*of, *bars]
        members = self.members(every, among) if known is None else [known[type(each), each.id] for each in every]
        ids = np.unique(
            np.concatenate([*members[: len(of)], np.array([person for person, _ in by_hand], dtype=np.int64)])
        )
        places = [np.searchsorted(ids, mine[np.isin(mine, ids)]) for mine in members]
        grants = [
            Grant(column[each.product.id], mine, bits(each.product, each.names) if each.names else None, each.priority)
            for each, mine in zip(of, places, strict=False)
        ]
        grants += [
            Grant(column[product.id], np.searchsorted(ids, np.array([person])), None) for person, product in by_hand
        ]
        people = {person_id: n for n, person_id in enumerate(ids.tolist())}
        switches = []
        for row in store.switches(self.tx.connection, list(people)) if people else []:
            if row.product_id in column:
                bit = bits(self.products[row.product_id], (row.component,))
                switches.append(Switch(column[row.product_id], people[row.person_id], bit * row.on, bit * (not row.on)))
        barred = [
            (each, Bar(column[each.product.id], mine, bits(each.product, (each.component,))))
            for each, mine in zip(bars, places[len(of) :], strict=True)
        ]
        return (
            ids.tolist(),
            products,
            reach(
                len(ids),
                [bits(each, each.components) for each in products],
                grants,
                switches,
                [bits(each, each.mandatory) for each in products],
                [bar for each, bar in barred if each.group is None],
                [bar for each, bar in barred if each.group is not None],
            ),
        )


def bits(product: Product, codes: Sequence[str]) -> int:
    """Components of a product as the engine's bits."""
    return sum(1 << n for n, code in enumerate(product.components[:MOST_COMPONENTS]) if code in codes)


def named(product: Product, on: int) -> list[str]:
    """The engine's bits as a product's components."""
    return [code for n, code in enumerate(product.components[:MOST_COMPONENTS]) if on >> n & 1]
