"""The limit of each of many people as an expression over the tables of people and of what is stored: the same layers as
``core/layers.personal_limit``, asked of the database, so that lists and previews need nobody in memory."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.accounts.service import Accounts, in_branch
from fair_ladle.app.people.groups import Groups
from fair_ladle.app.people.tables import people
from fair_ladle.app.personal_storage.layers import set_by_layers
from fair_ladle.app.personal_storage.tables import storage_limits
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.pools.service import Product
from fair_ladle.app.usage.tables import stored

DIRECT, GROUP, ACCOUNT = "direct", "group", "account"


@dataclass(frozen=True)
class LayerName:
    """A layer that sets a limit: DIRECT of each person, or the GROUP or ACCOUNT of a number."""

    kind: str
    number: int = 0


@dataclass(frozen=True)
class LimitsInSql:
    """The limit (grains) of whoever a row of people is, NULL where no layer sets one, from how many percent of it they
    are told, and the place in ``layers`` of the one that sets it. Whether rows of people have to be read for it."""

    grains: sa.ColumnElement[int]
    tell_at: sa.ColumnElement[int]
    layer: sa.ColumnElement[int]
    layers: tuple[LayerName, ...]
    needs_people: bool
    reached: tuple[sa.ColumnElement[bool], ...]
    """Whom each of them reaches, whatever those before it say."""

    def is_of(self, layer: LayerName) -> sa.ColumnElement[bool]:
        """Whether a layer is the one that sets it. Of many people this takes less than to compare ``layer``."""
        place = self.layers.index(layer)
        before = zip(self.layers[:place], self.reached, strict=False)
        others = [~each if name.kind == ACCOUNT else each.is_not(sa.true()) for name, each in before]
        return sa.and_(self.reached[place], *others)


def limits_in_sql(
    tx: Transaction, accounts: Accounts, product: Product, other: dict[LayerName, int | None] | None = None
) -> LimitsInSql:
    """Limits of a product as they are, or with some layers saying something else (None = nothing)."""
    rows_said = {
        LayerName(GROUP, row.group_id) if row.group_id else LayerName(ACCOUNT, row.account_id or 0): row
        for row in set_by_layers(tx).rows
        if row.product_id == product.id
    }
    said = {layer: int(row.grains) for layer, row in rows_said.items()}
    for layer, grains in (other or {}).items():
        if grains is None:
            said.pop(layer, None)
        else:
            said[layer] = grains
    every = Groups.read(tx, accounts)
    mine = storage_limits.alias("own_limit")

    def of_theirs(column: sa.ColumnElement[int]) -> Any:
        wanted = sa.select(column).where(mine.c.product_id == product.id, mine.c.person_id == people.c.id)
        return wanted.correlate(people).scalar_subquery()

    # Where nobody has a limit of their own nothing is looked up for each of them.
    has_mine = product.id in set_by_layers(tx).of_people
    direct: Any = of_theirs(mine.c.grains) if has_mine else sa.null()
    told_direct: Any = of_theirs(mine.c.tell_at) if has_mine else sa.null()
    layers = [LayerName(DIRECT)]
    ways: list[tuple[sa.ColumnElement[bool], sa.ColumnElement[int]]] = [
        (direct.is_not(None) if has_mine else sa.false(), direct)
    ]
    for group in every.every:
        layer = LayerName(GROUP, group.id)
        if layer in said:
            layers.append(layer)
            ways.append((every.reaches(group), sa.literal(said[layer])))
    of_accounts = [each for each in said if each.kind == ACCOUNT and each.number in accounts.row_of_id]
    rows = [(accounts.row_of_id[each.number], each) for each in of_accounts]
    for row, layer in sorted(rows, key=lambda each: -accounts.tree.depth(each[0])):
        layers.append(layer)
        ways.append((in_branch(accounts, row, stored.c.account_id), sa.literal(said[layer])))
    told = [told_direct, *(rows_said[each].tell_at if each in rows_said else 90 for each in layers[1:])]
    return LimitsInSql(
        sa.case(*ways, else_=sa.null()),
        sa.case(*((condition, tell) for (condition, _), tell in zip(ways, told, strict=True)), else_=sa.literal(90)),
        sa.case(*((condition, place) for place, (condition, _) in enumerate(ways)), else_=sa.literal(-1)),
        tuple(layers),
        has_mine or any(each.kind == GROUP for each in layers),
        tuple([condition for condition, _ in ways]),
    )
