"""What can be done about a pool that will be short, and about a lot that ends: each way with its changes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date, timedelta
from decimal import Decimal
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.allocations import service as allocations
from fair_ladle.app.allocations.positions import Positions, settle_snapshot
from fair_ladle.app.drafts.evaluate import DraftEvaluation
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import conflict
from fair_ladle.app.pools.service import Product
from fair_ladle.app.purchases.ahead import owned_pool
from fair_ladle.app.purchases.buying import Option, buy, monthly, renewals
from fair_ladle.app.purchases.releasing import below_owner, own_without, release, shrink, take_back
from fair_ladle.core.calendar import day_name
from fair_ladle.core.costing import Lot


@dataclass(frozen=True)
class ShortfallPlan:
    """The ways out of one pool's shortfall on a day."""

    product: Product
    owner: str
    day: date
    short: int
    options: list[Option]
    planned: int
    """How much of what is short comes of allocations that begin between today and that day (grains)."""
    ending_cost: Decimal
    """What the lots that end the day before cost a month."""


def plan(tx: Transaction, actor: Actor, owner: str, product: str, day: date) -> ShortfallPlan:
    """What could be done about a shortfall on a day, compared by money and by people touched. Each is for a draft of
    that day."""
    found, place, row = owned_pool(tx, actor, owner, product, day)
    snapshot = found.snapshot
    pool = snapshot.pools[place]
    short = int(found.shortfalls()[place])
    if not short:
        raise conflict(f"{pool.product.name} is covered on {day_name(day)}; there is nothing to plan.")
    below = below_owner(found, row)
    ids = [int(snapshot.accounts.ids[each]) for each in below]
    versions = allocations.in_force(tx, [pool.product.id], ids, accounts_service.today(tx))
    there = {each: versions.get((account_id, pool.product.id)) for each, account_id in zip(below, ids, strict=True)}
    ending = [lot for lot in pool.lots if lot.last_day == day - timedelta(days=1)]
    load, used = int(found.pool_load()[place]), int(found.pool_used()[place])
    unused, idle = take_back(found, below, there, pool, short), release(tx, found, row, pool)
    options = [
        *renewals(pool, owner, day, ending, load, used),
        buy(pool, owner, day, load, used),
        *_mixed(found, actor, place, owner, day, ending, below, there, unused, idle),
        unused,
        shrink(found, below, there, pool, row, "max-min", "Reduce all to the same level", short),
        shrink(found, below, there, pool, row, "least harm", "Reduce where least is used", short),
        idle,
        Option(
            "let run",
            "Accept the shortfall",
            "Nothing new can be assigned once the supply is gone; no one loses anything.",
            Decimal(0),
            pool.currency,
            0,
            short,
        ),
    ]
    listed = [each for each in options if each is not None]
    now, place_now, _ = owned_pool(tx, actor, owner, product)
    planned = max(0, load - int(now.pool_load()[place_now]))
    return ShortfallPlan(pool.product, owner, day, short, listed, planned, monthly(pool, ending))


def _mixed(
    found: Positions,
    actor: Actor,
    place: int,
    owner: str,
    day: date,
    ending: Sequence[Lot],
    below: Sequence[int],
    there: dict[int, Any],
    unused: Option | None,
    idle: Option | None,
) -> list[Option]:
    """First what costs nothing, then only as much bought as is short after it: renewed where something ends, else
    anew."""
    pool = found.snapshot.pools[place]
    first: list[tuple[str, list[Option], Positions]] = []
    if unused is not None:
        first.append((unused.name, [unused], _allocated(found, actor, unused)))
    if idle is not None:
        without = settle_snapshot(replace(found.snapshot, own=own_without(found, idle.changes)))
        first.append((idle.name, [idle], without))
        rest = take_back(without, below, there, pool, int(without.shortfalls()[place]))
        if rest is not None:
            first.append((f"{idle.name} and unused reserves", [idle, rest], _allocated(without, actor, rest)))
    options = []
    for name, steps, after in first:
        if not int(after.shortfalls()[place]):
            continue
        load, used = int(after.pool_load()[place]), int(after.pool_used()[place])
        again = [each for each in renewals(pool, owner, day, ending, load, used) if not each.still_short]
        bought = again[-1] if again else buy(pool, owner, day, load, used)
        options.append(
            Option(
                " and ".join(each.key for each in (*steps, bought)),
                f"{name}, then {bought.name[0].lower()}{bought.name[1:]}",
                bought.says,
                bought.cost,
                bought.currency,
                sum(each.people for each in steps),
                0,
                [*(change for step in steps for change in step.changes), *bought.changes],
            )
        )
    return options


def _allocated(found: Positions, actor: Actor, option: Option) -> Positions:
    return settle_snapshot(DraftEvaluation(found.snapshot, actor, option.changes).snapshot)
