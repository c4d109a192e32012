"""Samples that say nothing new: of these no row is kept, only that they were taken.

A row of ``storage_samples`` stands where the bytes of a series become others. That the same was said again at an
instant is a round: the account, the instant, and which of its categories were measured then, a set that many rounds
share. It changes no figure, but decides how far a sample reaches that comes late: up to the next one, row or round. So
what is kept, and what a month's reading goes through, grows with what changed and not with days times subjects.
"""

from __future__ import annotations

import hashlib
import zlib
from collections import defaultdict
from collections.abc import Collection, Iterable, Mapping
from datetime import datetime
from typing import Any

from fair_ladle.app.plumbing.database import Transaction, batched
from fair_ladle.app.plumbing.prepared import in_utc
from fair_ladle.app.usage import rounds_store as store

Account = tuple[int, int]
"""Product and account."""
Series = tuple[int, int, str]
"""Product, account and category."""
Sizes = Mapping[datetime, int]


def sift(rows: Sizes, rounds: Iterable[datetime], taken: Sizes) -> tuple[dict[datetime, int], list[datetime]]:
    """What to write so that a series holds what was taken, and all that was said before besides.

    Args:
        rows: bytes by instant of its rows, from the newest that is no later than the first taken on.
        rounds: the instants after that at which the same was said again.
        taken: bytes by instant; each in place of what was said at the same one.

    Returns:
        rows to write, and the instants of what was taken that say nothing new.
    """
    written: dict[datetime, int] = {}
    repeats: list[datetime] = []
    level: int | None = None
    for at, size in sorted({**said(rows, rounds), **taken}.items()):
        if at in rows:
            if rows[at] != size:
                written[at] = size
        elif size != level:
            written[at] = size
        elif at in taken:
            repeats.append(at)
        level = size
    return written, repeats


def said(rows: Sizes, rounds: Iterable[datetime]) -> dict[datetime, int]:
    """Bytes by instant that rows and rounds of a series say."""
    found: dict[datetime, int] = {}
    level: int | None = None
    for at in sorted({*rows, *rounds}):
        level = rows.get(at, level)
        if level is not None:
            found[at] = level
    return found


def newest(tx: Transaction, accounts: Collection[Account]) -> dict[Account, datetime]:
    """When the newest round of accounts was, of those that have any."""
    return {key: in_utc(at) for key, at in store.newest(tx.connection, accounts).items()}


def known(
    tx: Transaction, first: Mapping[Series, datetime]
) -> tuple[dict[Series, dict[datetime, int]], dict[Series, list[datetime]]]:
    """Of series, each from the newest row no later than an instant on: the bytes of its rows by instant, and the
    instants of its rounds."""
    rows: dict[Series, dict[datetime, int]] = {each: {} for each in first}
    for each, at, size in store.rows_since(tx.connection, first):
        rows[each][in_utc(at)] = size
    mine: dict[Account, list[Series]] = defaultdict(list)
    for series in first:
        mine[series[:2]].append(series)
    rounds: dict[Series, list[datetime]] = {each: [] for each in first}
    later = [key for key, at in newest(tx, mine).items() if at >= min(first[each] for each in mine[key])]
    for product_id in sorted({key[0] for key in later}):
        for part in batched(sorted(account for product, account in later if product == product_id)):
            sets = {
                (row.account_id, row.digest): frozenset(zlib.decompress(row.categories).decode().split("\n"))
                for row in store.sets_of(tx.connection, part)
            }
            since = min(first[each] for account in part for each in mine[product_id, account])
            for taken in store.rounds_since(tx.connection, product_id, part, since):
                for each in mine[product_id, taken.account_id]:
                    if each[2] in sets[taken.account_id, taken.digest]:
                        rounds[each].append(in_utc(taken.at))
    return rows, rounds


def keep(tx: Transaction, taken: Mapping[tuple[int, int, datetime], Collection[str]]) -> None:
    """Keep rounds: the categories that were measured, by product, account and instant."""
    texts: dict[tuple[int, bytes], bytes] = {}
    rows: list[dict[str, Any]] = []
    for (product_id, account_id, at), categories in sorted(taken.items()):
        text, digest = _set(categories)
        texts[account_id, digest] = text
        rows.append({"product_id": product_id, "account_id": account_id, "at": at, "digest": digest})
    new = texts.keys() - store.there_of(tx.connection, texts)
    store.keep(tx.connection, {key: zlib.compress(texts[key]) for key in new}, rows)


def rename(tx: Transaction, names: Mapping[tuple[int, str], str]) -> None:
    """Call categories, by account and name, something else in every set they are in."""
    for row in store.sets_of(tx.connection, {account_id for account_id, _ in names}):
        before = zlib.decompress(row.categories).decode().split("\n")
        after = [names.get((row.account_id, each), each) for each in before]
        if after != before:
            text, digest = _set(after)
            store.keep(tx.connection, {(row.account_id, digest): zlib.compress(text)}, [])
            store.replace_set(tx.connection, row.account_id, row.digest, digest)


def _set(categories: Iterable[str]) -> tuple[bytes, bytes]:
    """A set as text, and its digest. Categories are printable: no name has a line's end in it."""
    text = "\n".join(sorted(categories)).encode()
    return text, hashlib.blake2b(text, digest_size=16).digest()
