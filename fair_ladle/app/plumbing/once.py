"""A request that happens once: its key is written in its own transaction, and answers for it afterwards.

The first thing a keyed transaction does is to insert its key, in one message with what is asked first. Whoever comes
with the same key at the same moment waits there, and finds the answer; whoever lost its connection in COMMIT comes
again and finds out whether it was kept.
"""

from __future__ import annotations

import json
import secrets
import zlib
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any, TypeVar

import sqlalchemy as sa

from fair_ladle.app.plumbing.clock import Clock
from fair_ladle.app.plumbing.database import Database, Opening, Transaction
from fair_ladle.app.plumbing.prepared import Prepared
from fair_ladle.app.plumbing.problems import Problem, Refused, invalid
from fair_ladle.app.plumbing.tables import request_keys as keys

KEPT, KEPT_WITHOUT_ACTOR = timedelta(days=7), timedelta(minutes=15)
MOST_ANSWER = 1_000_000
"""Bytes of a packed answer; a longer one is not kept, though that it happened is."""
AT_ONCE = 5000
Result = TypeVar("Result")


@dataclass(frozen=True)
class RequestKey:
    """Whose request it is (``s`` and the sign-in's number, or ``o`` and the origin), its key, and the SHA-256 of
    what is asked for."""

    whose: str
    key: str
    fingerprint: str
    keeps_answer: bool = True


@dataclass(frozen=True)
class Replayed:
    """The answer that was kept when the request happened."""

    answer: Any


class _Taken(Exception):
    """The key is there already."""


class KeyedDatabase:
    """What a route that changes something works on: all it runs is one transaction, begun with the request's key."""

    def __init__(self, database: Database, opening: Opening, key: RequestKey, attempt: str):
        self.database = database
        self._opening, self._key, self._attempt = opening, key, attempt
        self.claimed = False

    @property
    def clock(self) -> Clock:
        """The installation's clock."""
        return self.database.clock

    def run(self, usecase: Callable[..., Result], *args: Any, **named: Any) -> Result:
        """A use-case, in the request's transaction."""
        return usecase(self.transaction(), *args, **named)

    def transaction(self) -> Transaction:
        """The request's transaction; the key is written with what is first asked in it."""
        tx = self._opening.transaction()
        if not self.claimed:
            _claim(tx, self._key, self._attempt)
            self.claimed = True
        return tx


def happens_once(
    database: Database,
    find_key: Callable[[Opening], RequestKey],
    work: Callable[[KeyedDatabase], Result],
    pack: Callable[[Result], Any],
) -> Result | Replayed:
    """Do some work once for a key, in one transaction; asked again, the kept answer comes back as ``pack`` made it.
    ``find_key`` may look in the transaction whose key it is, and refuse to go on.

    Refused where the key stands for another request (422), or where it happened and its answer was not kept (409).
    """
    mine: dict[str, Result] = {}
    key: RequestKey | None = None

    def attempt(opening: Opening) -> Result:
        nonlocal key
        key, name = find_key(opening), secrets.token_hex(8)
        keyed = KeyedDatabase(database, opening, key, name)
        try:
            result = work(keyed)
        except Refused:
            opening.send()  # it may have been done before
            raise
        if keyed.claimed and key.keeps_answer:
            _keep(opening.transaction(), key, pack(result))
        mine[name] = result
        return result

    while True:
        try:
            return database.attempt(attempt, finds_out=True)
        except _Taken:
            assert key is not None
            done = database.run_repeatable(_done, key)
        if done is None:
            continue
        if done.attempt in mine:
            return mine[done.attempt]
        if done.fingerprint != key.fingerprint:
            raise invalid(
                "This Idempotency-Key was used for another request; give each request a key of its own.",
                "Idempotency-Key",
            )
        if done.answer is None:
            raise Refused(
                Problem("done-before", "Done before", 409, "This was done already; its answer is not kept. Look again.")
            )
        return Replayed(json.loads(zlib.decompress(done.answer)))


def _done(tx: Transaction, key: RequestKey) -> Any:
    """What is kept of a request that happened; None where that is so long ago that it is forgotten, or was just now."""
    mine = sa.and_(keys.c.whose == key.whose, keys.c.key == key.key)
    there = tx.connection.execute(sa.select(keys).where(mine)).one_or_none()
    if there is None or there.at >= tx.now - (KEPT if key.keeps_answer else KEPT_WITHOUT_ACTOR):
        return there
    tx.connection.execute(sa.delete(keys).where(mine, keys.c.attempt == there.attempt))
    return None


def _claim(tx: Transaction, key: RequestKey, attempt: str) -> None:
    """Write the key before whatever else is asked, which comes to nothing where it is there."""
    row = {"whose": key.whose, "key": key.key, "fingerprint": key.fingerprint, "attempt": attempt, "at": tx.now}
    _CLAIM.run_later(tx.connection, row, refused=_Taken)


_CLAIM = Prepared(
    sa.insert(keys).values({name: sa.bindparam(name) for name in ("whose", "key", "fingerprint", "attempt", "at")})
)


def _keep(tx: Transaction, key: RequestKey, answer: Any) -> None:
    packed = zlib.compress(json.dumps(answer).encode(), 1)
    if len(packed) <= MOST_ANSWER:
        _KEEP.run_later(tx.connection, {"of": key.whose, "named": key.key, "packed": packed})


_KEEP = Prepared(
    sa.update(keys)
    .where(keys.c.whose == sa.bindparam("of"), keys.c.key == sa.bindparam("named"))
    .values(answer=sa.bindparam("packed"))
)


def forget_old(tx: Transaction) -> int:
    """Drop keys that nobody comes back with any more, a part of them; how many."""

    def older(whose: str, before: datetime) -> int:
        old = sa.select(keys.c.whose, keys.c.key).where(keys.c.at < before, keys.c.whose.startswith(whose))
        rows = [tuple(row) for row in tx.connection.execute(old.limit(AT_ONCE))]
        if rows:
            tx.connection.execute(sa.delete(keys).where(sa.tuple_(keys.c.whose, keys.c.key).in_(rows)))
        return len(rows)

    return older("s", tx.now - KEPT) + older("o", tx.now - KEPT_WITHOUT_ACTOR)
