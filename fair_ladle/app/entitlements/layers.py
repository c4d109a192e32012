"""Everything the layers give, read together, and whom it reaches."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import sqlalchemy as sa

from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.entitlements import store
from fair_ladle.app.people.groups import PRESENT, Group, Groups, in_branch
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.core.layers import MOST_COMPONENTS, Grant, Reached, family_order, reach


@dataclass(frozen=True)
class Entitlement:
    """What one layer gives: a product, with these of its components on, to a branch's people or to a group of them."""

    id: int
    account_id: int
    group: Group | None
    product: Product
    on: tuple[str, ...]
    priority: int


class Layers:
    """Everything any layer gives, over a tree."""

    def __init__(self, tx: Transaction, accounts: Accounts):
        self.tx, self.accounts = tx, accounts
        self.products = {each.id: each for each in pools_service.products(tx)}
        self.groups = Groups.read(tx, accounts)
        by_id = {each.id: each for each in self.groups.every}
        self.every = [
            Entitlement(
                row.id,
                row.account_id,
                by_id[row.group_id] if row.group_id else None,
                self.products[row.product_id],
                tuple(row.components),
                row.priority,
            )
            for row in store.all_entitlements(tx.connection)
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

    def row(self, each: Entitlement) -> int:
        """The row of the account it belongs to."""
        return self.accounts.row_of_id[each.account_id]

    def clause(self, each: Entitlement) -> sa.ColumnElement[bool]:
        """Whom it gives to, of those present."""
        branch = in_branch(self.accounts, self.row(each))
        return branch if each.group is None else sa.and_(branch, self.groups.reaches(each.group))

    def reached(
        self, of: Sequence[Entitlement], among: sa.ColumnElement[bool] = PRESENT
    ) -> tuple[list[int], list[Product], Reached]:
        """Who is reached by these: people (numbers), products, and what of which reaches whom."""
        members = store.members(self.tx.connection, among, [self.clause(each) for each in of])
        ids = np.unique(np.concatenate([*members, np.empty(0, dtype=np.int64)]))
        products = sorted({each.product for each in of}, key=lambda product: (bool(product.requires), product.code))
        column = {product.id: n for n, product in enumerate(products)}
        grants = [
            Grant(column[each.product.id], np.searchsorted(ids, mine), bits(each.product, each.on), each.priority)
            for each, mine in zip(of, members, strict=True)
        ]
        people = {person_id: n for n, person_id in enumerate(ids.tolist())}
        off = [
            (people[row.person_id], column[row.product_id], bits(self.products[row.product_id], (row.component,)))
            for row in (store.switched_off(self.tx.connection, list(people)) if people else [])
            if row.product_id in column
        ]
        return (
            ids.tolist(),
            products,
            reach(len(ids), len(products), grants, off, [bits(each, each.mandatory) for each in products]),
        )


def bits(product: Product, codes: Sequence[str]) -> int:
    """Components of a product as the engine's bits."""
    return sum(1 << n for n, code in enumerate(product.components[:MOST_COMPONENTS]) if code in codes)


def named(product: Product, on: int) -> list[str]:
    """The engine's bits as a product's components."""
    return [code for n, code in enumerate(product.components[:MOST_COMPONENTS]) if on >> n & 1]
