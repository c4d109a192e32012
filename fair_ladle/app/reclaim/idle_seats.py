"""Seats of people who have not been seen for long, with what they cost: counted at once in a small branch, and for a
large one as they were counted last by a job."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass
from datetime import datetime, timedelta
from decimal import Decimal

import sqlalchemy as sa

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.accounts.tables import accounts as accounts_table
from fair_ladle.app.people.groups import in_branch
from fair_ladle.app.people.tables import people
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction, batched
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.tables import products as products_table
from fair_ladle.app.reclaim.tables import idle_seats, idle_seats_counted
from fair_ladle.app.statements.rate_cards import decimals_of
from fair_ladle.app.usage.tables import assignments
from fair_ladle.core.quantities import half_up

DAYS, SMALL_BRANCH = 60, 500
OF_PEOPLE, NO_POOL = 0, -1
"""Stand for a pool: where people are counted and not their seats, and where no pool reaches."""


@dataclass(frozen=True)
class Unseen:
    """People of a branch not seen for a while, the seats they have, and what those cost a month by currency; when that
    was counted."""

    days: int
    people: int
    seats: int
    cost: dict[str, Decimal]
    counted_at: datetime


def unseen(tx: Transaction, actor: Actor) -> Unseen:
    """How many seats of the branch belong to people who have not been seen for so many days."""
    accounts = accounts_service.known(tx)
    top = accounts_service.top_row(accounts, actor)
    counted = tx.connection.scalar(sa.select(idle_seats_counted.c.at))
    if counted is None or int(accounts.tree.branch_size[top]) <= SMALL_BRANCH:
        by_pool: dict[int, int] = defaultdict(int)
        for (_, pool_id), units in _count(tx, accounts, top).items():
            by_pool[pool_id] += units
        counted = tx.now
    else:
        i, a = idle_seats, accounts_table
        inside = accounts_service.in_branch(accounts, top, a.c.id)
        summed = sa.select(i.c.pool_id, sa.func.sum(i.c.units)).where(i.c.account_id == a.c.id, inside)
        by_pool = {pool_id: int(units) for pool_id, units in tx.connection.execute(summed.group_by(i.c.pool_id))}
    day, cost = accounts_service.today(tx), dict[str, Decimal]()
    for pool in pools_service.pools(tx, pools_service.products(tx)):
        units = by_pool.get(pool.id, 0)
        # What a pool above the branch was bought for is not for whoever runs it.
        if not units or top not in accounts.tree.path_up(accounts.row_of_id[pool.owner_id]):
            continue
        lots = [lot for lot in pool.lots if lot.covers(day)]
        if lots and pool.currency:
            price = max(lots, key=lambda lot: lot.first_day).unit_cost
            cost[pool.currency] = cost.get(pool.currency, Decimal(0)) + price * units
    return Unseen(
        DAYS,
        by_pool.get(OF_PEOPLE, 0),
        sum(units for pool_id, units in by_pool.items() if pool_id != OF_PEOPLE),
        {currency: half_up(amount, decimals_of(currency)) for currency, amount in cost.items() if amount},
        counted,
    )


def count_all(tx: Transaction) -> int:
    """Count them in every account, for large branches; how many rows that makes."""
    counted = _count(tx, accounts_service.known(tx), 0)
    connection = tx.connection
    there = list(connection.scalars(sa.select(idle_seats.c.account_id).distinct()))
    for part in batched(there):
        connection.execute(sa.delete(idle_seats).where(idle_seats.c.account_id.in_(part)))
    rows = [
        {"account_id": account_id, "pool_id": pool_id, "units": units}
        for (account_id, pool_id), units in counted.items()
    ]
    if rows:
        connection.execute(sa.insert(idle_seats), rows)
    connection.execute(sa.delete(idle_seats_counted).where(idle_seats_counted.c.id == 1))
    connection.execute(sa.insert(idle_seats_counted).values(id=1, at=tx.now))
    return len(rows)


def _count(tx: Transaction, accounts: Accounts, top: int) -> dict[tuple[int, int], int]:
    """(account, pool) → seats there of people of a branch not seen for long; under OF_PEOPLE how many people that is,
    by the account they are in."""
    products = [each for each in pools_service.products(tx) if each.measure == "seat"]
    a, p, now = assignments, products_table, tx.now
    is_small = int(accounts.tree.branch_size[top]) <= SMALL_BRANCH
    ids = [int(each) for each in accounts.ids[accounts.tree.branch(top)]] if is_small else []
    wanted = [
        people.c.status == "active",
        people.c.last_seen_at < now - timedelta(days=DAYS),
        people.c.account_id.in_(ids) if is_small else in_branch(accounts, top),
        (p.c.id if is_small else a.c.product_id).in_([each.id for each in products]),
        a.c.begins <= now,
        sa.or_(a.c.ends.is_(None), a.c.ends > now),
    ]
    # From few people, product by product, to what each has; from many the database finds its own way.
    is_theirs = a.c.subject == people.c.username
    joined = (
        people.join(p, sa.true()).join(a, sa.and_(a.c.product_id == p.c.id, is_theirs))
        if is_small
        else people.join(a, is_theirs)
    )
    seats = sa.select(a.c.account_id, a.c.product_id, sa.func.count()).select_from(joined).where(*wanted)
    persons = sa.select(people.c.account_id, sa.func.count(people.c.id.distinct())).select_from(joined).where(*wanted)
    if is_small:
        seats, persons = seats.prefix_with("STRAIGHT_JOIN"), persons.prefix_with("STRAIGHT_JOIN")
    owner_of = {(pool.product.id, pool.owner_id): pool.id for pool in pools_service.pools(tx, products)}
    found: dict[tuple[int, int], int] = defaultdict(int)
    for account_id, product_id, units in tx.connection.execute(seats.group_by(a.c.account_id, a.c.product_id)):
        way = (int(accounts.ids[row]) for row in accounts.tree.path_up(accounts.row_of_id[account_id]))
        pool_id = next((owner_of[product_id, each] for each in way if (product_id, each) in owner_of), NO_POOL)
        found[account_id, pool_id] += int(units)
    for account_id, count in tx.connection.execute(persons.group_by(people.c.account_id)):
        found[account_id, OF_PEOPLE] = int(count)
    return found
