"""Generations: what cached things are kept under. Whoever changes a fact raises its generation in the same transaction,
under the row's lock; never the highest id of anything, since ids are not in the order of commits."""

from __future__ import annotations

import hashlib
import json
import secrets
from collections.abc import Collection, Mapping
from datetime import date, timedelta
from typing import Literal

import sqlalchemy as sa
from sqlalchemy.dialects import mysql

from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.prepared import Prepared
from fair_ladle.app.plumbing.tables import generations as g
from fair_ladle.app.plumbing.tables import late_accounts, late_facts

Name = Literal["structure", "allocations", "groups", "places", "rates", "past", "closings", "limits"]
"""structure: accounts, their places and statuses, products, pools and lots. allocations: their versions. groups:
their rules and members by hand. places: which accounts are below which, and which pools and lots there are. rates: rate
cards, and what is charged, given off and taxed beside them. closings: months that are closed. limits: what accounts and
groups let a person store. past: use, allocations, pools or lots of days that are over. An admission raises none."""


ALL = sa.select(sa.func.json_objectagg(g.c.name, g.c.number)).scalar_subquery().label("generations")
"""All of them as one column: read along with what is asked for first, and handed to ``note``."""


EVERY = Prepared(sa.select(g.c.name, g.c.number))


def note(tx: Transaction, every: str | None) -> None:
    """Go by these generations (``ALL``) in a transaction that sees the facts of one instant."""
    tx.once("generations", lambda: json.loads(every or "{}"))


def numbers(tx: Transaction, *names: Name) -> tuple[int, ...]:
    """The generations of these names; 0 where one was never raised."""
    found = tx.once("generations", lambda: {row.name: int(row.number) for row in EVERY.run(tx.connection, {})})
    return tuple(found.get(name, 0) for name in names)


def renew(tx: Transaction, *names: Name) -> None:
    """Raise generations, in the order of their names.

    Never to a number that was there before: one that a transaction took back must not come again with other facts.
    """
    if tx.is_rehearsal:
        return  # nothing of it is kept, and what is cached stays as it is
    for name in sorted(names):
        number = secrets.randbits(62)
        raised = mysql.insert(g).values(name=name, number=number)
        tx.connection.execute(raised.on_duplicate_key_update(number=number))


def renew_past(
    tx: Transaction,
    since: Mapping[int, date],
    accounts: Mapping[int, Collection[int]] | None = None,
    *,
    of_use: bool = False,
) -> None:
    """Say that facts of these products (by number) are others on days that are over, each from a day on; where they are
    of few ``accounts`` (by product), of which, and whether they are of what is in use alone."""
    if not since or tx.is_rehearsal:
        return
    renew(tx, "past")
    for product_id, day in sorted(since.items()):
        number, first_day = secrets.randbits(62), max(day, EARLIEST)
        said = mysql.insert(late_facts).values(product_id=product_id, first_day=first_day, number=number)
        # In this order: what it was is noted before it is another.
        tx.connection.execute(said.on_duplicate_key_update([("before", late_facts.c.number), ("number", number)]))
        told = (accounts or {}).get(product_id)
        if told is not None and len(told) <= MOST:
            row = [sa.literal(json.dumps(sorted(told))), sa.literal(of_use), sa.literal(tx.now)]
            mine = sa.select(late_facts.c.product_id, late_facts.c.number, late_facts.c.before, *row).where(
                late_facts.c.product_id == product_id, late_facts.c.first_day == first_day
            )
            tx.connection.execute(sa.insert(late_accounts).from_select([each.name for each in late_accounts.c], mine))


EARLIEST = date(1900, 1, 1)
MOST, FEW = 10_000, 1_000
"""So many accounts of a late change are told; so many changes in a row, and nobody goes after each."""
LONG = 2**20
"""Bytes of what was told in all that are read."""
TOLD = timedelta(days=1)
"""How long it is told whose facts changed."""


def _late(tx: Transaction) -> list[tuple[int, date, int]]:
    f = late_facts.c
    wanted = sa.select(f.product_id, f.first_day, f.number).order_by(f.product_id, f.first_day)
    return tx.once("late facts", lambda: [tuple(row) for row in tx.connection.execute(wanted)])


def past(tx: Transaction, product_ids: Collection[int], day: date) -> str:
    """While it stays the same, so do the facts of these products up to a day that is over."""
    mine = [number for product, first_day, number in _late(tx) if product in product_ids and first_day <= day]
    return hashlib.blake2b(repr(mine).encode(), digest_size=8).hexdigest()


def late(tx: Transaction, product_id: int, day: date) -> dict[str, int]:
    """The late facts of a product up to a day that is over, for ``late_since``."""
    mine = [(first_day, number) for product, first_day, number in _late(tx) if product == product_id]
    return {str(first_day): number for first_day, number in mine if first_day <= day}


def late_since(
    tx: Transaction, product_id: int, day: date, then: Mapping[str, int], *, of_use_alone: bool = False
) -> set[int] | None:
    """The accounts (by number) of which facts up to a day are others than they were when ``late`` said something; None
    where that is not known of all, or (if this is asked) where some are not of what is in use."""
    now = late(tx, product_id, day)
    if not then.keys() <= now.keys():
        return None
    t = late_accounts.c
    length = sa.func.length(t.accounts).label("length")
    wanted = sa.select(t.number, t.before, t.of_use, length).where(t.product_id == product_id).limit(FEW + 1)
    told = {row.number: row for row in tx.connection.execute(wanted)} if now != then else {}
    changes = []
    for first_day, number in now.items():
        while number != then.get(first_day, 0):
            if number not in told or len(told) > FEW:
                return None
            changes.append(told[number])
            number = told[number].before
    if sum(each.length for each in changes) > LONG or (of_use_alone and not all(each.of_use for each in changes)):
        return None
    numbers = [each.number for each in changes]
    mine = sa.select(t.accounts).where(t.product_id == product_id, t.number.in_(numbers))
    whose = tx.connection.scalars(mine) if numbers else ()
    return {account for accounts in whose for account in json.loads(accounts)}


def forget_late_accounts(tx: Transaction) -> None:
    """Tell no more whose facts changed a while ago."""
    tx.connection.execute(sa.delete(late_accounts).where(late_accounts.c.written_at < tx.now - TOLD))
