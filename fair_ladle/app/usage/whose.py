"""Who of an account it is that stores something as their own: the person's number, kept beside the bytes so that nobody
looks usernames up for each row. NULL of what was left behind.

Whoever changes a person says ``regroup``; until a job has followed, readers ask about those people themselves. Who
begins a row looks up whose it is after writing it: somebody who comes or goes at the same moment is followed by the
job, which waits for that row. Nobody locks people for it. (On a cluster the two can pass one another on two nodes; a
job looks all of it through.)
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass

import sqlalchemy as sa
from sqlalchemy.dialects import mysql

from fair_ladle.app.people import service as people_service
from fair_ladle.app.people.rows import PersonRecord
from fair_ladle.app.people.tables import people
from fair_ladle.app.plumbing.database import Transaction, batched
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.usage.tables import stored

k, p = stored, people
_HERE_BY_NAME = sa.and_(p.c.username == k.c.name, p.c.account_id == k.c.account_id, p.c.status != "removed")
Key = tuple[int, int, str]
"""Product, account and username."""


@dataclass(frozen=True)
class Ownership:
    """Which row of people is that of a row of stored; ``person_id`` says it without a look at people, None where that
    is not known of too many."""

    person_id: sa.ColumnElement[int] | None
    is_theirs: sa.ColumnElement[bool]

    @property
    def left_behind(self) -> sa.ColumnElement[bool]:
        """Whether nobody of the account stores it: people are joined where ``person_id`` is None."""
        return (p.c.id if self.person_id is None else self.person_id).is_(None)

    def with_people(self, rows: sa.FromClause) -> sa.FromClause:
        """Rows of stored, with people where ``left_behind`` needs them."""
        return rows if self.person_id is not None else rows.outerjoin(p, self.is_theirs)


def whose(tx: Transaction) -> Ownership:
    """Whose what is stored is, at present."""
    changed = people_service.some_changed(tx)
    if len(changed) > people_service.FEW:
        return Ownership(None, _HERE_BY_NAME)
    person_id: sa.ColumnElement[int] = k.c.person_id
    if changed:
        theirs = [
            (sa.and_(k.c.account_id == each.account_id, k.c.name == each.username), sa.literal(each.id))
            for each in changed
            if each.status != "removed"
        ]
        person_id = sa.case(*theirs, (k.c.person_id.in_([each.id for each in changed]), sa.null()), else_=person_id)
    return Ownership(person_id, p.c.id == person_id)


def begin(tx: Transaction, keys: Collection[Key]) -> None:
    """Rows of these were begun: look whose they are."""
    for part in batched(sorted(keys)):
        there = people_service.by_username(tx, {name for _, _, name in part})
        _put(
            tx,
            [
                (key, there[key[2]].id)
                for key in part
                if key[2] in there and there[key[2]].account_id == key[1] and there[key[2]].status != "removed"
            ],
        )


def follow(tx: Transaction, changed: Sequence[PersonRecord]) -> None:
    """People changed, and are locked: what is theirs now is, and what was is not."""
    if not changed:
        return
    connection, ids = tx.connection, [each.id for each in changed]
    products = [each.id for each in pools_service.products(tx) if each.is_storage]
    connection.execute(sa.update(k).where(k.c.person_id.in_(ids)).values(person_id=None))
    present = [each for each in changed if each.status != "removed"]
    theirs = [k.c.account_id == sa.bindparam("of"), k.c.kind == "person", k.c.name == sa.bindparam("who")]
    for product_id in products if present else []:
        change = sa.update(k).where(k.c.product_id == product_id, *theirs).values(person_id=sa.bindparam("by"))
        connection.execute(change, [{"of": each.account_id, "who": each.username, "by": each.id} for each in present])


def settle(tx: Transaction, product_id: int, account_ids: Collection[int]) -> int:
    """Look through what is kept of these accounts; how many rows were wrong.

    Locks: what people store in the accounts in which something seems wrong, by key; looked at again under these locks.
    """
    count = 0
    for part in batched(account_ids):
        wrong = _wrong(tx, product_id, part)
        if wrong:
            mine = [k.c.account_id.in_({account_id for _, account_id, _ in wrong}), k.c.kind == "person"]
            same = sa.update(k).where(k.c.product_id == product_id, *mine).values(person_id=k.c.person_id)
            tx.connection.execute(same)
            found = _wrong(tx, product_id, part)
            _put(tx, list(found.items()))
            count += len(found)
    return count


def differences(tx: Transaction, product_id: int, account_ids: Collection[int]) -> dict[Key, int | None]:
    """Rows whose kept number is another than it has to be, with that; those who are yet to be followed aside."""
    waiting = people_service.every_changed(tx)
    names, ids = {each.username for each in waiting}, {each.id for each in waiting}
    found: dict[Key, int | None] = {}
    for part in batched(account_ids):
        found |= _wrong(tx, product_id, part)
    return {key: person_id for key, person_id in found.items() if key[2] not in names and person_id not in ids}


def _wrong(tx: Transaction, product_id: int, account_ids: Collection[int]) -> dict[Key, int | None]:
    wanted = (
        sa.select(k.c.account_id, k.c.name, p.c.id)
        .select_from(k.outerjoin(p, _HERE_BY_NAME))
        .where(
            k.c.product_id == product_id,
            k.c.account_id.in_(account_ids),
            k.c.kind == "person",
            k.c.person_id.is_distinct_from(p.c.id),
        )
    )
    return {(product_id, row.account_id, row.name): row.id for row in tx.connection.execute(wanted)}


def _put(tx: Transaction, whose_is: Sequence[tuple[Key, int | None]]) -> None:
    """Each row is there; written as new ones, since that goes in one statement."""
    if not whose_is:
        return
    put = mysql.insert(k)
    statement = put.on_duplicate_key_update(person_id=put.inserted.person_id)
    nothing = {"bytes": 0, "week_ago": 0, "month_ago": 0, "quarter_ago": 0, "at": tx.now}
    rows = [
        {"product_id": product_id, "account_id": account_id, "kind": "person", "name": name, "person_id": person_id}
        for (product_id, account_id, name), person_id in whose_is
    ]
    for part in batched(rows):
        tx.connection.execute(statement, [row | nothing for row in part])
