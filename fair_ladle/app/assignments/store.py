"""Counters under locks, and the way up from an account to its pool."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from functools import cache
from typing import Any

import sqlalchemy as sa
from sqlalchemy.dialects import mysql

from fair_ladle.app.allocations.rows import CounterRecord
from fair_ladle.app.allocations.tables import LOCK_ORDER, branch_use, counters, use_changes
from fair_ladle.app.assignments.rows import PoolNow, StepUp, Trust, UseChange
from fair_ladle.app.plumbing import rehearsal
from fair_ladle.app.plumbing.database import Transaction, batched, fetch, lock_rows
from fair_ladle.app.plumbing.prepared import Prepared, Question, ask
from fair_ladle.app.plumbing.tables import generations
from fair_ladle.app.pools.rows import PoolRecord
from fair_ladle.app.pools.tables import pools

WAY_UP = sa.text(
    """WITH RECURSIVE up AS ( SELECT a.id, a.code, a.name, p.parent_id, 0 AS steps FROM accounts a JOIN
    account_parents p ON p.account_id = a.id WHERE a.code = :code AND (p.first_day IS NULL OR p.first_day <= :day)
    AND (p.last_day IS NULL OR p.last_day >= :day) UNION ALL SELECT a.id, a.code, a.name, p.parent_id, up.steps + 1
    FROM up JOIN accounts a ON a.id = up.parent_id JOIN account_parents p ON p.account_id = a.id WHERE (p.first_day
    IS NULL OR p.first_day <= :day) AND (p.last_day IS NULL OR p.last_day >= :day) ) SELECT up.id, up.code, up.name,
    up.steps, pools.id AS pool_id, s.status FROM up LEFT JOIN pools ON
    pools.owner_id = up.id AND pools.product_id = :product_id LEFT JOIN account_statuses s ON s.account_id = up.id
    AND s.first_day <= :day AND (s.last_day IS NULL OR s.last_day >= :day) ORDER BY up.steps
    """
).columns(
    sa.column("id", sa.BigInteger),
    sa.column("code", sa.String),
    sa.column("name", sa.String),
    sa.column("steps", sa.Integer),
    sa.column("pool_id", sa.BigInteger),
    sa.column("status", sa.String),
)


def way_up(connection: sa.Connection, code: str, product_id: int, day: date) -> list[StepUp]:
    """The accounts from one up to the root, each with the pool of the product that it owns, if any."""
    return fetch(connection, WAY_UP, StepUp, {"code": code, "product_id": product_id, "day": day})


c = counters


def rehearse(tx: Transaction, product_ids: Collection[int]) -> None:
    """Where this is only tried out: go on with a copy of the counters of these products, and of the pools."""
    mine = sa.select(pools.c.id).where(pools.c.product_id.in_(product_ids))
    tx.rehearse(c, c.c.pool_id.in_(mine))
    tx.rehearse(pools)


# The statements of every taking are made once: building them costs more than running them.
_of_one = (c.c.pool_id == sa.bindparam("pool"), c.c.account_id == sa.bindparam("account"))
_of_some = (c.c.pool_id == sa.bindparam("pool"), c.c.account_id.in_(sa.bindparam("accounts", expanding=True)))
_figures = [each for each in c.c if each.name not in ("pool_id", "depth", "physical")]
_structure = (
    sa.select(generations.c.number)
    .where(generations.c.name == sa.literal_column("'structure'"))
    .scalar_subquery()
    .label("structure")
)
LOCK_ONE = Prepared(sa.select(*_figures).where(*_of_one).with_for_update())
TRUST = Prepared(sa.select(pools.c.fresh_until, pools.c.backed, _structure).where(pools.c.id == sa.bindparam("pool")))
"""A statement of its own, after those that lock: the server reads what stands in a subquery beside a lock as of when
the statement began, which is before it waited for the lock."""
LOCK_SOME = (
    sa.select(*_figures)
    .with_hint(c, "FORCE INDEX (PRIMARY)", "mysql")
    .where(*_of_some)
    .order_by(c.c.account_id)
    .with_for_update()
)
"""By key, not by reading the whole pool, which the server may take for as good: it would wait for whoever holds any
counter of it. Of more than SOME it has no way by key."""
SOME = 200
_HAVE_TO_BE_SAID: dict[str, Any] = {"depth": 0, "own": 0, "load": 0, "reserve": 0, "at_cap": ""}
"""Of a counter that is there nothing of this is written."""


def _write() -> Prepared:
    """Several rows in one statement, which an UPDATE of each would not be. All of them are there."""
    names = ("pool_id", "account_id", "past_cap_since", *_HAVE_TO_BE_SAID)
    add = mysql.insert(c).values({name: sa.bindparam(name) for name in names})
    said = add.inserted
    sums = {"own": c.c.own + said.own, "load": c.c.load + said.load}
    return Prepared(add.on_duplicate_key_update(**sums, past_cap_since=said.past_cap_since))


WRITE = _write()


def _take() -> Prepared:
    """The same of own and load alone, and what the rows are then: locked by a write, which is shorter than to lock
    first. Nothing in it says whether they can be trusted (see TRUST), nor that all of them were there."""
    add = mysql.insert(c).values({name: sa.bindparam(name) for name in ("pool_id", "account_id", *_HAVE_TO_BE_SAID)})
    sums = {"own": c.c.own + add.inserted.own, "load": c.c.load + add.inserted.load}
    return Prepared(add.on_duplicate_key_update(**sums).returning(*_figures))


TAKE = _take()


def lock(connection: sa.Connection, pool_id: int, account_ids: Iterable[int]) -> list[Any]:
    """Counters of one pool, locked in the order of their ids."""
    ids = sorted(account_ids)
    if len(ids) == 1:
        return LOCK_ONE.run(connection, {"pool": pool_id, "account": ids[0]})
    found: list[Any] = []
    for part in batched(ids, SOME):
        found += connection.execute(LOCK_SOME, {"pool": pool_id, "accounts": part})
    return found


def trust(connection: sa.Connection, pool_id: int) -> Trust:
    """How far counters of a pool that were locked before can be trusted."""
    return _trusted(TRUST.run(connection, {"pool": pool_id}))


def _trusted(rows: list[Any]) -> Trust:
    return rows[0] if rows else Trust(None, False, 0)  # of a pool that is no more


@dataclass(frozen=True)
class Way:
    """The counters of an account and of some above it, locked, the account's own first, as they were before; how far
    they can be trusted; and by how much each of them was changed with its lock, which what is written in the end takes
    into account. Where one of them was not there, there are no rows, and the transaction must not be kept."""

    pool_id: int
    rows: Sequence[Any]
    trust: Trust
    by: int


def lock_way(
    connection: sa.Connection, pool_id: int, way: Sequence[int], *with_them: Question[Any], by: int = 0
) -> tuple[Way, list[Any]]:
    """The counters of an account and of some above it, in one message: locked one after the other, the account's own
    first, and changed ``by`` so much, if that is likely to come of it; then what these questions come to under the
    locks."""
    keys = [{"pool_id": pool_id, "account_id": each} for each in way]
    taking = [{**_HAVE_TO_BE_SAID, **key, "own": 0 if at else by, "load": by} for at, key in enumerate(keys)]
    each_alone = [(LOCK_ONE, {"pool": pool_id, "account": each}) for each in way]

    def locked(*found: list[Any]) -> Way:
        rows = sum(found[:-1], [])
        if by:
            were_there = all(row.at_cap for row in rows)
            rows = [_changed(row, -by, not at) for at, row in enumerate(rows)] if were_there else []
        return Way(pool_id, rows, _trusted(found[-1]), by)

    asked = [(TAKE, *taking)] if by else each_alone
    found, *others = ask(connection, Question([*asked, (TRUST, {"pool": pool_id})], locked), *with_them)
    return found, others


def _changed(row: Any, by: int, is_own: bool) -> Any:
    return row._replace(own=row.own + (by if is_own else 0), load=row.load + by)


def write(connection: sa.Connection, rows: list[dict[str, Any]], way: Way | None = None) -> None:
    """Changes of own and load, and the clock, of counters that are locked; ``way`` is how some of them were."""
    left = rows if way is None or not way.by else _left(rows, way)
    if left:
        WRITE.run_later(connection, *({**_HAVE_TO_BE_SAID, **row} for row in left))
    taken = [
        {"pool_id": row["pool_id"], "account_id": row["account_id"], "change": row["own"]} for row in rows if row["own"]
    ]
    if taken and rehearsal.of(connection) is None:
        ADD_CHANGE.run_later(connection, *taken)


def _left(rows: Sequence[dict[str, Any]], way: Way) -> list[dict[str, Any]]:
    """What is left to be written of changes after what was written with the locks."""
    wanted, left = {row["account_id"]: row for row in rows}, []
    for at, was in enumerate(way.rows):
        kept = {"pool_id": way.pool_id, "account_id": was.account_id, "past_cap_since": was.past_cap_since}
        row = wanted.pop(was.account_id, {**kept, "own": 0, "load": 0})
        rest = {**row, "own": row["own"] - (0 if at else way.by), "load": row["load"] - way.by}
        if rest["own"] or rest["load"] or row["past_cap_since"] != was.past_cap_since:
            left.append(rest)
    return [*left, *wanted.values()]


def add_use_changes(connection: sa.Connection, rows: Sequence[dict[str, Any]]) -> None:
    """Say what was taken or released by accounts, to be added up."""
    if rows and rehearsal.of(connection) is None:
        ADD_CHANGE.run_later(connection, *rows)


ADD_CHANGE = Prepared(
    sa.insert(use_changes).values({name: sa.bindparam(name) for name in ("pool_id", "account_id", "change")})
)


def put_use(connection: sa.Connection, pool_ids: Collection[int], rows: list[dict[str, Any]]) -> None:
    """Σ own of every branch of these pools, all of whose counters are locked; nothing is left to add up."""
    if rehearsal.of(connection) is not None:
        return  # nobody reads it there
    connection.execute(sa.delete(use_changes).where(use_changes.c.pool_id.in_(pool_ids)))
    there = {
        (row.pool_id, row.account_id): row.used
        for row in connection.execute(sa.select(branch_use).where(branch_use.c.pool_id.in_(pool_ids)))
    }
    other = [row for row in rows if there.pop((row["pool_id"], row["account_id"]), None) != row["used"]]
    put = mysql.insert(branch_use)
    for start in range(0, len(other), AT_ONCE):
        part = other[start : start + AT_ONCE]
        connection.execute(put.on_duplicate_key_update(used=put.inserted.used), part)
    for pool_id, account_id in there:
        b = branch_use
        connection.execute(sa.delete(b).where(b.c.pool_id == pool_id, b.c.account_id == account_id))


AT_ONCE = 2000


def use_of(connection: sa.Connection, pool_ids: Collection[int]) -> list[tuple[int, int, int, int]]:
    """(pool, account, grains, whether it is a change that is not added up yet) of these pools, as of one instant."""
    b, u = branch_use, use_changes
    added = sa.select(b.c.pool_id, b.c.account_id, b.c.used, sa.literal(0)).where(b.c.pool_id.in_(pool_ids))
    changed = sa.select(u.c.pool_id, u.c.account_id, u.c.change, sa.literal(1)).where(u.c.pool_id.in_(pool_ids))
    return [tuple(row) for row in connection.execute(sa.union_all(added, changed))]


def changes_of_use(connection: sa.Connection) -> list[UseChange]:
    """Some of what is not added up yet, locked by key: who makes counters anew comes before or after."""
    u = use_changes
    ids = list(connection.scalars(sa.select(u.c.id).order_by(u.c.id).limit(AT_ONCE)))
    if not ids:
        return []
    return fetch(connection, sa.select(u).where(u.c.id.in_(ids)).order_by(u.c.id).with_for_update(), UseChange)


def add_up(connection: sa.Connection, ids: Sequence[int], changes: dict[tuple[int, int], int]) -> None:
    """Add changes of use (ids) up: by pool and account of those on the way."""
    rows = [{"pool_id": p, "account_id": a, "used": by} for (p, a), by in sorted(changes.items()) if by]
    if rows:
        put = mysql.insert(branch_use)
        connection.execute(put.on_duplicate_key_update(used=branch_use.c.used + put.inserted.used), rows)
    connection.execute(sa.delete(use_changes).where(use_changes.c.id.in_(ids)))


def followers(connection: sa.Connection, products: Collection[str] | None) -> list[CounterRecord]:
    """The counters whose cap follows units of these counted products (codes; None = of any), as they stand, not
    locked."""
    wanted = c.c.per.is_not(None) if products is None else c.c.per.in_(products)
    return fetch(connection, sa.select(c).where(wanted), CounterRecord)


def _pool_now() -> Prepared:
    b, u = branch_use, use_changes
    added = sa.select(b.c.used).where(b.c.pool_id == pools.c.id, b.c.account_id == pools.c.owner_id)
    changed = sa.select(sa.func.sum(u.c.change)).where(u.c.pool_id == pools.c.id)
    sums = [sa.func.coalesce(each.scalar_subquery(), 0) for each in (added, changed)]
    wanted = sa.select(pools.c.fresh_until, _structure, (sums[0] + sums[1]).label("used"))
    return Prepared(wanted.where(pools.c.id == sa.bindparam("pool")))


POOL_NOW = _pool_now()
"""Σ own of a pool is what is added up of its owner's branch and what is not added up yet, both as of one instant: to
add up its counters takes as long as there are accounts."""


READ_ONE = Prepared(sa.select(c).where(*_of_one))


def read_with_pool(
    connection: sa.Connection, pool_id: int, account_ids: Sequence[int], *with_them: Question[Any]
) -> tuple[dict[int, CounterRecord], PoolNow, list[Any]]:
    """A few counters of a pool as they stand, not locked, each by its key; what the pool itself comes to; and what
    these questions do, asked with them."""
    wanted = [(READ_ONE, {"pool": pool_id, "account": each}) for each in account_ids]
    pool = Question([(POOL_NOW, {"pool": pool_id})], lambda rows: rows[0])
    rows, now, *others = ask(connection, Question(wanted, lambda *found: sum(found, [])), pool, *with_them)
    used = int(now.used)
    if rehearsal.of(connection) is not None:  # uses are not added up there
        used = int(connection.scalar(sa.select(sa.func.sum(c.c.own)).where(c.c.pool_id == pool_id)) or 0)
    return {row.account_id: row for row in rows}, PoolNow(now.fresh_until, now.structure, used), others


def read(connection: sa.Connection, pool_id: int, account_id: int) -> CounterRecord:
    """A counter as it stands, not locked."""
    found: CounterRecord = READ_ONE.run(connection, {"pool": pool_id, "account": account_id})[0]
    return found


def read_pools(connection: sa.Connection, pool_ids: Collection[int]) -> list[CounterRecord]:
    """All counters of these pools as they stand, not locked."""
    return fetch(connection, sa.select(c).where(c.c.pool_id.in_(pool_ids)), CounterRecord)


def read_pool_rows(connection: sa.Connection, pool_ids: Collection[int]) -> list[PoolRecord]:
    """The pools' own rows as they stand, not locked."""
    return fetch(connection, sa.select(pools).where(pools.c.id.in_(pool_ids)).order_by(pools.c.id), PoolRecord)


def lock_pools(connection: sa.Connection, pool_ids: Collection[int]) -> list[CounterRecord]:
    """All counters of these pools, deeper accounts first, then the pools' own rows."""
    rows: list[CounterRecord] = []
    for pool_id in sorted(pool_ids):
        # Rows are locked as the index is read, so it has to be the one in the order of locks.
        rows += fetch(
            connection,
            sa.select(c)
            .with_hint(c, f"FORCE INDEX ({LOCK_ORDER.name})", "mysql")
            .where(c.c.pool_id == pool_id)
            .order_by(c.c.depth.desc(), c.c.account_id)
            .with_for_update(),
            CounterRecord,
        )
    lock_pool_rows(connection, pool_ids)
    return rows


def touch_pool(connection: sa.Connection, pool_id: int) -> PoolRecord:
    """A pool's own row, locked by a write: whoever takes the last unit is alone, on a cluster too."""
    pool: PoolRecord = lock_rows(connection, pools, [pool_id])[0]
    return pool


def lock_pool_rows(connection: sa.Connection, pool_ids: Collection[int]) -> list[PoolRecord]:
    """The pools' own rows, locked."""
    return fetch(
        connection, sa.select(pools).where(pools.c.id.in_(pool_ids)).order_by(pools.c.id).with_for_update(), PoolRecord
    )


def replace(connection: sa.Connection, there: dict[tuple[int, int], Any], wanted: list[dict[str, Any]]) -> int:
    """Make the counters (there, by pool and account, locked) what they should be; how many rows were written."""
    new, other = [], []
    for row in wanted:
        found = there.pop((row["pool_id"], row["account_id"]), None)
        if found is None:
            new.append(row)
        elif any(getattr(found, name) != value for name, value in row.items()):
            other.append(row)
    for pool_id, account_id in there:
        connection.execute(sa.delete(c).where(c.c.pool_id == pool_id, c.c.account_id == account_id))
    keep(connection, [*new, *other])
    return len(new) + len(other) + len(there)


def keep(connection: sa.Connection, rows: Sequence[dict[str, Any]]) -> None:
    """Counters as they shall be, in all that is said of them; those that are there are locked."""
    for part in batched(rows):
        _keep(tuple(rows[0])).run_later(connection, *({**_HAVE_TO_BE_SAID, **row} for row in part))


@cache
def _keep(names: tuple[str, ...]) -> Prepared:
    put = mysql.insert(c).values({name: sa.bindparam(name) for name in {*names, *_HAVE_TO_BE_SAID}})
    figures = {name: put.inserted[name] for name in names if name not in ("pool_id", "account_id")}
    return Prepared(put.on_duplicate_key_update(figures))


def set_backed(connection: sa.Connection, pool_id: int, backed: bool) -> None:
    """Say whether a pool's promises are all physically there."""
    connection.execute(sa.update(pools).where(pools.c.id == pool_id).values(backed=backed))


def set_fresh(connection: sa.Connection, pool_id: int, until: datetime, backed: bool) -> None:
    """Say until when a pool's counters hold, and whether its promises are all physically there."""
    connection.execute(sa.update(pools).where(pools.c.id == pool_id).values(fresh_until=until, backed=backed))
