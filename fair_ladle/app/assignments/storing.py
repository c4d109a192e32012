"""What is stored, written live: asked for under limits like any unit, or reported as it is.

Locks: the counters of the accounts, the deeper first, and those above them as far as a change or the one before it
reaches (a report, and a move for both of its accounts: up to the pools); then samples and what is kept of them, which
nobody writes without the counter.
Trusted: the caller has judged scope.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from datetime import datetime, timedelta
from typing import Any

import numpy as np

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.allocations import present
from fair_ladle.app.allocations.ladders import ladder_members
from fair_ladle.app.allocations.positions import Positions, Snapshot, settle_snapshot
from fair_ladle.app.allocations.present import is_fresh
from fair_ladle.app.assignments import counters, service, store
from fair_ladle.app.assignments.many import AtLimit
from fair_ladle.app.assignments.places import Directory, Place, by_directory, forget, place_now
from fair_ladle.app.assignments.store import Way
from fair_ladle.app.assignments.walk import LimitReached, Stale, begin_clocks, walk
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Again, Transaction
from fair_ladle.app.plumbing.prepared import Question
from fair_ladle.app.pools.service import Product
from fair_ladle.app.usage import service as usage
from fair_ladle.core.calendar import local_day
from fair_ladle.core.path import Ladder
from fair_ladle.core.quantities import BYTES_PER_GRAIN

LONGEST_LOCKED = timedelta(minutes=1)
"""What others have written while the locks were waited for, by clocks that may be ahead of this one, is what stands."""
TICK = timedelta(microseconds=1)


def ladder_now(
    tx: Transaction, actor: Actor, account: str, product: Product, *with_it: Question[Any]
) -> tuple[Ladder, dict[str, Any], str | None, list[Any]]:
    """How much more an account can store by its counters as they stand, the ladder as the actor may see it, why nothing
    more is stored there whatever the room, if so, and what these questions come to, asked with it."""
    place, known = place_now(tx, account, product, actor.scope)
    found, rungs, promisable, pool, others = service.live_ladder(tx, place, known.zone, *with_it)
    if not is_fresh(pool.fresh_until, tx.now) or pool.structure != known.number:
        raise _anew(tx, product)
    names = {code: name for _, code, name in place.way_up}
    members = ladder_members(found, rungs, product, promisable, actor, names)
    return found, members, place.why_restrained(actor.scope), others


def change_sizes(
    tx: Transaction, actor: Actor, account: str, product: Product, by: Mapping[str, int], *with_it: Question[Any]
) -> list[Any]:
    """Let categories of an account store so many bytes more (less, below 0), all or none. What raises the account's
    total is admitted like any unit, refused with the ladder where a limit stops it: never by less than what is to be
    written, however a total is rounded. A category gives no more than it holds.

    What these questions come to is asked under the lock, before anything of this is written."""

    def judged(known: Directory) -> tuple[Place, Directory]:
        place = known.place(tx, local_day(tx.now, known.zone), account, product, actor.scope)
        if sum(by.values()) > 0:
            place.judge_restraint(actor.scope)
        return place, known

    place, known = by_directory(tx, judged)
    until, in_all = tx.now + LONGEST_LOCKED, sum(by.values())
    standing = usage.standing(product, place.account_id, list(by), until)
    way, [there, *others] = known.lock_way(tx, place, standing, *with_it, goes_up=in_all != 0, by=usage.grains(in_all))
    is_there = bool(way.rows) and way.rows[0].account_id == place.account_id
    if not is_there or way.trust.structure != known.number or not is_fresh(way.trust.fresh_until, tx.now):
        raise _anew(tx, product)
    at = tx.now if there.newest is None else max(tx.now, there.newest + TICK)
    if at > until:
        raise Again
    held = {series[2]: level.figures[0] for series, level in there.levels.items()}
    sizes = {category: max(0, held[category] + change) for category, change in by.items()}
    total = there.total or 0
    then = total + sum(sizes.values()) - sum(held.values())
    change = usage.grains(then) - usage.grains(total)
    whole = -(-then // BYTES_PER_GRAIN) - usage.grains(total)
    asked = max(whole, change) if then > total else change
    try:
        writes = _walk(tx, place, known, change, asked, way) if asked else []
    except Stale:
        raise _anew(tx, product) from None
    except LimitReached:
        store.write(tx.connection, [], way)  # what is said of limits is said as it is
        raise service.stopped(tx, actor, place, whole, known.zone) from None
    if in_all:
        known.note_reach(place, writes)
    begin_clocks(writes, at)
    store.write(tx.connection, writes, way)
    usage.record_now(tx, known.zone, there, sizes, at)
    return others


def _walk(tx: Transaction, place: Place, known: Any, change: int, asked: int, way: Way) -> list[dict[str, Any]]:
    mine, structure, zone = place.account_id, known.number, known.zone
    return walk(tx, place.pool_id, {mine: change}, {mine: place.depth}, structure, zone, asked={mine: asked}, way=way)


def _anew(tx: Transaction, product: Product) -> Again:
    forget(tx)
    return Again(lambda again: counters.rebuild(again, [product]))


def report_sizes(
    tx: Transaction,
    product: Product,
    rows: Sequence[Mapping[str, Any]],
    used_at: Mapping[tuple[int, int, str], datetime] | None = None,
) -> None:
    """Record samples of a product (account_id, category, at, bytes), as ``report_taken`` does."""
    report_taken(tx, product, usage.by_account({**row, "product_id": product.id} for row in rows), used_at)


def report_taken(
    tx: Transaction,
    product: Product,
    taken: usage.Taken,
    used_at: Mapping[tuple[int, int, str], datetime] | None = None,
) -> None:
    """Record samples of a product, however much that is: what is there is there."""
    accounts = accounts_service.known(tx)
    places = sorted(accounts.row_of_id[account_id] for _, account_id in taken)
    service.lock_ways(tx, accounts, {product: places})
    _let_follow(tx, product, places, usage.record_taken(tx, taken, used_at))


def move(tx: Transaction, actor: Actor, product: Product, from_id: int, to: str, category: str, into: str) -> int:
    """Let what a category of an account (its number) stores, and those below it, be in another category of an account
    (its code) from now on; bytes. What becomes more where it goes, and above that, is admitted like any unit: refused
    with the ladder where a limit stops it; where it comes to as much as before, no limit is asked."""
    place, _ = place_now(tx, to, product, actor.scope)
    accounts = accounts_service.known(tx)
    rows = sorted({accounts.row_of_id[from_id], accounts.row_of_id[place.account_id]})
    service.lock_ways(tx, accounts, {product: rows})
    moved, samples = usage.moved(tx, product, from_id, place.account_id, category, tx.now, into)

    def judge(was: Positions, gone: Positions, now: Positions) -> None:
        row, tree = was.snapshot.accounts.row_of_id[place.account_id], was.snapshot.accounts.tree
        way = tree.path_up(row)[: len(was.way_up(row, 0))]
        load, room = now.settled.load[way, 0], now.headroom.room[way, 0]
        lacks = np.any((load > was.settled.load[way, 0]) & (room < 0))
        if lacks or room[0] < min(0, was.headroom.room[row, 0]):
            asked = usage.grains(moved)
            members = gone.visible_ladder(row, 0, actor, asked)
            detail = f"{product.said(asked)} would be added in {accounts.name(accounts.tree.row(to))}."
            room_then = int(gone.headroom.room[row, 0])
            raise AtLimit(product.code, room_then, f"{detail} {members['sentence']}", members)

    if samples:
        _let_follow(tx, product, rows, usage.record_samples(tx, samples), judge)
    return moved


def _let_follow(
    tx: Transaction,
    product: Product,
    rows: Sequence[int],
    changes: Mapping[tuple[int, int], int],
    judge: Callable[[Positions, Positions, Positions], None] | None = None,
) -> None:
    """Let counters follow what was recorded (grains by product and account): of accounts (rows of today's tree) whose
    ways up are locked. ``judge`` is shown how things stood, how they do without what became less, and how they do."""
    by = {account_id: grains for (_, account_id), grains in changes.items() if grains}
    if not by:
        return
    held = replace(tx, kept={})  # what is read from here on nobody changes, nor does this
    before = present.part(held, [product], rows, use=None if judge is None else False)
    if before is None:
        raise _anew(tx, product)
    row_of, at = before.accounts.row_of_id, tx.now
    by = {account_id: grains for account_id, grains in by.items() if before.owner[row_of[account_id], 0] >= 0}
    was, now = settle_snapshot(before), settle_snapshot(_with_own(before, by, at))
    if judge is not None:
        less = {account_id: min(0, grains) for account_id, grains in by.items()}
        judge(was, settle_snapshot(_with_own(before, less, at)), now)
    counters.follow(held, was, now)
    pool_of = {int(before.roots.rows[place]): pool.id for place, pool in enumerate(before.pools)}
    store.add_use_changes(
        tx.connection,
        [
            {"pool_id": pool_of[int(before.owner[row_of[account_id], 0])], "account_id": account_id, "change": grains}
            for account_id, grains in sorted(by.items())
        ],
    )


def _with_own(snapshot: Snapshot, changes: Mapping[int, int], at: datetime) -> Snapshot:
    assert snapshot.use is not None  # a part of a tree
    own, use = snapshot.own.copy(), snapshot.use.copy()
    for account_id, by in changes.items():
        row = snapshot.accounts.row_of_id[account_id]
        own[row, 0] += by
        use[snapshot.owner[row, 0], 0] += by
    assert np.all(own >= 0)
    return replace(snapshot, own=own, use=use, at=at)
