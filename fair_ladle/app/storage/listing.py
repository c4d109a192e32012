"""Where the bytes sit, as lists by window: of a branch's accounts, people, shared folders and categories."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from typing import Any, Literal

import numpy as np

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.allocations import present
from fair_ladle.app.allocations.snapshots import product_in_sight, products_in_sight
from fair_ladle.app.people.groups import Groups
from fair_ladle.app.personal_storage.in_sql import ACCOUNT, GROUP, LimitsInSql, limits_in_sql
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.prepared import in_utc
from fair_ladle.app.plumbing.problems import invalid
from fair_ladle.app.pools.service import Product
from fair_ladle.app.storage import store
from fair_ladle.app.storage.rows import BranchSize
from fair_ladle.app.usage import service as usage
from fair_ladle.app.usage.stored import grains
from fair_ladle.app.usage.tables import stored
from fair_ladle.app.usage.whose import whose
from fair_ladle.core.filling import Filling, filling
from fair_ladle.core.settling import NO_LIMIT
from fair_ladle.core.tree import Ints

Show = Literal["all", "near", "over", "growing", "untouched", "nobody"]
ShowAccounts = Literal["all", "near", "over", "growing"]
Order = Literal["size", "week", "month", "quarter", "share", "used"]
COLUMN_OF = {
    "size": "bytes",
    "week": "week_ago",
    "month": "month_ago",
    "quarter": "quarter_ago",
    "share": "share",
    "used": "used_at",
}
KIND_OF = {"people": "person", "folders": "folder", "categories": "category"}
COUNTED, YEAR, EXPORTED_AT_ONCE = 10_000, timedelta(days=365), 2000


@dataclass(frozen=True)
class Size:
    """Grains stored now, and a week, a month and a quarter ago."""

    now: int
    week_ago: int
    month_ago: int
    quarter_ago: int

    @staticmethod
    def of(row: Any) -> Size:
        """Of a row with bytes."""
        return Size(*(grains(int(getattr(row, name))) for name in ("bytes", "week_ago", "month_ago", "quarter_ago")))


@dataclass(frozen=True)
class Row:
    """One of a list. ``account`` and its name say where it sits; ``name`` is the account's code (empty: the account
    itself without those below it), the username, the folder's code or the category. ``limit`` (None = none in sight) is
    a cap or a personal limit, ``source`` says which. ``here`` is False of a person whose bytes were left behind in an
    account that is no longer theirs: of them no more is told than the username under which they stored them; and of a
    folder that nobody of the account looks after. ``owner`` is who does, of a folder, and ``stands`` whether that is
    archived, or to be deleted."""

    account: str
    account_name: str
    name: str
    title: str
    size: Size
    limit: int | None
    source: str | None
    state: str | None
    here: bool
    at: datetime | None
    used_at: datetime | None
    owner: str | None = None
    stands: Literal["archived", "deleted"] | None = None


@dataclass(frozen=True)
class Rows:
    """A window of a list; ``total`` is counted no further than COUNTED."""

    rows: list[Row]
    total: int


@dataclass(frozen=True)
class Total:
    """What a branch stores in all, of its cap (None = none in sight), and what of it is whose; when it is full at the
    pace of the last weeks."""

    product: Product
    account: str
    account_name: str
    parent: str | None
    size: Size
    cap: int | None
    state: str
    personal: Size
    shared: Size
    left_behind: Size
    other: Size
    full: Filling | None


def storage_products(tx: Transaction, actor: Actor) -> list[Product]:
    """The storage products that reach the actor's branch, or begin in it."""
    return [each for each in products_in_sight(tx, actor) if each.is_storage]


def product_of(tx: Transaction, actor: Actor, code: str) -> Product:
    """One of them."""
    found, _ = product_in_sight(tx, actor, code)
    if not found.is_storage:
        raise invalid(f"{found.name} is not storage.", "product")
    return found


def total(tx: Transaction, actor: Actor, product: str, account: str) -> Total:
    """What an account of the actor's branch stores with all below it."""
    wanted = product_of(tx, actor, product)
    accounts = accounts_service.known(tx)
    row = accounts_service.row_in_scope(accounts, actor, account)
    inside = accounts_service.in_branch(accounts, row, stored.c.account_id)
    sums = store.totals(tx.connection, wanted.id, inside, whose(tx), row == 0)
    figures = {kind: [int(getattr(each, name)) for name in ("bytes", *store.BACK)] for kind, each in sums.items()}
    shared, other, left = figures["folder"], figures["category"], figures["left"]
    personal = [whole - sum(others) for whole, *others in zip(figures[""], shared, other, left, strict=True)]
    found = present.positions(tx, [wanted], [row], use=True)
    place = found.snapshot.accounts.tree.row(account)
    reached = int(found.snapshot.owner[place, 0]) >= 0
    cap = int(found.snapshot.grid.cap[place, 0])
    own_cap = cap if reached and cap < NO_LIMIT else None
    size = _size(figures[""])
    top = accounts_service.top_row(accounts, actor)
    above = int(accounts.tree.parent[row])
    limit = own_cap
    if int(found.snapshot.owner[place, 0]) == place:
        supply = int(found.snapshot.supply.physical[found.pool_at(place, 0)])
        limit = supply if own_cap is None else min(own_cap, supply)
    return Total(
        wanted,
        account,
        accounts.name(row),
        None if row == top or above < 0 else accounts.tree.codes[above],
        size,
        limit,
        found.states()[place][0] if reached else "within",
        _size(personal),
        _size(shared),
        _size(left),
        _size(other),
        None if limit is None else filling(size.now, limit, _paces(size), accounts_service.today(tx)),
    )


def _size(figures: Sequence[int]) -> Size:
    return Size(*(grains(each) for each in figures))


def _paces(size: Size) -> list[tuple[int, int]]:
    """By how many grains it grew in so many days."""
    return [(size.now - size.week_ago, 7), (size.now - size.month_ago, 30), (size.now - size.quarter_ago, 90)]


def inside_of(
    tx: Transaction, actor: Actor, product: str, account: str, kind: str, show: Show, order: Order, find: str
) -> tuple[store.Asked, LimitsInSql | None, Accounts]:
    """What is asked for of people, folders or categories, and the limits it goes by."""
    wanted = product_of(tx, actor, product)
    accounts = accounts_service.known(tx)
    row = accounts_service.row_in_scope(accounts, actor, account)
    limits = limits_in_sql(tx, accounts, wanted) if kind == "person" else None
    inside, is_whole = accounts_service.in_branch(accounts, row, stored.c.account_id), row == 0
    if is_whole and limits and not limits.needs_people and show in ("near", "over"):
        # Where few accounts have a limit, only what is stored there is gone through.
        tops = [accounts.row_of_id[layer.number] for layer in limits.layers if layer.kind == ACCOUNT]
        if sum(int(accounts.tree.branch_size[top]) for top in tops) <= FEW_ACCOUNTS:
            reached = {int(each) for top in tops for each in accounts.ids[accounts.tree.branch(top)]}
            inside, is_whole = stored.c.account_id.in_(sorted(reached)), False
    if kind == "category" and (show in ("near", "over", "nobody") or order == "share"):
        raise invalid("Categories have no limit and no owner; choose people or folders.", "show")
    asked = store.Asked(
        wanted.id,
        kind,
        inside,
        show,
        COLUMN_OF[order],
        find.split()[:10],
        limits.grains if limits else None,
        limits.layer if limits else None,
        limits is not None and limits.needs_people,
        tx.now - YEAR,
        whose(tx),
        is_whole,
    )
    return asked, limits, accounts


FEW_ACCOUNTS = 2000


def holders(
    tx: Transaction,
    actor: Actor,
    product: str,
    account: str,
    what: str,
    show: Show,
    order: Order,
    find: str,
    offset: int,
    limit: int,
) -> Rows:
    """A window of the people, folders or categories of a branch."""
    asked, limits, accounts = inside_of(tx, actor, product, account, KIND_OF[what], show, order, find)
    rows = store.rows(tx.connection, asked, offset, limit)
    told = _Sources(tx, actor, accounts, limits)
    return Rows([told.row(each) for each in rows], store.count(tx.connection, asked, COUNTED))


def every_holder(
    tx: Transaction, actor: Actor, product: str, account: str, what: str, show: Show, order: Order, find: str
) -> Iterator[Row]:
    """All of them, window by window."""
    asked, limits, accounts = inside_of(tx, actor, product, account, KIND_OF[what], show, order, find)
    told, after = _Sources(tx, actor, accounts, limits), 0
    while True:
        rows = store.rows(tx.connection, asked, after, EXPORTED_AT_ONCE)
        yield from (told.row(each) for each in rows)
        after += EXPORTED_AT_ONCE
        if len(rows) < EXPORTED_AT_ONCE:
            return


class _Sources:
    """Says which layer a limit comes from, as to the actor."""

    def __init__(self, tx: Transaction, actor: Actor, accounts: Accounts, limits: LimitsInSql | None):
        self.accounts, self.limits = accounts, limits
        self.top = accounts_service.top_row(accounts, actor)
        self.groups = {each.id: each for each in Groups.read(tx, accounts).every} if limits else {}

    def row(self, row: Any) -> Row:
        """A row of the store as it is told."""
        is_person, is_folder = row.kind == "person", row.kind == "folder"
        limit = None if row.kind == "category" or row.limit is None else int(row.limit)
        size = Size.of(row)
        state = None
        if limit is not None:
            state = "over" if size.now > limit else "near" if limit and size.now * 10 >= limit * 9 else "within"
        return Row(
            row.account,
            self.accounts.full_name(self.accounts.row_of_id[row.account_id], self.top),
            row.name,
            row.display_name if is_person and row.is_here else (is_folder and row.folder_name) or row.name,
            size,
            limit,
            None if limit is None else "its own limit" if is_folder else self._source(int(row.layer)),
            state,
            row.kind == "category" or bool(row.is_here),
            in_utc(row.at),
            None if row.used_at is None else in_utc(row.used_at),
            row.display_name if is_folder and row.is_here else None,
            None if not is_folder or row.archived_at is None else "deleted" if row.gone_at else "archived",
        )

    def _source(self, place: int) -> str:
        assert self.limits is not None
        layer = self.limits.layers[place]
        if layer.kind == GROUP:
            group = self.groups[layer.number]
            is_mine = self._is_inside(self.accounts.row_of_id[group.account_id])
            return f"group {group.name}" if is_mine else "set above this branch"
        if layer.kind == ACCOUNT:
            row = self.accounts.row_of_id[layer.number]
            return f"default of {self.accounts.name(row)}" if self._is_inside(row) else "set above this branch"
        return "set for them"

    def _is_inside(self, row: int) -> bool:
        return self.top in self.accounts.tree.path_up(row)


def children(
    tx: Transaction,
    actor: Actor,
    product: str,
    account: str,
    show: ShowAccounts,
    order: Order,
    offset: int,
    limit: int,
) -> Rows:
    """A window of the accounts directly below one that store something, each with all below it, and of it itself."""
    wanted = product_of(tx, actor, product)
    accounts = accounts_service.known(tx)
    row = accounts_service.row_in_scope(accounts, actor, account)
    path, column = accounts.facts[row].path, COLUMN_OF[order]
    if show in ("near", "over") or order == "share":
        count, found = store.children_by_cap(tx.connection, wanted.id, path, show, column, limit, offset)
    else:
        tops, sums = _sums_below(tx, accounts, row, wanted)
        now, _, month_ago, _ = sums.T
        if show == "growing":
            some = store.is_growing(now, month_ago)
            tops, sums = tops[some], sums[some]
        key = sums[:, 0] if order == "size" else sums[:, 0] - sums[:, 1 + store.BACK.index(column)]
        # In tree order where it is the same.
        window = np.argsort(-key, kind="stable")[offset : offset + limit]
        count = len(tops)
        found = [BranchSize(accounts.facts[tops[each]].path, *sums[each].tolist()) for each in window.tolist()]
    rows = [accounts.row_of_id[int(each.path[-store.PLACES :], 36)] for each in found]
    positions = present.positions(tx, [wanted], rows) if rows else None
    made = []
    for each, at in zip(found, rows, strict=True):
        assert positions is not None
        code, itself = accounts.tree.codes[at], at == row
        place = positions.snapshot.accounts.tree.row(code)
        cap = int(positions.snapshot.grid.cap[place, 0])
        made.append(
            Row(
                code,
                accounts.name(at),
                "" if itself else code,
                f"{accounts.name(at)} itself" if itself else accounts.name(at),
                Size.of(each),
                None if itself or cap >= NO_LIMIT else cap,
                None,
                None if itself else positions.states()[place][0],
                True,
                None,
                None,
            )
        )
    return Rows(made, count)


MOST_AS_INTS = 2.0**62
"""Sums of bytes below this are certain to be whole numbers of the machine."""


def _sums_below(tx: Transaction, accounts: Accounts, row: int, product: Product) -> tuple[Ints, Ints]:
    """The rows of an account and of those directly below it, in tree order, where there was anything; and what is
    stored in the branch of each (of the first without those below it), now and a while ago: accounts × 4."""
    tree, inside = accounts.tree, accounts_service.in_branch(accounts, row, stored.c.account_id)
    sizes = store.in_branch(tx.connection, product.id, inside, row == 0)
    sizes = sizes[np.isin(sizes[:, 0], accounts.ids)]
    below = np.flatnonzero(tree.parent == row)
    below = below[np.argsort(tree.depth_first[below])]
    places = tree.depth_first[accounts.rows(sizes[:, 0])]
    whose = np.searchsorted(tree.depth_first[below], places, side="right")  # 0 = the account itself
    fits = np.abs(sizes[:, 1:]).sum(dtype=np.float64) < MOST_AS_INTS
    figures = sizes[:, 1:] if fits else sizes[:, 1:].astype(object)
    sums = np.zeros((len(below) + 1, 4), dtype=figures.dtype)
    np.add.at(sums, whose, figures)
    some = np.unique(whose)
    return np.r_[row, below][some], sums[some]


def every_child(
    tx: Transaction, actor: Actor, product: str, account: str, show: ShowAccounts, order: Order
) -> Iterator[Row]:
    """All of them, window by window."""
    after = 0
    while True:
        found = children(tx, actor, product, account, show, order, after, EXPORTED_AT_ONCE)
        yield from found.rows
        after += EXPORTED_AT_ONCE
        if after >= found.total:
            return


@dataclass(frozen=True)
class Detail:
    """What one person, folder or category stores: category by category (grains), and all together at the end of every
    day on which it changed, the first of them what it was before. ``members`` are those of a folder: who wrote to it
    (username, name, grains), largest first, and the others of its group."""

    categories: list[tuple[str, int]]
    days: list[tuple[date, int]]
    members: list[tuple[str, str, int]]


def detail(tx: Transaction, actor: Actor, product: str, account: str, what: str, name: str) -> Detail:
    """One of a list, looked at closely."""
    wanted = product_of(tx, actor, product)
    accounts = accounts_service.known(tx)
    row = accounts_service.row_in_scope(accounts, actor, account)
    since = accounts_service.today(tx) - timedelta(days=DETAILED_DAYS)
    categories, days = usage.stored_over_time(tx, wanted, int(accounts.ids[row]), KIND_OF[what], name, since)
    members = _members(tx, accounts, wanted, row, name, categories) if what == "folders" else []
    return Detail(categories, days, members)


DETAILED_DAYS, MOST_MEMBERS = 395, 200


def _members(
    tx: Transaction, accounts: Accounts, product: Product, row: int, code: str, categories: Sequence[tuple[str, int]]
) -> list[tuple[str, str, int]]:
    """Who wrote how much to a folder, and who of its group wrote nothing; people of the account and those below it."""
    wrote: dict[str, int] = defaultdict(int)
    for category, size in categories:
        parts = category.split("/")
        if len(parts) > 2:
            wrote[parts[2]] += size
    group_id = store.group_of_folder(tx.connection, product.id, int(accounts.ids[row]), code)
    every = Groups.read(tx, accounts)
    group = next((each for each in every.every if each.id == group_id), None)
    ids = [] if group is None else store.first(tx.connection, every.members(group), MOST_MEMBERS)
    largest = sorted(wrote, key=lambda each: (-wrote[each], each))[:MOST_MEMBERS]
    people = store.people_of_folder(
        tx.connection, largest, ids, accounts_service.in_branch(accounts, row, store.p.c.account_id)
    )
    found = [(each.username, each.display_name, wrote[each.username]) for each in people]
    return sorted(found, key=lambda each: (-each[2], each[1]))
