"""Reports of accounts that nobody knows: listed, recorded once there is such an account, or dropped."""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.assignments import storing
from fair_ladle.app.log import service as log_service
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.prepared import in_utc
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.storage_systems import store
from fair_ladle.app.storage_systems.tables import unplaced_reports

MOST_LISTED, AT_ONCE = 500, 5000


@dataclass(frozen=True)
class Unplaced:
    """Reports of one account as it was reported."""

    account: str
    product: Product
    reports: int
    series: int
    newest: datetime
    now_known: bool


def listing(tx: Transaction, actor: Actor) -> tuple[int, list[Unplaced]]:
    """How many reports there are, and by account."""
    accounts = accounts_service.known(tx)
    top = accounts_service.top_row(accounts, actor)
    inside = accounts_service.in_branch(accounts, top, unplaced_reports.c.key_account_id)
    total, rows = store.unplaced(tx.connection, inside, MOST_LISTED)
    products = {each.id: each for each in pools_service.products(tx)}
    return total, [
        Unplaced(
            row.account,
            products[row.product_id],
            row.reports,
            row.series,
            in_utc(row.newest),
            any(_is_below(accounts, row.account, each) for each in json.loads(row.key_account_ids)),
        )
        for row in rows
    ]


def act(tx: Transaction, actor: Actor, what: str, names: Sequence[str]) -> tuple[int, int]:
    """Record reports of these accounts where they stand in the branch of the key by now (``place``), or keep them no
    longer; how many, and how many more there are than one act takes."""
    accounts = accounts_service.known(tx)
    top = accounts_service.top_row(accounts, actor)
    inside = accounts_service.in_branch(accounts, top, unplaced_reports.c.key_account_id)
    rows = store.unplaced_of(tx.connection, inside, names, AT_ONCE + 1)
    left, rows = max(0, len(rows) - AT_ONCE), rows[:AT_ONCE]
    if what == "place":
        rows = [row for row in rows if _is_below(accounts, row.account, row.key_account_id)]
        by_product: dict[int, list[dict[str, Any]]] = defaultdict(list)
        for row in rows:
            account_id = int(accounts.ids[accounts.tree.row(row.account)])
            at = in_utc(row.at)
            by_product[row.product_id].append(
                {"account_id": account_id, "category": row.category, "at": at, "bytes": row.bytes}
            )
        products = {each.id: each for each in pools_service.products(tx)}
        for product_id, mine in sorted(by_product.items()):
            storing.report_sizes(tx, products[product_id], mine)
    store.drop_unplaced(tx.connection, [row.id for row in rows])
    if rows:
        said = "reports placed" if what == "place" else "reports dropped"
        account_id = int(accounts.ids[top])
        log_service.write(
            tx, actor, None, [log_service.Entry(said, ", ".join(names[:5]), account_id, None, {"reports": len(rows)})]
        )
    return len(rows), left


def _is_below(accounts: Accounts, account: str, key_account_id: int) -> bool:
    if account not in accounts.tree:
        return False
    above = accounts.row_of_id.get(key_account_id)
    return above is not None and above in accounts.tree.path_up(accounts.tree.row(account))
