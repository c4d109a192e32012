"""Allocation versions as others need them."""

from __future__ import annotations

from collections.abc import Collection
from datetime import date, timedelta
from typing import Any

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
    generations.renew(tx, "allocations", "past")
    return merge(tx.connection, allocations, ["product_id", "account_id", "first_day"], rows)


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


def lock_present(tx: Transaction, account_id: int, product_id: int, day: date) -> Any | None:
    """The version in force on a day, locked; None where there is none."""
    rows = store.lock_version(tx.connection, account_id, product_id, day)
    return next((row for row in rows if row.first_day <= day), None)


def put_from(
    tx: Transaction, account_id: int, product_id: int, day: date, present: Any | None, values: dict[str, Any]
) -> None:
    """Let an allocation be this from a day on: the present version ends the day before, the new one lasts as
    long as it would have, or until the next one begins. A version that began that very day is replaced."""
    generations.renew(tx, "allocations")
    if present is not None and present.first_day == day:
        store.update(tx.connection, present.id, values)
        return
    last_day = present.last_day if present is not None else None
    if present is not None:
        store.update(tx.connection, present.id, {"last_day": day - timedelta(days=1)})
    else:
        later = store.lock_version(tx.connection, account_id, product_id, day)
        if later:
            last_day = later[0].first_day - timedelta(days=1)
    row = {"account_id": account_id, "product_id": product_id, "first_day": day, "last_day": last_day, **values}
    store.insert(tx.connection, row)


def end_from(tx: Transaction, day: date, present: Any | None) -> None:
    """Let an allocation be nothing any more from a day on."""
    if present is None:
        return
    generations.renew(tx, "allocations")
    if present.first_day == day:
        store.delete(tx.connection, present.id)
    else:
        store.update(tx.connection, present.id, {"last_day": day - timedelta(days=1)})


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
