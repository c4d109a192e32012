"""Queries over what is stored by whom."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.accounts.service import PAST_EVERY_PATH
from fair_ladle.app.accounts.tables import accounts
from fair_ladle.app.allocations.tables import counters
from fair_ladle.app.people.tables import people
from fair_ladle.app.plumbing.arrays import numbers
from fair_ladle.app.plumbing.database import batched, fetch
from fair_ladle.app.pools.tables import pools
from fair_ladle.app.storage.rows import (
    AccountSize,
    BranchSize,
    ForecastRecord,
    KindTotal,
    NamedPerson,
)
from fair_ladle.app.storage.tables import shared_folders, storage_forecasts
from fair_ladle.app.usage.tables import storage_samples, stored
from fair_ladle.app.usage.whose import Ownership
from fair_ladle.core.quantities import BYTES_PER_GRAIN
from fair_ladle.core.tree import Ints

k, a, p, s, f = stored, accounts, people, storage_samples, shared_folders
TRUE = sa.true()
BACK = ("week_ago", "month_ago", "quarter_ago")
LOOKED_AFTER = sa.and_(p.c.account_id == k.c.account_id, p.c.status != "removed")
"""Who looks after a folder is one of the account where its bytes are."""
grains = (k.c.bytes + BYTES_PER_GRAIN // 2).op("DIV", precedence=8, return_type=sa.BigInteger())(BYTES_PER_GRAIN)


def totals(
    connection: sa.Connection, product_id: int, inside: sa.ColumnElement[bool], whose_is: Ownership, is_whole: bool
) -> dict[str, KindTotal]:
    """The sums of a branch (``inside`` is of stored.account_id; ``is_whole``: the whole tree): of everything (""), of
    folders, of categories and of what was left behind ("left")."""
    of_product = [k.c.product_id == product_id, inside]
    sums = [sa.func.coalesce(sa.func.sum(k.c[name]), 0).label(name) for name in ("bytes", *BACK)]

    def part(kind: str, rows: sa.FromClause, *where: Any) -> sa.Select[Any]:
        summed = sa.select(sa.literal(kind).label("kind"), *sums)
        if is_whole and (kind != "left" or whose_is.person_id is not None):
            summed = summed.with_hint(k, OF_NOBODY if kind == "left" else IN_ORDER, "mysql")
        return summed.select_from(rows).where(*of_product, *where)

    parts = [part(kind, k, k.c.kind == kind) for kind in ("", "folder", "category")]
    parts.append(part("left", whose_is.with_people(k), k.c.kind == "person", whose_is.left_behind))
    return {each.kind: each for each in fetch(connection, sa.union_all(*parts), KindTotal)}


def children_by_cap(
    connection: sa.Connection, product_id: int, path: str, show: str, order: str, limit: int, offset: int
) -> tuple[int, list[BranchSize]]:
    """How many of the accounts directly below one, and it itself, store something, and a window of them in an order,
    where their caps decide (those below the account alone have one): each one's ``path``, and the sums of its branch
    (of the account itself without those below it). ``show`` all, near their cap, over it, or growing; ``order`` bytes,
    a column of BACK, or share of the cap."""
    child = sa.func.substr(a.c.path, 1, len(path) + PLACES).label("path")
    sums = {name: sa.func.sum(k.c[name]) for name in ("bytes", *BACK)}
    of_each = (
        sa.select(child, *(each.label(name) for name, each in sums.items()))
        .select_from(a.join(k, sa.and_(k.c.account_id == a.c.id, k.c.product_id == product_id, k.c.kind == "")))
        .where(a.c.path.between(path, path + PAST_EVERY_PATH))
        .group_by(child)
    )
    if show == "growing":
        of_each = of_each.having(_growing(sums["bytes"], sums["month_ago"]))
    q, top = of_each.subquery("q"), accounts.alias("child")
    below = sa.and_(top.c.path == q.c.path, q.c.path != path)
    capped = sa.and_(
        counters.c.account_id == top.c.id,
        counters.c.pool_id.in_(sa.select(pools.c.id).where(pools.c.product_id == product_id)),
    )
    joined = q.outerjoin(top, below).outerjoin(counters, capped)
    held = sa.func.floor((q.c.bytes + BYTES_PER_GRAIN // 2) / BYTES_PER_GRAIN)
    cap = sa.func.max(counters.c.cap)
    wanted = sa.select(*q.c).select_from(joined).group_by(*q.c)
    if show in ("near", "over"):
        is_over = held > cap
        wanted = wanted.having(is_over if show == "over" else sa.and_(sa.not_(is_over), held * 10 >= cap * 9, cap > 0))
    keys: dict[str, sa.ColumnElement[Any]] = {
        "bytes": q.c.bytes,
        "share": held * sa.literal_column("1e0") / sa.func.greatest(cap, 1),
    }
    key = keys[order] if order in keys else q.c.bytes - q.c[order]
    count = connection.scalar(sa.select(sa.func.count()).select_from(wanted.subquery()))
    ordered = wanted.order_by(key.desc(), q.c.bytes.desc(), q.c.path)
    return int(count or 0), fetch(connection, ordered.limit(limit).offset(offset), BranchSize)


def is_growing(now: Any, month_ago: Any) -> Any:
    """Whether that is growing fast: numbers, or arrays of them."""
    return (now - month_ago > GROWING_BYTES) & ((now - month_ago) * 5 > month_ago)


def _growing(now: sa.ColumnElement[Any], month_ago: sa.ColumnElement[Any]) -> sa.ColumnElement[bool]:
    grown = now - month_ago
    return sa.and_(grown > GROWING_BYTES, grown * 5 > month_ago)


PLACES = 6
"""An account's own part of its path."""


@dataclass(frozen=True)
class Asked:
    """Which rows of stored are asked for, and in which order: ``kind`` of them, of a branch (``inside``), ``show``
    near, over, growing, untouched, nobody or all, ``order`` bytes, a column of BACK, share or used_at."""

    product_id: int
    kind: str
    inside: sa.ColumnElement[bool]
    show: str
    order: str
    words: Sequence[str]
    limit_of: sa.ColumnElement[int] | None
    layer_of: sa.ColumnElement[int] | None
    limit_needs_people: bool
    year_ago: datetime
    whose_is: Ownership
    is_whole: bool
    """The branch is the whole tree."""

    @property
    def by_limit(self) -> bool:
        """Whether limits decide which rows there are, or in which order."""
        return self.show in ("near", "over") or self.order == "share"

    @property
    def limited(self) -> sa.ColumnElement[Any]:
        """The limit of a row, in grains; NULL = none."""
        if self.kind == "folder":
            return f.c.grains
        return self.limit_of if self.limit_of is not None else sa.null()

    def with_whose(self, rows: sa.FromClause) -> sa.FromClause:
        """Rows of stored with who they are of: the person, or the folder and who looks after it."""
        if self.kind == "person":
            return rows.outerjoin(p, self.whose_is.is_theirs)
        if self.kind == "folder":
            same = sa.and_(f.c.account_id == k.c.account_id, f.c.product_id == k.c.product_id, f.c.code == k.c.name)
            return rows.outerjoin(f, same).outerjoin(p, p.c.id == f.c.owner_id)
        return rows

    def found_in(self, wanted: sa.Select[*tuple[Any, ...]]) -> sa.Select[*tuple[Any, ...]]:
        """What is asked of these rows, with whatever decides which they are. Where that is nothing but who stores how
        much, and the branch is the whole tree, an index has all of it."""
        rows: sa.FromClause = k.join(a, a.c.id == k.c.account_id) if self.words else k
        if self.words or self._asks_whose:
            rows = self.with_whose(rows)
        elif self.is_in_index:
            wanted = wanted.with_hint(k, IN_ORDER, "mysql")
        return wanted.select_from(rows).where(*_conditions(self))

    @property
    def _asks_whose(self) -> bool:
        by_whose = self.show == "nobody" or self.by_limit
        is_by_name = by_whose and (self.kind == "folder" or self.whose_is.person_id is None)
        return is_by_name or (self.by_limit and self.limit_needs_people)

    @property
    def is_in_index(self) -> bool:
        """Whether it is asked of the index of who stores how much alone, of the whole tree."""
        by_size = self.show in ("all", "near", "over", "growing") and self.order != "used_at"
        return self.is_whole and by_size and not (self.words or self._asks_whose)


def rows(connection: sa.Connection, asked: Asked, offset: int, limit: int) -> list[Any]:
    """A window of what is asked for, with whose it is and the limit: found first, and read of these rows only."""
    found = asked.found_in(sa.select(k.c.account_id, k.c.name)).order_by(*_order(asked))
    if asked.order in BACK and asked.is_in_index and offset + limit <= LOOKED_AT:
        found = found.where(k.c.bytes >= _grew_by_at_least(connection, asked, offset + limit))
    keys = [(row.account_id, row.name) for row in connection.execute(found.limit(limit).offset(offset))]
    if not keys:
        return []
    # By key, and more than is wanted: pairs in IN would read the whole table.
    of_keys = sa.and_(k.c.account_id.in_({each[0] for each in keys}), k.c.name.in_({each[1] for each in keys}))
    wanted = _with_whose(asked).where(k.c.product_id == asked.product_id, k.c.kind == asked.kind, of_keys)
    by_key = {(row.account_id, row.name): row for row in connection.execute(wanted)}
    return [by_key[each] for each in keys if each in by_key]


LOOKED_AT = 5000
"""Of the largest, to find what grew most."""


def _grew_by_at_least(connection: sa.Connection, asked: Asked, count: int) -> int:
    """Bytes by which so many have grown, at least: among the largest there are as many. Whoever grew by more stores
    more, so that nobody who stores less is among the first."""
    grew = (k.c.bytes - k.c[asked.order]).label("grew")
    largest = asked.found_in(sa.select(grew)).order_by(*LARGEST_FIRST).limit(LOOKED_AT).subquery()
    wanted = sa.select(largest.c.grew).order_by(largest.c.grew.desc()).limit(1).offset(count - 1)
    return int(connection.scalar(wanted) or 0)


def _with_whose(asked: Asked) -> sa.Select[Any]:
    mine = sa.select(k, a.c.code.label("account"))
    joined = mine.select_from(asked.with_whose(k.join(a, a.c.id == k.c.account_id)))
    if asked.kind == "category":
        return joined
    if asked.kind == "folder":
        of_folder = (
            f.c.name.label("folder_name"),
            f.c.grains.label("limit"),
            f.c.archived_at,
            f.c.delete_at.label("gone_at"),
        )
        return joined.add_columns(*of_folder, p.c.display_name, sa.case((LOOKED_AFTER, 1), else_=0).label("is_here"))
    return joined.add_columns(
        p.c.display_name,
        sa.case((p.c.id.is_not(None), asked.limited), else_=sa.null()).label("limit"),
        (asked.layer_of if asked.layer_of is not None else sa.literal(-1)).label("layer"),
        p.c.id.is_not(None).label("is_here"),
    )


def count(connection: sa.Connection, asked: Asked, most: int) -> int:
    """How many there are, counted no further than so many."""
    some = asked.found_in(sa.select(sa.literal(1))).limit(most).subquery()
    return int(connection.scalar(sa.select(sa.func.count()).select_from(some)) or 0)


def _conditions(asked: Asked) -> list[sa.ColumnElement[bool]]:
    found = [k.c.product_id == asked.product_id, k.c.kind == asked.kind, asked.inside]
    limited = asked.limited
    there = [sa.not_(asked.whose_is.left_behind)] if asked.kind == "person" else []
    if asked.show == "growing":
        found.append(_growing(k.c.bytes, k.c.month_ago))
    elif asked.show == "untouched":
        found += [k.c.bytes > 0, sa.func.coalesce(k.c.used_at, k.c.at) < asked.year_ago]
    elif asked.show == "over":
        found += [*there, k.c.bytes >= beyond(limited)]
    elif asked.show == "near":
        found += [*there, k.c.bytes >= near_from(limited), k.c.bytes < beyond(limited), limited > 0]
    elif asked.show == "nobody":
        nobody = asked.whose_is.left_behind
        if asked.kind == "folder":
            nobody = sa.or_(p.c.id.is_(None), sa.not_(LOOKED_AFTER))
        found += [k.c.bytes > 0, nobody]
    for word in asked.words:
        columns: list[sa.ColumnElement[Any]] = [k.c.name, a.c.name]
        if asked.kind == "person":
            columns.append(sa.func.coalesce(p.c.find_small, ""))
        elif asked.kind == "folder":
            columns.append(sa.func.coalesce(f.c.name, ""))
        found.append(sa.or_(*(sa.func.lower(each).contains(word.lower(), autoescape=True) for each in columns)))
    return found


GROWING_BYTES = 10**9
"""Growing fast is: by more than a fifth in a month, and by more than this."""


def _order(asked: Asked) -> list[sa.ColumnElement[Any]]:
    last = [k.c.account_id, k.c.name]
    if asked.order in BACK:
        return [(k.c.bytes - k.c[asked.order]).desc(), *last]
    if asked.order == "share":
        return [
            (grains * sa.literal_column("1e0") / sa.func.greatest(asked.limited, 1)).desc(),
            k.c.bytes.desc(),
            *last,
        ]
    if asked.order == "used_at":
        return [sa.func.coalesce(k.c.used_at, k.c.at), *last]
    return LARGEST_FIRST


LARGEST_FIRST: list[sa.ColumnElement[Any]] = [
    k.c[name].desc() for name in ("bytes", "person_id", *BACK, "account_id", "name")
]
"""As the index has them, read backwards."""


IN_ORDER = "FORCE INDEX (ix_stored_size)"
OF_NOBODY = "FORCE INDEX (ix_stored_person_id)"
"""The few that are nobody's by themselves: the server takes them for many while rows that got an owner are not cleared
away, and would read every row of the product."""


def beyond(limit: Any) -> Any:
    """The least bytes that are over a limit (grains)."""
    return limit * BYTES_PER_GRAIN + BYTES_PER_GRAIN // 2


def near_from(limit: Any) -> Any:
    """The least bytes that are near it."""
    nine_tenths = (
        -(-limit * 9 // 10) if isinstance(limit, int) else (limit * 9 + 9).op("DIV", precedence=8)(sa.literal(10))
    )
    return nine_tenths * BYTES_PER_GRAIN - BYTES_PER_GRAIN // 2


def of_accounts(connection: sa.Connection, product_id: int) -> list[AccountSize]:
    """account_id, and what each account itself stores now and a while ago, in bytes."""
    return fetch(connection, _of_accounts(product_id), AccountSize)


def in_branch(connection: sa.Connection, product_id: int, inside: sa.ColumnElement[bool], is_whole: bool) -> Ints:
    """The same of the accounts of a branch (``inside`` is of stored.account_id), as an array: accounts × 5."""
    wanted = _of_accounts(product_id).where(inside)
    return numbers(connection, wanted.with_hint(k, IN_ORDER, "mysql") if is_whole else wanted).T


def _of_accounts(product_id: int) -> sa.Select[Any]:
    wanted = sa.select(k.c.account_id, k.c.bytes, *(k.c[name] for name in BACK))
    return wanted.where(k.c.product_id == product_id, k.c.kind == "")


def held(connection: sa.Connection, product_id: int, inside: sa.ColumnElement[bool], most: int) -> int:
    """How many people, folders and categories of a branch store or stored something, counted up to so many."""
    some = sa.select(sa.literal(1)).where(k.c.product_id == product_id, k.c.kind != "", inside).limit(most).subquery()
    return int(connection.scalar(sa.select(sa.func.count()).select_from(some)) or 0)


def series(
    connection: sa.Connection, product_id: int, inside: sa.ColumnElement[bool], until: datetime, most: int
) -> list[tuple[int, str]]:
    """(account, category) of a branch (``inside`` is of the samples' account_id) with a sample up to an instant, so
    many at most."""
    wanted = sa.select(s.c.account_id, s.c.category).where(s.c.product_id == product_id, s.c.at <= until, inside)
    return [(row.account_id, row.category) for row in connection.execute(wanted.distinct().limit(most))]


@dataclass(frozen=True)
class Whose:
    """What a username is called, and the account in which they are present (None = in none)."""

    name: str
    account_id: int | None


def people_named(connection: sa.Connection, usernames: Collection[str]) -> dict[str, Whose]:
    """Who these usernames are."""
    found = {}
    for part in batched(sorted(usernames)):
        wanted = sa.select(p.c.username, p.c.display_name, p.c.account_id, p.c.status).where(p.c.username.in_(part))
        for row in connection.execute(wanted):
            found[row.username] = Whose(row.display_name, None if row.status == "removed" else row.account_id)
    return found


def group_of_folder(connection: sa.Connection, product_id: int, account_id: int, code: str) -> int | None:
    """The group whose a shared folder is (its number)."""
    mine = [f.c.product_id == product_id, f.c.account_id == account_id, f.c.code == code]
    found: int | None = connection.scalar(sa.select(f.c.group_id).where(*mine))
    return found


def first(
    connection: sa.Connection, numbers: sa.Select[tuple[int]] | sa.CompoundSelect[tuple[int]], most: int
) -> list[int]:
    """The first of some numbers that are asked for."""
    return list(connection.scalars(numbers.limit(most)))


def people_of_folder(
    connection: sa.Connection, usernames: Sequence[str], ids: Sequence[int], inside: sa.ColumnElement[bool]
) -> list[NamedPerson]:
    """Username and name of people of a branch (``inside`` is of people.account_id) by username or number."""
    if not usernames and not ids:
        return []
    named = sa.or_(p.c.username.in_(usernames), p.c.id.in_(ids))
    return fetch(connection, sa.select(p.c.username, p.c.display_name).where(named, inside), NamedPerson)


def put_forecasts(connection: sa.Connection, product_id: int, wanted: dict[int, dict[str, Any]]) -> None:
    """Keep these forecasts of a product, by account, and no others."""
    kept = storage_forecasts
    there = {
        row.account_id: {name: getattr(row, name) for name in ("grains", "most", "full_on", "soonest", "latest")}
        for row in connection.execute(sa.select(kept).where(kept.c.product_id == product_id))
    }
    same = {each for each, row in wanted.items() if there.get(each) == row}
    for part in batched(there.keys() - same):
        connection.execute(sa.delete(kept).where(kept.c.product_id == product_id, kept.c.account_id.in_(part)))
    added = [{"product_id": product_id, "account_id": each} | row for each, row in wanted.items() if each not in same]
    if added:
        connection.execute(sa.insert(kept), added)


def forecasts(
    connection: sa.Connection, inside: sa.ColumnElement[bool], until: date, limit: int
) -> list[ForecastRecord]:
    """The forecasts of a branch up to a day, the soonest first."""
    kept = storage_forecasts.c
    wanted = sa.select(storage_forecasts).where(kept.full_on <= until, inside)
    return fetch(
        connection, wanted.order_by(kept.full_on, kept.account_id, kept.product_id).limit(limit), ForecastRecord
    )
