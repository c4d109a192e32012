"""How what people store is spread, and whom a limit would put over it."""

from __future__ import annotations

from dataclasses import dataclass

import sqlalchemy as sa

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.personal_storage import usecases as personal_storage
from fair_ladle.app.personal_storage.in_sql import ACCOUNT, GROUP, LayerName, limits_in_sql
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.storage import spread_store
from fair_ladle.app.storage.listing import product_of
from fair_ladle.app.storage.rows import Band, BandStates, PastLimit
from fair_ladle.app.usage.tables import stored
from fair_ladle.app.usage.whose import whose

TOP = 10


@dataclass(frozen=True)
class Big:
    """Somebody who stores much; ``limit`` where they are over it."""

    username: str
    name: str
    account_name: str
    size: int
    limit: int | None


@dataclass(frozen=True)
class Spread:
    """How what people store is spread: of those who store something, in grains."""

    people: int
    mean: int
    median: int
    ninetieth: int
    bands: list[Band]
    biggest: list[Big]


@dataclass(frozen=True)
class Preview:
    """Of the people a layer's limit is for: how many would be over it and near it, by how many grains together, and how
    many are over and near what limits them now; ``limit_now`` is what the layer says now."""

    people: int
    over: int
    near: int
    beyond: int
    over_now: int
    near_now: int
    limit_now: int | None
    bands: list[BandStates]
    biggest: list[Big]


def spread(tx: Transaction, actor: Actor, product: str, account: str) -> Spread:
    """Average and spread per person in a branch."""
    wanted = product_of(tx, actor, product)
    accounts = accounts_service.known(tx)
    row = accounts_service.row_in_scope(accounts, actor, account)
    inside = accounts_service.in_branch(accounts, row, stored.c.account_id)
    asked = spread_store.PeopleAsked(wanted.id, inside, whose(tx), row == 0)
    bands = spread_store.sizes(tx.connection, asked)
    count = sum(each.people for each in bands)
    most = spread_store.largest(tx.connection, asked, TOP)
    mean = sum(int(each.grains) for each in bands) // count if count else 0
    big = [Big(each.username, each.display_name, each.account_name, int(each.grains), None) for each in most]
    # The size at a nearest rank.
    median, ninetieth = (
        spread_store.at_rank(tx.connection, asked, bands, -(-count * percent // 100)) for percent in (50, 90)
    )
    return Spread(count, mean, median, ninetieth, bands, big)


def preview(tx: Transaction, actor: Actor, product: str, account: str, group: str | None, limit: int | None) -> Preview:
    """Whom a limit (grains; None = none) of an account, or of one of its groups, would put over or near it: everybody
    for whom that layer then says it, the others for whom it says it now."""
    wanted = product_of(tx, actor, product)
    accounts = accounts_service.known(tx)
    _, number = personal_storage.layer(tx, actor, account, group)
    layer = LayerName(GROUP if group else ACCOUNT, number)
    row = accounts_service.row_in_scope(accounts, actor, account)
    inside = accounts_service.in_branch(accounts, row, stored.c.account_id)
    # Whom it is for follows from the layers, not from how much it is.
    then = limits_in_sql(tx, accounts, wanted, {layer: 0 if limit is None else limit})
    said = personal_storage.limits(tx, actor, account, group)
    limit_now = next((grains for each, grains, _ in said if each.id == wanted.id), None)
    without: int | sa.ColumnElement[int] | None = None
    if layer != then.layers[-1]:
        without = limits_in_sql(tx, accounts, wanted, {layer: None}).grains
    would = without if limit is None else limit
    asked = spread_store.PeopleAsked(wanted.id, inside, whose(tx), row == 0, then.is_of(layer), then.needs_people)
    rows = spread_store.states(tx.connection, asked, would, without if limit_now is None else limit_now)
    over = sum(each.over for each in rows)
    most: list[PastLimit] = []
    if over and would is not None:
        most = (
            spread_store.largest(tx.connection, asked, TOP, would)
            if isinstance(would, int)
            else spread_store.largest_past(tx.connection, asked, would, TOP)
        )
    return Preview(
        sum(each.people for each in rows),
        over,
        sum(each.near for each in rows),
        sum(int(each.beyond) for each in rows),
        sum(each.over_now for each in rows),
        sum(each.near_now for each in rows),
        limit_now,
        rows,
        [Big(each.username, each.display_name, each.account_name, int(each.grains), int(each.limit)) for each in most],
    )
