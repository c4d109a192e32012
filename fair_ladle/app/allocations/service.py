"""Allocation versions as others need them."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from datetime import date, timedelta
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.allocations import store
from fair_ladle.app.allocations.positions import to_version
from fair_ladle.app.allocations.tables import allocations
from fair_ladle.app.plumbing import generations
from fair_ladle.app.plumbing.database import Transaction, batched
from fair_ladle.app.plumbing.merge import Merged, merge
from fair_ladle.app.pools.service import Product
from fair_ladle.core.allocations import Grid, Version, by_day
from fair_ladle.core.calendar import Day


def load(tx: Transaction, rows: list[dict[str, Any]]) -> Merged:
    """Create and change versions by product, account and first day."""
    generations.renew(tx, "allocations")
    merged = merge(tx.connection, allocations, ["product_id", "account_id", "first_day"], rows)
    if merged.created or merged.changed:
        first: dict[int, date] = {}
        for row in rows:
            first[row["product_id"]] = min(row["first_day"], first.get(row["product_id"], row["first_day"]))
        today = accounts_service.today(tx)
        generations.renew_past(tx, {product_id: day for product_id, day in first.items() if day < today})
    return merged


def rooms(tx: Transaction) -> list[Any]:
    """What each pool may promise and its load (grains), with the codes of its owner and product."""
    return store.rooms(tx.connection)


def all_versions(tx: Transaction, product_ids: Collection[int]) -> list[Any]:
    """Every version of these products."""
    return store.versions(tx.connection, product_ids)


def versions_of(tx: Transaction, product: Product, account_ids: Collection[int]) -> list[Any]:
    """Every version of a product's allocations to these accounts."""
    return [
        row for part in batched(account_ids) for row in store.versions(tx.connection, [product.id], None, None, part)
    ]


def turned_since(tx: Transaction, product: Product, since: date, day: date) -> list[int]:
    """The accounts (ids) of which a version of a product's allocation began or ended on days since one, up to now."""
    return store.turned_since(tx.connection, product.id, since, day)


def by_days(
    tx: Transaction, accounts: Accounts, product: Product, days: list[Day], ids: Collection[int] | None = None
) -> Grid:
    """One product's allocations laid over consecutive days: accounts × days; with ``ids`` of these accounts alone."""
    versions: list[tuple[int, Version]] = []
    for row in store.versions(tx.connection, [product.id], days[0].date, days[-1].date, ids):
        place = accounts.row_of_id.get(row.account_id)
        if place is not None:
            versions.append((place, to_version(row, accounts.tree.codes[place])))
    return by_day(versions, len(accounts.tree), days)


def next_boundary(tx: Transaction, product_ids: Collection[int], after: date) -> date | None:
    """The next day on which an allocation of these products begins or has ended."""
    return store.next_boundary(tx.connection, product_ids, after)


def put_all_from(
    tx: Transaction, day: date, wanted: Mapping[tuple[int, int], Mapping[str, Any] | None]
) -> dict[tuple[int, int], Any]:
    """Let allocations be these terms (None = nothing any more) from a day on, by account's and product's id; the
    versions that were in force.

    A present version ends the day before, the new one lasts as long as it would have, or until the next one begins. A
    version that began that very day is replaced. Locks: the versions, by product and account.
    """
    if not wanted:
        return {}
    generations.renew(tx, "allocations")
    yesterday = day - timedelta(days=1)
    present: dict[tuple[int, int], Any] = {}
    ahead: dict[tuple[int, int], Any] = {}
    for product_id in sorted({product_id for _, product_id in wanted}):
        for part in batched(sorted(account_id for account_id, product in wanted if product == product_id)):
            for row in store.lock_versions(tx.connection, part, product_id, day):
                of = present if row.first_day <= day else ahead
                of.setdefault((row.account_id, row.product_id), row)
    new, changed, shortened, gone = [], [], [], []
    for key, values in wanted.items():
        now, last_day = present.get(key), None
        if now is not None and now.first_day == day:
            if values is None:
                gone.append(now.id)
            else:
                changed.append({"version": now.id, **values})
            continue
        if now is not None:
            shortened.append({"version": now.id, "last_day": yesterday})
            last_day = now.last_day
        elif key in ahead:
            last_day = ahead[key].first_day - timedelta(days=1)
        if values is not None:
            new.append({"account_id": key[0], "product_id": key[1], "first_day": day, "last_day": last_day, **values})
    store.write_versions(tx.connection, new, changed, shortened, gone)
    return present


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
