"""What closed months were priced with, and what they were made of: written once, never changed."""

from __future__ import annotations

import hashlib
import zlib
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date
from typing import Any

from pydantic import TypeAdapter

from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.plumbing import generations
from fair_ladle.app.plumbing.cache import Cache
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.statements import closed_store
from fair_ladle.app.statements.terms import Terms
from fair_ladle.core.pricing import Rate


@dataclass(frozen=True)
class KeptBook:
    """The rates and terms of one seller that a month was closed with, used or not."""

    rates: list[Rate]
    terms: Terms


_adapter = TypeAdapter(KeptBook)
_books: Cache[KeptBook] = Cache(256, megabytes=16)


def packed(json: bytes) -> tuple[bytes, str]:
    """A document as it is stored, and the hash of what stands in it."""
    # A further step would take twice as long for a tenth less.
    return zlib.compress(json, 4), hashlib.sha256(json).hexdigest()


def unpacked(document: bytes) -> tuple[bytes, str]:
    """What stands in a stored document, and its hash."""
    json = zlib.decompress(document)
    return json, hashlib.sha256(json).hexdigest()


def packed_book(book: KeptBook) -> tuple[bytes, str]:
    """A book as it is stored, and its hash."""
    return packed(_adapter.dump_json(book))


def kept_books(tx: Transaction, accounts: Accounts, first: date) -> Mapping[str, KeptBook]:
    """The books of the sellers among these accounts that have closed the month that begins on a day, by code."""
    found = {}
    for closed in closed_months(tx):
        row = accounts.row_of_id.get(closed.seller_id) if closed.first_day == first else None
        if row is not None:
            found[accounts.tree.codes[row]] = _book(tx, closed.seller_id, first, closed.hash)
    return found


def closed_months(tx: Transaction) -> list[Any]:
    """seller_id, first_day, made_of and hash of every closed month, by seller and in order; kept in this process while
    none is closed."""
    key = (tx.installation, generations.numbers(tx, "closings"))
    return _closed.get(key, lambda: closed_store.closed_months(tx.connection))


_closed: Cache[list[Any]] = Cache(4, megabytes=8)


def _book(tx: Transaction, seller_id: int, first: date, digest: str) -> KeptBook:
    return _books.get((tx.installation, seller_id, first, digest), lambda: _read(tx, seller_id, first))


def _read(tx: Transaction, seller_id: int, first: date) -> KeptBook:
    return _adapter.validate_json(unpacked(closed_store.book(tx.connection, seller_id, first))[0])
