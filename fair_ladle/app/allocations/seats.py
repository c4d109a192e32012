"""Caps that follow seats: how many units of the counted product are in use where they count.

That is Σ own of an account's branch over the accounts that use the same pools of both products as it does. Trusted: the
caller has judged scope.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.allocations import store
from fair_ladle.app.plumbing.database import Transaction, batched
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Pool, Product
from fair_ladle.app.usage import service as usage
from fair_ladle.core.allocations import Grid, Version
from fair_ladle.core.calendar import Day
from fair_ladle.core.clocks import Steps, total
from fair_ladle.core.settling import Roots, pool_of, seats_of_branches
from fair_ladle.core.tree import Ints


def products(tx: Transaction, codes: Iterable[str]) -> list[Product]:
    """Counted products that caps follow, by their codes."""
    return [pools_service.product(tx, code) for code in sorted(codes)]


def owners(tx: Transaction, accounts: Accounts, wanted: Sequence[Product]) -> dict[str, list[int]]:
    """The rows of the accounts that own a pool, by product (code)."""
    found: dict[str, list[int]] = {each.code: [] for each in wanted}
    for pool in pools_service.pools(tx, list(wanted)):
        if pool.owner_id in accounts.row_of_id:
            found[pool.product.code].append(accounts.row_of_id[pool.owner_id])
    return found


def of_cells(
    accounts: Accounts, roots: Roots, grid: Grid, own: Mapping[str, Ints], begin: Mapping[str, Collection[int]]
) -> dict[tuple[int, int], int]:
    """The seats that each cell's cap follows: ``own`` has the units in use of each account, ``begin`` the rows where
    pools begin, by counted product (code)."""
    found: dict[tuple[int, int], int] = {}
    branches: dict[tuple[str, int], Ints] = {}
    for (row, column), each in grid.following.items():
        at = each.per, column
        if at not in branches:
            here = {*begin[each.per], *roots.rows[roots.columns == column].tolist()}
            branches[at] = seats_of_branches(accounts.tree, own[each.per][:, None], here)[:, 0]
        found[row, column] = int(branches[at][row])
    return found


def of_days(
    tx: Transaction,
    accounts: Accounts,
    roots: Roots,
    grid: Grid,
    days: Sequence[Day],
    ids: Collection[int] | None,
) -> dict[tuple[int, int], int]:
    """The unit-seconds that each cell's cap follows, of one product over days (the grid's columns)."""
    if not grid.following:
        return {}
    wanted = products(tx, grid.followed)
    begin = owners(tx, accounts, wanted)
    branches = {
        each.code: seats_of_branches(
            accounts.tree,
            usage.own_by_day(tx, accounts, each, days, ids),
            {*begin[each.code], *roots.rows.tolist()},
        )
        for each in wanted
    }
    return {at: int(branches[each.per][at]) for at, each in grid.following.items()}


class SeatsOverTime:
    """The seats that caps of one storage product followed, up to an instant."""

    def __init__(self, tx: Transaction, accounts: Accounts, owner: Ints, versions: Mapping[int, Sequence[Version]]):
        """``owner``: the row of the owner of the storage pool that serves each account; ``versions`` of its
        allocations, by row."""
        self._tx, self._accounts, self._owner = tx, accounts, owner
        codes = {each.per for mine in versions.values() for each in mine if each.per is not None}
        self._products = {each.code: each for each in products(tx, codes)}
        self._pool_of = {
            code: pool_of(accounts.tree, Roots.of([(row, 0) for row in rows]), 1)[:, 0]
            for code, rows in owners(tx, accounts, list(self._products.values())).items()
        }

    def of(self, row: int, versions: Sequence[Version]) -> dict[str, Steps]:
        """What the caps of an account's versions follow, over time, by counted product (code)."""
        return {
            code: self._steps(row, code) for code in sorted({each.per for each in versions if each.per is not None})
        }

    def _steps(self, row: int, code: str) -> Steps:
        pools, product = self._pool_of[code], self._products[code]
        if int(pools[row]) < 0:
            return Steps.nothing()
        branch = [
            int(each)
            for each in self._accounts.tree.branch(row)
            if int(pools[each]) == int(pools[row]) and int(self._owner[each]) == int(self._owner[row])
        ]
        own = usage.own_over_time(self._tx, self._accounts, product, branch, self._tx.now)
        return total(list(own.values()))


Followed = tuple[int, int, str]
"""Storage pool, account, and the counted product (code) whose seats its cap follows."""


@dataclass(frozen=True)
class Asked:
    """Whose branches' use says how many seats caps follow: by seat pool and account, the caps it is added to (1) or
    taken off (-1), and the owners of the seat pools."""

    signs: dict[tuple[int, int], list[tuple[int, Followed]]]
    owner_of: dict[int, int]

    def counted(self, cells: Collection[Followed], used: Mapping[tuple[int, int], int]) -> dict[Followed, int]:
        """The seats of these caps."""
        found = dict.fromkeys(cells, 0)
        for at, every in self.signs.items():
            for sign, cell in every:
                found[cell] += sign * used[at]
        return found


def now(tx: Transaction, cells: Collection[Followed]) -> dict[Followed, int]:
    """The seats that caps follow now: what is added up, and what was taken or released since."""
    if not cells:
        return {}
    plan = asked(tx, cells)
    return plan.counted(cells, branch_use(tx, accounts_service.known(tx), plan.signs, plan.owner_of))


def asked(tx: Transaction, cells: Collection[Followed]) -> Asked:
    """What has to be read for them."""
    if not cells:
        return Asked({}, {})
    accounts = accounts_service.known(tx)
    wanted = {each.code: each for each in products(tx, {code for _, _, code in cells})}
    seat_pools: dict[str, dict[int, Pool]] = defaultdict(dict)
    for pool in pools_service.pools(tx, list(wanted.values())):
        seat_pools[pool.product.code][pool.owner_id] = pool
    stores = {
        pool.id: pool for pool in pools_service.pools(tx, [e for e in pools_service.products(tx) if e.is_storage])
    }
    signs: dict[tuple[int, int], list[tuple[int, Followed]]] = defaultdict(list)
    for cell in cells:
        pool_id, account_id, code = cell
        row = accounts.row_of_id[account_id]
        above = (int(accounts.ids[each]) for each in accounts.tree.path_up(row))
        serving = next((seat_pools[code][each] for each in above if each in seat_pools[code]), None)
        if serving is None:
            continue
        signs[serving.id, account_id].append((1, cell))
        product_id = stores[pool_id].product.id
        begin = {
            accounts.row_of_id[each.owner_id]
            for each in stores.values()
            if each.product.id == product_id and each.owner_id in accounts.row_of_id
        }
        for each in _taken_off(accounts, row, begin):
            signs[serving.id, int(accounts.ids[each])].append((-1, cell))
    owner_of = {pool.id: pool.owner_id for by in seat_pools.values() for pool in by.values()}
    return Asked(dict(signs), owner_of)


def _taken_off(accounts: Accounts, row: int, begin: Collection[int]) -> list[int]:
    """The topmost accounts below one where another pool of the storage begins: what is in their branches is not that
    one's."""
    found = []
    for each in begin:
        path = accounts.tree.path_up(each)
        if each != row and row in path and not set(begin) & set(path[1 : path.index(row)]):
            found.append(each)
    return found


def of_day_end(
    tx: Transaction,
    accounts: Accounts,
    cells: Mapping[tuple[int, int], tuple[Product, int, str]],
    use: Mapping[str, Callable[[Ints], Ints]],
) -> dict[tuple[int, int], int]:
    """The seats that caps followed at the end of a day: ``cells`` has the storage product, the row in the tree of that
    day and the counted product (code) of each, ``use`` Σ own of the branches of accounts (ids) by counted product."""
    per = products(tx, use)
    begin = owners(tx, accounts, [*per, *{product.id: product for product, _, _ in cells.values()}.values()])
    pools = {
        each.code: pool_of(accounts.tree, Roots.of([(row, 0) for row in begin[each.code]]), 1)[:, 0] for each in per
    }
    found = {}
    for cell, (product, row, code) in cells.items():
        serving = pools[code]
        off = [each for each in _taken_off(accounts, row, begin[product.code]) if serving[each] == serving[row]]
        mine, *others = use[code](accounts.ids[[row, *off]]).tolist()
        found[cell] = mine - sum(others) if int(serving[row]) >= 0 else 0
    return found


def branch_use(
    tx: Transaction, accounts: Accounts, cells: Collection[tuple[int, int]], owner_of: Mapping[int, int]
) -> dict[tuple[int, int], int]:
    """Σ own of the branches of these cells (pool, account), each within its pool, whose owners ``owner_of`` has: what
    is added up already, and what was taken or released since."""
    used = dict.fromkeys(cells, 0)
    for keys in batched(cells):
        inside = set(keys)
        for pool_id, account_id, figure, is_change in store.branch_use_of(tx.connection, keys, list(owner_of)):
            if not is_change:
                used[pool_id, account_id] += figure
                continue
            for row in (
                accounts.tree.path_up(accounts.row_of_id[account_id]) if account_id in accounts.row_of_id else ()
            ):
                above = int(accounts.ids[row])
                if (pool_id, above) in inside:
                    used[pool_id, above] += figure
                if above == owner_of[pool_id]:
                    break
    return used
