"""The walk up under locks: every account on the way is locked, checked and written, deeper first, then by id."""

from __future__ import annotations

from collections.abc import Collection
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

from fair_ladle.app.allocations import seats
from fair_ladle.app.allocations.present import is_fresh
from fair_ladle.app.allocations.rows import CounterRecord
from fair_ladle.app.assignments import store
from fair_ladle.app.assignments.counters import is_restricted
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.core.allocations import AtCap
from fair_ladle.core.path import Rung, admits


class LimitReached(Exception):
    """A taking does not fit below some limit on the way up."""

    def __init__(self, account_ids: list[int]):
        super().__init__("a limit was reached")
        self.account_ids = account_ids


def caps_now(tx: Transaction, pool_id: int, found: Collection[CounterRecord]) -> dict[int, int]:
    """The caps of those among counters of a pool that follow seats, by account: read without a lock."""
    following = {
        (pool_id, row.account_id, row.per): (row.fixed, row.each)
        for row in found
        if row.per is not None and row.fixed is not None and row.each is not None
    }
    if not following:
        return {}
    now = seats.now(tx, following)
    return {cell[1]: fixed + each * now[cell] for cell, (fixed, each) in following.items()}


def rung(counter: Any, name: str, now: datetime, zone: ZoneInfo, cap: int | None = None) -> Rung:
    """A counter as the engine's rung; ``cap`` where it follows seats."""
    bursting = counter.at_cap in (AtCap.GRACE, AtCap.OVERAGE) and not is_restricted(counter, now, zone)
    return Rung(name, counter.load, counter.reserve, counter.cap if cap is None else cap, counter.burst, bursting)


class CeilingReached(Exception):
    """A taking would let the account that a ceiling is judged by hold more than that."""

    def __init__(self, load: int):
        super().__init__("a ceiling was reached")
        self.load = load


class Stale(Exception):
    """The pool's counters are to be made anew first, or the structure is not the one the changes were placed in."""


def walk(
    tx: Transaction,
    pool_id: int,
    changes: dict[int, int],
    depth: dict[int, int],
    structure: int,
    zone: ZoneInfo,
    ceiling: tuple[int, int] | None = None,
    asked: dict[int, int] | None = None,
    way: store.Way | None = None,
) -> list[dict[str, Any]]:
    """Lock and check the way up for changes of own use by account (all of one sign), stopping where a
    cushion takes them up; what to add to own and load of each counter, and its clock.

    ``asked``: what has to be admitted, where that is more than what changes: a total that is rounded. ``ceiling``: the
    most that an account may hold, whatever its limits are. ``way``: what is locked
    already, of one account that changes alone and of some above it. Nothing is written before all is
    admitted: LimitReached where one does not fit, CeilingReached where that is passed, Stale where what is locked
    cannot be trusted.
    """
    asked = asked or changes
    pending: dict[int, dict[int, tuple[int, int]]] = {}
    for account, change in changes.items():
        pending.setdefault(depth[account], {})[account] = change, asked[account]
    cause: dict[int, list[int]] = {account: [account] for account in changes}
    writes: list[dict[str, Any]] = []
    trust = None if way is None else way.trust
    ahead = {} if way is None else {row.account_id: row for row in way.rows}
    taken, deepest = sum(asked.values()), max(pending)
    while pending:
        level = max(pending)
        here = pending.pop(level)
        locked = [ahead[each] for each in here if each in ahead]
        if len(locked) < len(here):
            locked = store.lock(tx.connection, pool_id, here)
        if len(locked) < len(here):
            raise Stale
        if level == deepest:
            trust = trust or store.trust(tx.connection, pool_id)
            if not is_fresh(trust.fresh_until, tx.now) or trust.structure != structure:
                raise Stale
        caps = caps_now(tx, pool_id, locked)
        for counter in locked:
            now = tx.now
            change, wanted = here[counter.account_id]
            step = rung(counter, "", now, zone, caps.get(counter.account_id))
            if not admits(step, wanted, counter.promisable):
                raise LimitReached(cause[counter.account_id])
            if ceiling is not None and ceiling[0] == counter.account_id and counter.load + wanted > ceiling[1]:
                raise CeilingReached(counter.load + wanted)
            if change:
                writes.append(_written(counter, pool_id, step, change, changes.get(counter.account_id, 0)))
            goes_up, is_asked = step.passed_on(change), step.passed_on(wanted)
            if counter.parent_id is not None and (goes_up or is_asked):
                above = pending.setdefault(level - 1, {})
                so_far = above.get(counter.parent_id, (0, 0))
                above[counter.parent_id] = so_far[0] + goes_up, so_far[1] + is_asked
                cause.setdefault(counter.parent_id, []).extend(cause[counter.account_id])
    if taken > 0 and trust is not None and not trust.backed:
        _check_physical(tx, pool_id, taken, list(changes))
    return writes


def begin_clocks(writes: list[dict[str, Any]], at: datetime) -> None:
    """Let the clocks that these writes start run from the instant at which what starts them is recorded."""
    for each in writes:
        if each["starts_clock"]:
            each["past_cap_since"] = at


def _written(counter: Any, pool_id: int, step: Rung, change: int, own_change: int) -> dict[str, Any]:
    load, since, starts = counter.load + change, counter.past_cap_since, False
    if counter.at_cap == AtCap.GRACE and step.cap is not None:
        if load <= step.cap:
            since = None
        else:
            starts = since is None
    return {
        "starts_clock": starts,
        "pool_id": pool_id,
        "account_id": counter.account_id,
        "own": own_change,
        "load": change,
        "past_cap_since": since,
    }


def _check_physical(tx: Transaction, pool_id: int, taken: int, accounts: list[int]) -> None:
    pool = store.touch_pool(tx.connection, pool_id)
    counters, now, _ = store.read_with_pool(tx.connection, pool_id, [pool.owner_id])
    physical = counters[pool.owner_id].physical
    assert physical is not None, "the pool's own row says what there is"
    if now.used + taken > physical:
        raise LimitReached(accounts)
