"""Generations: what cached things are kept under. Whoever changes a fact raises its generation in the same transaction,
under the row's lock; never the highest id of anything, since ids are not in the order of commits."""

from __future__ import annotations

import hashlib
import json
import secrets
from collections.abc import Collection, Mapping
from datetime import date
from typing import Literal

import sqlalchemy as sa
from sqlalchemy.dialects import mysql

from fair_ladle.app.plumbing.database import Prepared, Transaction
from fair_ladle.app.plumbing.tables import generations as g
from fair_ladle.app.plumbing.tables import late_facts

Name = Literal["structure", "allocations", "groups", "places", "rates", "past", "closings"]
"""structure: accounts, their places and statuses, products, pools and lots. allocations: their versions. groups:
their rules and members by hand. places: which accounts are below which, and which pools and lots there are. rates: rate
cards, and what is charged, given off and taxed beside them. closings: months that are closed. past: use, allocations,
pools or lots of days that are over. An admission raises none."""


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


def renew_past(tx: Transaction, since: Mapping[int, date]) -> None:
    """Say that facts of these products (by number) are others on days that are over, each from a day on."""
    if not since or tx.is_rehearsal:
        return
    renew(tx, "past")
    for product_id, day in sorted(since.items()):
        number = secrets.randbits(62)
        said = mysql.insert(late_facts).values(product_id=product_id, first_day=max(day, EARLIEST), number=number)
        tx.connection.execute(said.on_duplicate_key_update(number=number))


EARLIEST = date(1900, 1, 1)


def past(tx: Transaction, product_ids: Collection[int], day: date) -> str:
    """While it stays the same, so do the facts of these products up to a day that is over."""
    wanted = sa.select(late_facts).order_by(late_facts.c.product_id, late_facts.c.first_day)
    rows = tx.once("late facts", lambda: [tuple(row) for row in tx.connection.execute(wanted)])
    mine = [number for product, first_day, number in rows if product in product_ids and first_day <= day]
    return hashlib.blake2b(repr(mine).encode(), digest_size=8).hexdigest()
