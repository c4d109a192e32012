"""Keeping days that are over: which of them are to be made, and making them."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator
from datetime import date, timedelta
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.allocations import kept, store
from fair_ladle.app.allocations.kept import KeptDay
from fair_ladle.app.allocations.positions import positions_at, read_terms_ahead
from fair_ladle.app.allocations.snapshots import end_of
from fair_ladle.app.plumbing.database import Database, Transaction
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.usage import service as usage

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
    """The same days in parts that are read together: up to ``AT_ONCE`` of a product, in the order they come in."""
    parts: list[tuple[Product, list[date]]] = []
    filling: dict[int, list[date]] = {}
    for product, day in outdated_days:
        mine = filling.get(product.id)
        if mine is None or len(mine) >= AT_ONCE:
            mine = filling[product.id] = []
            parts.append((product, mine))
        mine.append(day)
    return parts


def keep_again(database: Database, product: Product, wanted: Collection[date]) -> None:
    """Settle days of a product as of one instant, and keep each in place of what was kept of it.

    Locks each day's own row alone: what it is made of says whether it still holds, so that nothing that changes it
    waits.
    """

    def settled(tx: Transaction) -> dict[date, dict[str, Any]]:
        usage.read_ahead(tx, product, [end_of(tx, day) for day in wanted])
        read_terms_ahead(tx, product, min(wanted), max(wanted))
        found: dict[date, KeptDay] = {}
        values: dict[date, dict[str, Any]] = {}
        for day in sorted(wanted):
            mine = found[day] = KeptDay.of(positions_at(tx, [product], end_of(tx, day)))
            values[day] = {"made_of": kept.made_of(tx, product, day), "base_day": None, "figures": None}
            base_day = _base(day)
            base = found.get(base_day) if base_day != day else None
            if base is None and base_day != day:
                there = kept.days(tx, [product], end_of(tx, base_day))
                base = there[0] if there else None
            if base is not None:
                mine = mine.beyond(base)
                values[day]["base_day"] = base_day
            values[day]["figures"] = mine.packed()
        return values

    for day, values in database.snapshot(settled).items():
        database.run(lambda tx, day=day, values=values: store.keep_day(tx.connection, product.id, day, values))


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
