"""When what a branch may store is full, at the pace of the last week, month and quarter.

Reckoned for every branch at once by a job, from the counters' caps and what is kept of each account's bytes; screens
read it by index. Locks: none but the rows it writes, which nobody else does.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.allocations import service as allocations
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.pools.service import Product
from fair_ladle.app.storage import store
from fair_ladle.app.storage.rows import ForecastRecord
from fair_ladle.app.storage.tables import storage_forecasts
from fair_ladle.app.usage import service as usage
from fair_ladle.core.filling import Filling, filling

FURTHEST = timedelta(days=365)
SPANS = (7, 30, 90)
"""Days over which a pace is taken."""


@dataclass(frozen=True)
class Full:
    """A branch that is full at the present pace: what it stores of how much (grains), and when."""

    product_id: int
    account_id: int
    grains: int
    most: int
    filling: Filling


def keep(tx: Transaction, product: Product) -> None:
    """Reckon a product anew, and write what differs."""
    today = accounts_service.today(tx)
    sizes = {
        row.account_id: [int(row.bytes), int(row.week_ago), int(row.month_ago), int(row.quarter_ago)]
        for row in store.of_accounts(tx.connection, product.id)
    }
    found: dict[int, dict[str, Any]] = {}
    sums: dict[tuple[int, int], list[int]] = {}
    for row in allocations.limits_in_pools(tx, product):  # those below first
        mine = sums.pop((row.pool_id, row.account_id), [0, 0, 0, 0])
        mine = [a + b for a, b in zip(mine, sizes.get(row.account_id, (0, 0, 0, 0)), strict=True)]
        if row.parent_id is not None:
            above = sums.setdefault((row.pool_id, row.parent_id), [0, 0, 0, 0])
            sums[row.pool_id, row.parent_id] = [a + b for a, b in zip(above, mine, strict=True)]
        limits = [int(each) for each in (row.cap, row.physical) if each is not None]
        now, *back = (usage.grains(each) for each in mine)
        if not limits or now >= min(limits):
            continue
        full = filling(now, min(limits), [(now - was, days) for was, days in zip(back, SPANS, strict=True)], today)
        if full.day is not None and full.soonest is not None and full.day <= today + FURTHEST:
            found[row.account_id] = {
                "grains": now,
                "most": min(limits),
                "full_on": full.day,
                "soonest": full.soonest,
                "latest": full.latest,
            }
    store.put_forecasts(tx.connection, product.id, found)


def soon(tx: Transaction, accounts: Accounts, row: int, within: timedelta, most: int) -> list[Full]:
    """The branches at and below one that are full within so long, the soonest first."""
    inside = accounts_service.in_branch(accounts, row, storage_forecasts.c.account_id)
    return [
        _full(each)
        for each in store.forecasts(tx.connection, inside, accounts_service.today(tx) + within, most)
        if each.account_id in accounts.row_of_id
    ]


def _full(row: ForecastRecord) -> Full:
    return Full(row.product_id, row.account_id, row.grains, row.most, Filling(row.full_on, row.soonest, row.latest))
