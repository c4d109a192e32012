"""Generations: what cached things are kept under. Whoever changes a fact raises its generation in the same transaction,
under the row's lock; never the highest id of anything, since ids are not in the order of commits."""

from __future__ import annotations

import secrets
from typing import Literal

import sqlalchemy as sa
from sqlalchemy.dialects import mysql

from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.tables import generations as g

Name = Literal["structure", "allocations", "groups", "places", "rates", "past"]
"""structure: accounts, their places and statuses, products, pools and lots. allocations: their versions. groups:
their rules and members by hand. places: which accounts are below which, and which pools and lots there are. rates: rate
cards. past: use or allocations of days that are over. An admission raises none."""


def numbers(tx: Transaction, *names: Name) -> tuple[int, ...]:
    """The generations of these names; 0 where one was never raised."""
    found = tx.once("generations", lambda: {row.name: int(row.number) for row in tx.connection.execute(sa.select(g))})
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
