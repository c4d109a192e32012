"""What a seller earns: by product what its buyers are charged against what that cost, and what its pools cost without
anybody holding it, month by month.

Of usage alone: charges, discounts and credits belong to no product.
"""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass
from datetime import date
from decimal import Decimal

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.statements import store
from fair_ladle.app.statements.billing import BillingPeriod, parse_month
from fair_ladle.app.statements.month_totals import PoolMonth
from fair_ladle.app.statements.totals import product_totals
from fair_ladle.core.calendar import month_before

MONTHS_SHOWN = 12


@dataclass(frozen=True)
class Margin:
    """What a seller charges for a product in a currency, to how many buyers, and what that cost it; None where that is
    not known of all of them."""

    seller: str
    seller_name: str
    product: str
    product_name: str
    currency: str
    buyers: int
    charged: Decimal
    cost: Decimal | None


@dataclass(frozen=True)
class PoolRow:
    """A pool's month, and what of its cost was idle in this month and those before it (None = not kept), the earliest
    first."""

    owner_name: str
    product_name: str
    month: PoolMonth
    idle: list[Decimal | None]


@dataclass(frozen=True)
class PoolMonths:
    """A month of the pools of a branch; ``months`` are those of which idle cost is told, the last of them this one."""

    rows: list[PoolRow]
    months: list[date]


def _inside(tx: Transaction, actor: Actor, first: date, last: date) -> tuple[Accounts, dict[str, int]]:
    """The accounts of a month, and the rows of those of the actor's branch by code, its top first."""
    accounts = BillingPeriod(tx, first, last).accounts
    rows = accounts.tree.branch(accounts_service.top_row(accounts, actor)).tolist()
    return accounts, {accounts.tree.codes[row]: row for row in rows}


def margins(tx: Transaction, actor: Actor, month: str) -> list[Margin]:
    """What every seller of the actor's branch earns in a month, by product. Nothing of who sells to the branch is
    told."""
    first, last = parse_month(month)
    accounts, inside = _inside(tx, actor, first, last)
    tree, top = accounts.tree, accounts_service.top_row(accounts, actor)
    rows: list[Margin] = []
    for product in pools_service.products(tx):
        found = product_totals(tx, product, first, last)
        of: dict[tuple[int, str], list[tuple[Decimal, Decimal | None]]] = defaultdict(list)
        for buyer, (amount, currency) in found.amounts.items():
            if buyer in inside and inside[buyer] != top:
                of[int(tree.parent[inside[buyer]]), currency].append((amount, found.costs[buyer]))
        for (seller, currency), amounts in sorted(of.items()):
            costs = [cost for _, cost in amounts if cost is not None]
            rows.append(
                Margin(
                    tree.codes[seller],
                    accounts.name(seller),
                    product.code,
                    product.name,
                    currency,
                    len(amounts),
                    sum((amount for amount, _ in amounts), Decimal(0)),
                    sum(costs, Decimal(0)) if len(costs) == len(amounts) else None,
                )
            )
    return rows


def pools(tx: Transaction, actor: Actor, month: str) -> PoolMonths:
    """What the pools of the actor's branch cost in a month, and what of that was idle over twelve."""
    first, last = parse_month(month)
    accounts, inside = _inside(tx, actor, first, last)
    found = [
        (product.name, each)
        for product in pools_service.products(tx)
        for each in product_totals(tx, product, first, last).pools
        if each.owner in inside
    ]
    months = [first]
    while len(months) < MONTHS_SHOWN:
        months.insert(0, month_before(months[0]))
    owners = sorted({int(accounts.ids[inside[each.owner]]) for _, each in found})
    kept = store.kept_idle(tx.connection, owners, months[0], first)
    return PoolMonths(
        [
            PoolRow(
                accounts.name(inside[each.owner]),
                name,
                each,
                [*(kept.get((day, each.product, each.owner, each.currency)) for day in months[:-1]), each.idle],
            )
            for name, each in found
        ],
        months,
    )
