"""Keeping days that are over: which of them are to be made, and making them."""

from __future__ import annotations

import json
from collections.abc import Collection, Iterable, Iterator, Mapping
from dataclasses import replace
from datetime import date, datetime, timedelta
from typing import Any

import numpy as np

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.allocations import kept, store
from fair_ladle.app.allocations import service as allocations_service
from fair_ladle.app.allocations.kept import KeptDay
from fair_ladle.app.allocations.positions import (
    Snapshot,
    positions_at,
    read_terms_ahead,
    replayed_clocks,
    settle_snapshot,
)
from fair_ladle.app.allocations.rows import KeptDayRecord
from fair_ladle.app.allocations.snapshots import end_of
from fair_ladle.app.plumbing import generations
from fair_ladle.app.plumbing.database import Database, Transaction
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.usage import service as usage
from fair_ladle.core.calendar import local_day, micros
from fair_ladle.core.settling import settle
from fair_ladle.core.tree import Ints

DAYS_KEPT = 35
"""Made again when they are others; older ones stay as long as they hold."""
SETTLED_AFTER = timedelta(minutes=1)
"""After midnight: what was admitted before it may be kept only a moment later."""


def _base(day: date) -> date:
    return day - timedelta(days=day.weekday())


def outdated(tx: Transaction) -> Iterator[tuple[Product, date]]:
    """The days that are not kept as they are now, the newest first, a Monday before the days after it."""
    today = accounts_service.today(tx)
    early = tx.now - accounts_service.start_of(tx, today) < SETTLED_AFTER
    last = today - timedelta(days=2 if early else 1)
    first = _base(last - timedelta(days=DAYS_KEPT))
    products = pools_service.products(tx)
    there = {each.id: store.made_of(tx.connection, each.id, first) for each in products}
    for ago in range((last - first).days + 1):
        day = last - timedelta(days=ago)
        for product in products:
            for wanted in dict.fromkeys((_base(day), day)):
                if there[product.id].get(wanted) != kept.made_of(tx, product, wanted):
                    there[product.id][wanted] = kept.made_of(tx, product, wanted)
                    yield product, wanted


AT_ONCE = 12


def together(outdated_days: Iterable[tuple[Product, date]]) -> list[tuple[Product, list[date]]]:
    """The same days in parts that are read together: up to ``AT_ONCE`` of a product and what else is of their weeks, in
    the order they come in."""
    parts: list[tuple[Product, list[date]]] = []
    filling: dict[int, list[date]] = {}
    for product, day in outdated_days:
        mine = filling.get(product.id)
        if mine is None or (len(mine) >= AT_ONCE and _base(day) not in mine):
            mine = filling[product.id] = []
            parts.append((product, mine))
        mine.append(day)
    return parts


def keep_again(database: Database, product: Product, wanted: Collection[date]) -> None:
    """Settle days of a product as of one instant, or correct what is kept of them where late facts are of a few
    accounts, and keep each in place of what was kept of it.

    Locks each day's own row alone: what it is made of says whether it still holds, so that nothing that changes it
    waits.
    """

    def settled(tx: Transaction) -> dict[date, dict[str, Any]]:
        found = corrected(tx, product, wanted)
        rest = sorted(set(wanted) - found.keys())
        if rest:
            usage.read_ahead(tx, product, [end_of(tx, day) for day in rest])
            read_terms_ahead(tx, product, rest[0], rest[-1])
        for day in rest:
            found[day] = KeptDay.of(positions_at(tx, [product], end_of(tx, day)))
        return {day: _values(tx, product, day, found) for day in sorted(wanted)}

    for day, values in database.snapshot(settled).items():
        database.run(lambda tx, day=day, values=values: store.keep_day(tx.connection, product.id, day, values))


def _values(tx: Transaction, product: Product, day: date, found: Mapping[date, KeptDay]) -> dict[str, Any]:
    """The row that keeps a day; ``found`` has that day and others of its week that are kept along with it."""
    base_day, base = _base(day), None
    if base_day != day:
        there = [found[base_day]] if base_day in found else kept.days(tx, [product], end_of(tx, base_day))
        base = there[0] if there else None
    mine = found[day] if base is None else found[day].beyond(base)
    return {
        "made_of": kept.made_of(tx, product, day),
        "late": json.dumps(generations.late(tx, product.id, day)),
        "base_day": None if base is None else base_day,
        "base_made_of": None if base is None else kept.made_of(tx, product, base_day),
        "figures": mine.packed(),
    }


PART, AT_LEAST, MOST = 3, 200, 1000
"""A correction goes through no more than this part of all accounts (or through so many), and late facts of no more than
so many, else a day is settled whole."""


def corrected(tx: Transaction, product: Product, wanted: Collection[date]) -> dict[date, KeptDay]:
    """Those of a product's days that differ from what is kept of them by late facts of a few accounts alone: what is
    kept, with these accounts and all above them as they are now."""
    if allocations_service.has_caps_that_follow(tx, product):
        return {}  # seats that caps follow are facts of another product
    late: dict[date, set[int]] = {}
    olds: dict[date, KeptDay] = {}
    rows = {row.day: row for row in store.kept_of(tx.connection, _with_bases(product, wanted))}
    for day in sorted(wanted):
        old = _old(tx, rows, day)
        concerned = None if old is None else generations.late_since(tx, product.id, day, old[1], of_use_alone=True)
        if old is not None and concerned is not None:
            olds[day], late[day] = old[0], concerned
    known, every = accounts_service.known(tx), sorted(set().union(*late.values()))
    if not late or len(every) > MOST or not known.row_of_id.keys() >= set(every):
        return {}
    ats = {day: end_of(tx, day) for day in olds}
    instants = np.array([micros(at) for at in ats.values()], dtype=np.int64)
    own = usage.own_at_each(tx, known, product, instants, every)[known.rows(np.array(every, dtype=np.int64))]
    found = {}
    for place, (day, at) in enumerate(ats.items()):
        own_of = {each: int(figure) for each, figure in zip(every, own[:, place], strict=True) if each in late[day]}
        mine = _corrected(tx, product, at, olds[day], own_of)
        if mine is not None:
            found[day] = mine
    return found


def _with_bases(product: Product, wanted: Collection[date]) -> list[tuple[int, date]]:
    return [(product.id, day) for day in sorted({*wanted, *map(_base, wanted)})]


def _old(tx: Transaction, rows: Mapping[date, KeptDayRecord], day: date) -> tuple[KeptDay, Mapping[str, int]] | None:
    """What is kept of a day, with the late facts it has; None where that cannot be told any more."""
    row = rows.get(day)
    if row is None or row.late is None or row.made_of.split()[0] != str(accounts_service.zone(tx)):
        return None
    mine = KeptDay.unpacked(row.figures)
    if row.base_day is not None:
        base = rows.get(row.base_day)
        if base is None or base.made_of != row.base_made_of:
            return None
        mine = replace(mine, base=KeptDay.unpacked(base.figures))
    return mine, json.loads(row.late)


def _corrected(
    tx: Transaction, product: Product, at: datetime, old: KeptDay, own_of: Mapping[int, int]
) -> KeptDay | None:
    """A day, given what these accounts (ids) themselves have in use at its end; None where too many are above them."""
    whole = accounts_service.on_day(tx, local_day(at, accounts_service.zone(tx)))
    part = whole.part([whole.row_of_id[each] for each in own_of if each in whole.row_of_id])
    if len(part.ids) > max(len(whole.ids) // PART, AT_LEAST):
        return None
    was = kept.snapshot_of(tx, [product], part, [old], at)
    assert was.use is not None
    own = was.own.copy()
    for account_id, figure in own_of.items():
        if account_id in part.row_of_id:
            own[part.row_of_id[account_id], 0] = figure
    elsewhere = was.use - _summed(was, was.own)
    now = replace(was, own=own, use=elsewhere + _summed(was, own))
    positions = settle_snapshot(replace(now, clocks=replayed_clocks(tx, now)))
    return old.but_for(part.ids, KeptDay.of(positions).of_accounts(part.ids))


def _summed(snapshot: Snapshot, own: Ints) -> Ints:
    """Σ of it over each branch of the snapshot's tree."""
    return settle(snapshot.accounts.tree, own, np.zeros_like(own), snapshot.roots).load


def differences(tx: Transaction) -> list[tuple[str, str, str, str]]:
    """Of every product the newest day that is kept, where it is not what its facts come to: (what, where, found,
    evidence)."""
    found = []
    yesterday = accounts_service.today(tx) - timedelta(days=1)
    for product in pools_service.products(tx):
        there = store.made_of(tx.connection, product.id, _base(yesterday - timedelta(days=DAYS_KEPT)))
        day = max((day for day, made_of in there.items() if made_of == kept.made_of(tx, product, day)), default=None)
        mine = None if day is None else kept.days(tx, [product], end_of(tx, day))
        if day is None or mine is None:
            continue
        facts = KeptDay.of(positions_at(tx, [product], end_of(tx, day)))
        wrong = facts.beyond(mine[0])
        of_facts = facts.of_accounts(wrong.ids)
        codes = {each.id: each.code for each in accounts_service.on_day(tx, day).facts}
        for place, account_id in enumerate(wrong.ids.tolist()):
            is_kept = mine[0].of_accounts(wrong.ids)[:, place].tolist()
            where = f"{day} {product.code} {codes.get(account_id, account_id)}"
            found.append(("kept day", where, str(is_kept), str(of_facts[:, place].tolist())))
    return found
