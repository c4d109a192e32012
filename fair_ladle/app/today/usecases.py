"""What needs somebody today: breaches and near misses, lots that end, and stock that nobody holds."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from decimal import Decimal
from typing import Any

import numpy as np

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.allocations import present, views
from fair_ladle.app.allocations import service as allocations
from fair_ladle.app.allocations import snapshots as allocations_snapshots
from fair_ladle.app.allocations.ahead import KeptAhead
from fair_ladle.app.allocations.positions import Positions, positions_at
from fair_ladle.app.allocations.stock import Stock, stock
from fair_ladle.app.drafts import usecases as drafts
from fair_ladle.app.notices import usecases as notices
from fair_ladle.app.notices.rows import NoticeRecord
from fair_ladle.app.people_admin import domains
from fair_ladle.app.plumbing import schedule
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.reclaim import usecases as reclaim
from fair_ladle.app.requests import usecases as requests_usecases
from fair_ladle.app.statements.rate_cards import decimals_of
from fair_ladle.app.storage import forecasts as storage_forecasts
from fair_ladle.core.quantities import half_up

SHOWN = 50
"""So many of a kind at most."""
MOST_NOTICES = 200
"""Of those at risk."""
SOON = 30
"""Days within which an allocation that ends is shown."""
FULL_WITHIN = timedelta(days=60)
"""So long ahead full storage is shown."""
AHEAD = 6
"""Months of the outlook."""


@dataclass(frozen=True)
class AtRisk:
    """An account past its cap or near it, in grains."""

    account: str
    name: str
    client: str
    client_name: str
    """The account directly below the top of the branch in view that it belongs to, or itself."""
    product: Product
    state: str
    load: int
    cap: int
    headroom: int | None
    """None = nothing in sight limits it"""
    hard: bool
    deadline: date | None
    away: int
    """How far the account is below the top of the branch in view."""


@dataclass(frozen=True)
class Shortfall:
    """A pool that is short now, in grains."""

    product: Product
    owner: str
    owner_name: str
    by: int


@dataclass(frozen=True)
class LotEnding:
    """Lots that end within the horizon, and what that leaves uncovered."""

    product: Product
    owner: str
    owner_name: str
    ending: views.Ending
    held: int


@dataclass(frozen=True)
class AllocationEnding:
    """An allocation that ends soon, and the cap that follows; ``follows`` = whether any terms do. In grains."""

    product: Product
    account: str
    name: str
    last_day: date
    cap: int | None
    reserve: int
    follows: bool
    then_cap: int | None
    then_reserve: int


@dataclass(frozen=True)
class IdleStock:
    """What of a pool is promised to nobody, and what is promised and not used, with the money in it a month."""

    product: Product
    owner: str
    owner_name: str
    free: int
    promised: int
    supply: int
    free_cost: Decimal
    promised_cost: Decimal
    currency: str


@dataclass(frozen=True)
class Outlook:
    """A pool's free stock now and at the first of the coming months, if nothing is renewed and nothing changes."""

    product: Product
    owner: str
    owner_name: str
    months: list[date]
    free: list[int]


@dataclass(frozen=True)
class FillingUp:
    """A branch whose storage is full before long, at the pace at which it grows: what it stores of how much (grains),
    and the day, with the soonest and the latest (None = not within ten years). ``client`` is the account directly below
    the reader's own on the way to it."""

    product: Product
    account: str
    name: str
    client: str
    client_name: str
    grains: int
    most: int
    day: date
    soonest: date
    latest: date | None


@dataclass(frozen=True)
class Today:
    """Everything of a day, each list with what presses most first."""

    day: date
    at_risk: list[AtRisk]
    past_count: int
    near_count: int
    """How many there are past a cap, and near one; the list has the first of each."""
    shortfalls: list[Shortfall]
    endings: list[LotEnding]
    allocations_ending: list[AllocationEnding]
    """The first of those that end within ``SOON`` days."""
    filling: list[FillingUp]
    """The first of those that are full within ``FULL_WITHIN``."""
    idle: list[IdleStock]
    """The dearest of those with stock that nobody uses."""
    idle_count: int
    idle_costs: dict[str, tuple[Decimal, Decimal]]
    """What all of it costs a month, by currency: what is unallocated, and what is reserved and unused."""
    outlook: list[Outlook]
    """The first of the pools; where there are many, those that get short first."""
    outlook_count: int
    requests: list[requests_usecases.Request]
    notices: list[NoticeRecord]
    """Of the accounts at risk, about their caps."""
    notice_count: int
    """Of those that stand by themselves: all where some who are past a cap or near it are not listed."""
    held_drafts: list[Any]
    failed_jobs: list[tuple[str, str]]
    joins: list[domains.WaitingToJoin]
    domains: list[tuple[str, str]]
    failed_policies: list[tuple[str, str]]
    accounts: Accounts


def today(tx: Transaction, actor: Actor) -> Today:
    """What needs the actor today, over the branch."""
    products = allocations_snapshots.chosen_products(tx, None)
    known = accounts_service.known(tx)
    whole_top = accounts_service.top_row(known, actor)
    owned = stock(tx, products, whole_top)
    pressed = present.pressed(tx, known, whole_top, products, SHOWN)
    if pressed:
        rows = [whole_top, *(known.row_of_id[account_id] for _, account_id in pressed[2])]
        found = present.positions(tx, products, rows, only=pressed[2], known_use=owned.use())
    else:
        found = positions_at(tx, products, tx.now)
    top = accounts_service.top_row(found.snapshot.accounts, actor)
    inside = {int(row) for row in found.snapshot.accounts.tree.branch(top)}
    day = found.snapshot.day
    short = pools_service.standing_supply(tx, owned.pools, day).shortfall(owned.load, owned.used).tolist()
    ahead = KeptAhead(tx, owned.pools)
    idle, idle_count, idle_costs = _idle(tx, known, owned, day)
    shortfalls = []
    endings: list[LotEnding] = []
    figures = zip(owned.pools, owned.rows, owned.load.tolist(), owned.used.tolist(), short, strict=True)
    for pool, owner, load, used, by in figures:
        if by:
            shortfalls.append(Shortfall(pool.product, known.tree.codes[owner], known.name(owner), by))
        for ending in views.endings(pool, day, load, used, ahead):
            endings.append(LotEnding(pool.product, known.tree.codes[owner], known.name(owner), ending, load))
    at_risk = _at_risk(found.seen_by(top), top, inside)
    past, near = ([each for each in at_risk if (each.state == "near") is is_near] for is_near in (False, True))
    past_count, near_count = pressed[:2] if pressed else (len(past), len(near))
    first = [*past[:SHOWN], *near[:SHOWN]]
    return Today(
        day,
        first,
        past_count,
        near_count,
        shortfalls,
        sorted(endings, key=lambda each: (each.ending.uncovered == 0, each.ending.day, each.product.code)),
        _allocations_ending(tx, known, whole_top, products, day),
        _filling(tx, known, whole_top, products),
        idle,
        idle_count,
        idle_costs,
        _outlook(tx, known, owned, day, ahead),
        len(owned.pools),
        requests_usecases.to_answer_first(tx, actor),
        _told(tx, actor, known, first),
        notices.count(tx, actor, known, with_caps=past_count + near_count > len(first)),
        [each for each in drafts.seen(tx, actor) if each.state == "held"] if actor.sign_in_id is not None else [],
        schedule.failed(tx) if top == 0 else [],
        domains.waiting(tx, actor),
        domains.waiting_for_approval(tx, actor),
        reclaim.failed(tx, actor),
        known,
    )


def _at_risk(found: Positions, top: int, inside: set[int]) -> list[AtRisk]:
    snapshot, states = found.snapshot, found.states()
    top_depth = snapshot.accounts.tree.depth(top)
    rows = []
    for row in sorted(inside):
        for column, product in enumerate(snapshot.products):
            state = states[row][column]
            if state == "within" or snapshot.owner[row, column] < 0:
                continue
            way = snapshot.accounts.tree.path_up(row)[::-1]
            client = way[min(top_depth + 1, len(way) - 1)]
            clock = snapshot.clocks.get((row, column))
            load = int(found.settled.load[row, column])
            rows.append(
                AtRisk(
                    snapshot.accounts.tree.codes[row],
                    snapshot.accounts.name(row),
                    snapshot.accounts.tree.codes[client],
                    snapshot.accounts.name(client),
                    product,
                    state,
                    load,
                    int(snapshot.grid.cap[row, column]),
                    views.visible_room(int(found.headroom.room[row, column])),
                    bool(load > found.hard[row, column]),
                    clock.deadline_day if clock else None,
                    snapshot.accounts.tree.depth(row) - top_depth,
                )
            )
    order = {"restricted": 0, "grace": 1, "over": 2, "near": 3}
    return sorted(
        rows,
        key=lambda each: (
            order[each.state],
            each.deadline or date.max,
            -(each.load - each.cap) / max(1, each.cap),
            each.away,
            each.account,
            each.product.code,
        ),
    )


def _told(tx: Transaction, actor: Actor, accounts: Accounts, at_risk: list[AtRisk]) -> list[NoticeRecord]:
    """What was told of these cells."""
    ids = {each.account: int(accounts.ids[accounts.tree.row(each.account)]) for each in at_risk}
    cells = {(ids[each.account], each.product.code) for each in at_risk}
    found = notices.about_caps_of(tx, actor, accounts, set(ids.values()), MOST_NOTICES)
    return [each for each in found if (each.account_id, each.product) in cells]


def _allocations_ending(
    tx: Transaction, accounts: Accounts, top: int, products: list[Product], day: date
) -> list[AllocationEnding]:
    by_id = {each.id: each for each in products}
    rows = allocations.ending(tx, accounts, top, day, day + timedelta(days=SOON), SHOWN)
    return [
        AllocationEnding(
            by_id[each.product_id],
            accounts.tree.codes[place],
            accounts.full_name(place, top),
            each.last_day,
            each.cap,
            each.reserve,
            each.then_id is not None,
            each.then_cap,
            each.then_reserve or 0,
        )
        for each in rows
        if each.product_id in by_id and (place := accounts.row_of_id[each.account_id]) >= 0
    ]


def _filling(tx: Transaction, accounts: Accounts, top: int, products: list[Product]) -> list[FillingUp]:
    by_id = {each.id: each for each in products}
    found = []
    for each in storage_forecasts.soon(tx, accounts, top, FULL_WITHIN, SHOWN):
        place, when = accounts.row_of_id[each.account_id], each.filling
        if each.product_id in by_id and when.day is not None and when.soonest is not None:
            code, name = accounts.tree.codes[place], accounts.full_name(place, top)
            way = accounts.tree.path_up(place)
            client = way[max(0, way.index(top) - 1)]
            whose = accounts.tree.codes[client], accounts.name(client)
            made = FillingUp(
                *(by_id[each.product_id], code, name, *whose, each.grains, each.most),
                *(when.day, when.soonest, when.latest),
            )
            found.append(made)
    return found


def _idle(
    tx: Transaction, accounts: Accounts, owned: Stock, day: date
) -> tuple[list[IdleStock], int, dict[str, tuple[Decimal, Decimal]]]:
    """What of these pools nobody uses: the dearest, of how many pools there is any, and what all of it costs a month by
    currency, free and promised."""
    supply, costs = pools_service.standing_supply(tx, owned.pools, day), pools_service.costs(tx, owned.pools, day)
    free = supply.unallocated(owned.load)
    promised = np.maximum(0, supply.quantity - free - owned.used)
    there = np.flatnonzero((supply.quantity > 0) & (free + promised > 0)).tolist()
    figures = np.stack([supply.quantity, free, promised], axis=1).tolist()
    sums: dict[str, tuple[Decimal, Decimal]] = {}
    dear: dict[int, tuple[Decimal, Decimal]] = {}
    for place in there:
        currency, cost, (quantity, left, unused) = owned.pools[place].currency, costs[place], figures[place]
        decimals = decimals_of(currency)
        of_free = half_up(cost * left / quantity, decimals)
        of_promised = half_up(cost * unused / quantity, decimals)
        dear[place] = of_free, of_promised
        summed = sums.get(currency, (Decimal(0), Decimal(0)))
        sums[currency] = summed[0] + of_free, summed[1] + of_promised
    first = sorted(there, key=lambda place: -sum(dear[place]))[:SHOWN]
    return [_idle_stock(accounts, owned, place, figures[place], dear[place]) for place in first], len(there), sums


def _idle_stock(
    accounts: Accounts, owned: Stock, place: int, figures: Sequence[int], costs: tuple[Decimal, Decimal]
) -> IdleStock:
    pool, owner, (quantity, free, promised) = owned.pools[place], owned.rows[place], figures
    code, name = accounts.tree.codes[owner], accounts.name(owner)
    return IdleStock(pool.product, code, name, free, promised, quantity, *costs, pool.currency)


def _outlook(tx: Transaction, accounts: Accounts, owned: Stock, day: date, kept: KeptAhead) -> list[Outlook]:
    """The stock of these pools in the coming months, as far as it is known what begins and ends until then.

    Free is what the lots give beyond the load; short is what even overcommit and true-up do not cover.
    """
    months, at = [day], day
    for _ in range(AHEAD - 1):
        at = (at.replace(day=1) + timedelta(days=32)).replace(day=1)
        months.append(at)
    more = np.zeros((len(months), 2, len(owned.pools)), dtype=np.int64)
    for place, pool in enumerate(owned.pools):
        if kept.knows(pool):
            more[1:, :, place] = [kept.more(pool, month) for month in months[1:]]
    supplies = [pools_service.standing_supply(tx, owned.pools, month) for month in months]
    free: list[list[int]] = np.array(
        [each.standing(owned.load + held, owned.used + used) for each, (held, used) in zip(supplies, more, strict=True)]
    ).T.tolist()
    places = list(range(len(owned.pools)))
    if len(places) > SHOWN:
        first = [next((n for n, left in enumerate(of) if left < 0), AHEAD) for of in free]
        places = sorted(places, key=lambda place: first[place])[:SHOWN]
    return [
        Outlook(
            owned.pools[place].product,
            accounts.tree.codes[owned.rows[place]],
            accounts.name(owned.rows[place]),
            months,
            free[place],
        )
        for place in places
    ]
