"""Allocation versions as others need them."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any

import numpy as np

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.allocations import store
from fair_ladle.app.allocations.positions import followed, terms_of
from fair_ladle.app.allocations.rows import VersionRecord
from fair_ladle.app.allocations.tables import allocations
from fair_ladle.app.plumbing import generations
from fair_ladle.app.plumbing.cache import Cache
from fair_ladle.app.plumbing.database import Transaction, batched
from fair_ladle.app.plumbing.merge import Merged, merge
from fair_ladle.app.plumbing.problems import invalid
from fair_ladle.app.pools.service import Product
from fair_ladle.core.allocations import Grid, by_day
from fair_ladle.core.calendar import Day, day_name

ONE_DAY = timedelta(days=1)


def load(tx: Transaction, rows: list[dict[str, Any]]) -> Merged:
    """Create and change versions by product, account and first day."""
    generations.renew(tx, "allocations")
    merged = merge(tx.connection, allocations, ["product_id", "account_id", "first_day"], rows)
    if merged.created or merged.changed:
        first: dict[int, date] = {}
        of: dict[int, set[int]] = defaultdict(set)
        for row in rows:
            first[row["product_id"]] = min(row["first_day"], first.get(row["product_id"], row["first_day"]))
            of[row["product_id"]].add(row["account_id"])
        today = accounts_service.today(tx)
        generations.renew_past(tx, {product_id: day for product_id, day in first.items() if day < today}, of)
    return merged


def rooms(tx: Transaction) -> list[Any]:
    """What each pool may promise and its load (grains), with the codes of its owner and product."""
    return store.rooms(tx.connection)


def limits_in_pools(tx: Transaction, product: Product) -> list[Any]:
    """pool_id, account_id, parent_id, cap and physical (both in grains, None = none) of every account in a product's
    pools, those below before those above."""
    return store.limits_in_pools(tx.connection, product.id)


def all_versions(tx: Transaction, product_ids: Collection[int]) -> list[Any]:
    """Every version of these products."""
    return store.versions(tx.connection, product_ids)


def versions_of(tx: Transaction, product: Product, account_ids: Collection[int]) -> list[Any]:
    """Every version of a product's allocations to these accounts."""
    return [
        row for part in batched(account_ids) for row in store.versions(tx.connection, [product.id], None, None, part)
    ]


def versions_between(
    tx: Transaction, product_ids: Collection[int], first: date, last: date, account_id: int
) -> list[VersionRecord]:
    """The versions of these products' allocations to an account that are in force on some of these days."""
    return store.versions(tx.connection, product_ids, first, last, [account_id])


_following: Cache[list[tuple[int, int]]] = Cache(16, megabytes=2)
"""Which caps ever followed which seats, while allocations stay the same."""


def following(tx: Transaction) -> list[tuple[int, int]]:
    """(product, counted product) of every pair of which some cap follows seats, or did; by number."""
    key = tx.installation, generations.numbers(tx, "allocations")
    return _following.get(key, lambda: store.following(tx.connection, generations.EARLIEST))


def has_caps_that_follow(tx: Transaction, product: Product) -> bool:
    """Whether some cap of a product follows seats, or did: its past then has facts of another product too."""
    return any(of == product.id for of, _ in following(tx))


def past(tx: Transaction, product: Product, day: date) -> str:
    """While it stays the same, so do the facts of a product up to a day that is over, and those of the seats that its
    caps follow."""
    return generations.past(tx, {product.id, *(per for of, per in following(tx) if of == product.id)}, day)


def turned_since(tx: Transaction, product: Product, since: date, day: date) -> list[int]:
    """The accounts (ids) of which a version of a product's allocation began or ended on days since one, up to now."""
    return store.turned_since(tx.connection, product.id, since, day)


def by_days(
    tx: Transaction, accounts: Accounts, products: Sequence[Product], days: list[Day], ids: Collection[int] | None
) -> dict[int, Grid]:
    """Each product's (id) allocations laid over consecutive days: accounts × days; with ``ids`` of these accounts
    alone."""
    first, last = days[0].date, days[-1].date
    every = store.terms_between(tx.connection, [each.id for each in products], first, last, ids)
    every = every[np.isin(every[:, 0], accounts.ids)]
    grids = {}
    for product in products:
        mine = every[every[:, 1] == product.id]
        rows, begins, ends = accounts.rows(mine[:, 0]), mine[:, 10], mine[:, 11]
        grids[product.id] = grid = by_day(rows, begins, ends, terms_of(mine), len(accounts.tree), days)
        for at, follows in followed(tx, mine).items():
            begin, end = max(first, date.fromordinal(int(begins[at]))), min(int(ends[at]), last.toordinal())
            for column in range((begin - first).days, end - first.toordinal() + 1):
                grid.following[int(rows[at]), column] = follows
    return grids


def next_boundary(tx: Transaction, product_ids: Collection[int], after: date) -> date | None:
    """The next day on which an allocation of these products begins or has ended."""
    return store.next_boundary(tx.connection, product_ids, after)


def ending(tx: Transaction, accounts: Accounts, row: int, first: date, last: date, limit: int) -> list[Any]:
    """Allocations in the branch of a row that end within these days, the earliest first, with what follows."""
    return store.ending(
        tx.connection, accounts_service.in_branch(accounts, row, allocations.c.account_id), first, last, limit
    )


def put_all_from(
    tx: Transaction,
    day: date,
    wanted: Mapping[tuple[int, int], Mapping[str, Any] | None],
    until: Mapping[tuple[int, int], date | None],
) -> dict[tuple[int, int], Any]:
    """Let allocations be these terms (None = nothing any more) from a day on, by account's and product's id; the
    versions that were in force.

    A present version ends the day before, the new one lasts as long as it would have, or until the next one begins. A
    version that began that very day is replaced. ``until`` gives some another last day (None = for good): on the day
    after it the next version begins where it adjoined the present one, else the present terms are in force again, if
    they are others.
    Refused where the last day would pass a later version. Locks: the versions, by product and account.
    """
    if not wanted:
        return {}
    generations.renew(tx, "allocations")
    present: dict[tuple[int, int], Any] = {}
    ahead: dict[tuple[int, int], Any] = {}
    for product_id in sorted({product_id for _, product_id in wanted}):
        for part in batched(sorted(account_id for account_id, product in wanted if product == product_id)):
            for row in store.lock_versions(tx.connection, part, product_id, day):
                of = present if row.first_day <= day else ahead
                of.setdefault((row.account_id, row.product_id), row)
    new, changed, shortened, moved, gone = [], [], [], [], []
    for key, values in wanted.items():
        now, following = present.get(key), ahead.get(key)
        ids = {"account_id": key[0], "product_id": key[1]}
        last_day = now.last_day if now is not None else following.first_day - ONE_DAY if following else None
        if key in until and values is not None:
            last_day, then = _ends_on(day, until[key], now, following)
            if then is None or then.terms_again and all(getattr(now, name) == values[name] for name in values):
                pass
            elif then.takes_place_of is not None:
                gone.append(then.takes_place_of)
            elif then.moves is not None:
                moved.append({"version": then.moves, "first_day": then.first_day})
            else:
                terms = {name: getattr(now, name) for name in values}
                new.append({**ids, "first_day": then.first_day, "last_day": then.last_day, **terms})
        if now is not None and now.first_day == day:
            if values is None:
                gone.append(now.id)
            else:
                changed.append({"version": now.id, **values, "last_day": last_day})
            continue
        if now is not None:
            shortened.append({"version": now.id, "last_day": day - ONE_DAY})
        if values is not None:
            new.append({**ids, "first_day": day, "last_day": last_day, **values})
    store.write_versions(tx.connection, new, changed, shortened, moved, gone)
    return present


@dataclass(frozen=True)
class _Then:
    """What begins after a last day: the present terms again, the following version (``moves``), or nothing, where the
    new terms take the place of the following version."""

    first_day: date | None = None
    last_day: date | None = None
    moves: int | None = None
    takes_place_of: int | None = None

    @property
    def terms_again(self) -> bool:
        """Whether the present terms are in force again."""
        return self.moves is None and self.takes_place_of is None


def _ends_on(
    day: date, chosen: date | None, now: Any | None, following: Any | None
) -> tuple[date | None, _Then | None]:
    """The last day of new terms, and what begins after it."""
    if chosen is not None and chosen < day:
        raise invalid(f"The last day is {day_name(chosen)}; the terms begin on {day_name(day)}.", "last_day")
    end = None if now is None else now.last_day
    if now is not None and following is not None and following.first_day - ONE_DAY == end:
        if chosen is None:
            return following.last_day, _Then(takes_place_of=following.id)
        if following.last_day is not None and chosen >= following.last_day:
            raise invalid(
                f"Other terms end on {day_name(following.last_day)}; choose a last day before it.", "last_day"
            )
        return chosen, _Then(chosen + ONE_DAY, moves=following.id)
    if following is not None and chosen is not None and chosen >= following.first_day:
        raise invalid(f"Other terms begin on {day_name(following.first_day)}; choose a last day before it.", "last_day")
    if now is not None and chosen is not None and (end is None or chosen < end):
        return chosen, _Then(chosen + ONE_DAY, end)
    return (following.first_day - ONE_DAY if chosen is None and following is not None else chosen), None


def end_all_from(tx: Transaction, account_ids: Collection[int], day: date) -> None:
    """Let these accounts have no allocation any more from a day on, nor one that would have begun later."""
    if account_ids:
        generations.renew(tx, "allocations")
        store.end_all(tx.connection, account_ids, day)


def in_force(
    tx: Transaction, product_ids: Collection[int], account_ids: Collection[int], day: date
) -> dict[tuple[int, int], Any]:
    """The versions in force on a day, by account's and product's id."""
    if not product_ids or not account_ids:
        return {}
    rows = store.versions(tx.connection, product_ids, day, day, account_ids)
    return {(row.account_id, row.product_id): row for row in rows}
