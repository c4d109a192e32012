"""Queries over rounds of samples, and over the rows that they repeat."""

from __future__ import annotations

import json
from collections.abc import Collection, Iterator, Mapping, Sequence
from datetime import UTC, datetime
from typing import Any

import sqlalchemy as sa
from sqlalchemy.dialects import mysql

from fair_ladle.app.plumbing.database import batched, fetch
from fair_ladle.app.usage.rows import Round, SampleSet
from fair_ladle.app.usage.tables import sample_rounds, sample_sets, storage_samples

r, c = sample_rounds, sample_sets


def newest(connection: sa.Connection, accounts: Collection[tuple[int, int]]) -> dict[tuple[int, int], datetime]:
    """The instant of the newest round of accounts, by (product, account)."""
    found = {}
    for product_id in sorted({product for product, _ in accounts}):
        for part in batched(sorted({account for product, account in accounts if product == product_id})):
            mine = [r.c.product_id == product_id, r.c.account_id.in_(part)]
            wanted = sa.select(r.c.account_id, sa.func.max(r.c.at).label("at")).where(*mine).group_by(r.c.account_id)
            for row in connection.execute(wanted):
                found[product_id, row.account_id] = row.at
    return found


# By key, as many as there are: rows of several columns in IN would read the whole table.
_SAME = "s.product_id = k.product_id AND s.account_id = k.account_id AND s.category = k.category"
_SINCE = sa.text(
    f"""SELECT k.place, s.at, s.bytes FROM JSON_TABLE(:series, '$[*]' COLUMNS (place FOR ORDINALITY,
    product_id BIGINT PATH '$[0]', account_id BIGINT PATH '$[1]',
    category VARCHAR(200) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin PATH '$[2]',
    first DATETIME(6) PATH '$[3]')) k
    JOIN storage_samples s ON {_SAME} AND s.at >= COALESCE(
    (SELECT MAX(n.at) FROM storage_samples n WHERE {_SAME.replace("s.", "n.")} AND n.at <= k.first), k.first)"""
).columns(at=storage_samples.c.at.type)


def rows_since(
    connection: sa.Connection, first: Mapping[tuple[int, int, str], datetime]
) -> Iterator[tuple[tuple[int, int, str], datetime, int]]:
    """(series, instant, bytes) of the rows of series, each from its newest no later than an instant on."""
    for part in batched(sorted(first)):
        asked = [(*each, first[each].astimezone(UTC).replace(tzinfo=None).isoformat(" ")) for each in part]
        for row in connection.execute(_SINCE, {"series": json.dumps(asked)}):
            yield part[row.place - 1], row.at, int(row.bytes)


def rounds_since(
    connection: sa.Connection, product_id: int, account_ids: Collection[int], first: datetime
) -> list[Round]:
    """(account, instant, digest) of the rounds of accounts from an instant on, the earlier first."""
    mine = [r.c.product_id == product_id, r.c.account_id.in_(account_ids), r.c.at >= first]
    wanted = sa.select(r.c.account_id, r.c.at, r.c.digest).where(*mine).order_by(r.c.account_id, r.c.at)
    return fetch(connection, wanted, Round)


def sets_of(connection: sa.Connection, account_ids: Collection[int]) -> list[SampleSet]:
    """(account, digest, packed categories) of the sets of accounts."""
    return fetch(connection, sa.select(c).where(c.c.account_id.in_(account_ids)), SampleSet)


def there_of(connection: sa.Connection, keys: Collection[tuple[int, bytes]]) -> set[tuple[int, bytes]]:
    """Those of these sets (account, digest) that are kept."""
    found: set[tuple[int, bytes]] = set()
    for part in batched(sorted(keys)):
        accounts, digests = ({each[place] for each in part} for place in (0, 1))
        mine = [c.c.account_id.in_(accounts), c.c.digest.in_(digests)]
        found.update(tuple(row) for row in connection.execute(sa.select(c.c.account_id, c.c.digest).where(*mine)))
    return found


def replace_set(connection: sa.Connection, account_id: int, digest: bytes, by: bytes) -> None:
    """Let the rounds of one set of an account be of another one, in place of it."""
    mine = [r.c.account_id == account_id, r.c.digest == digest]
    connection.execute(sa.update(r).where(*mine).values(digest=by))
    connection.execute(sa.delete(c).where(c.c.account_id == account_id, c.c.digest == digest))


def keep(connection: sa.Connection, sets: Mapping[tuple[int, bytes], bytes], rounds: Sequence[dict[str, Any]]) -> None:
    """Keep sets of categories by account and digest, and rounds of them, as far as they are not there."""
    for part in batched(sorted(sets)):
        rows = [{"account_id": key[0], "digest": key[1], "categories": sets[key]} for key in part]
        put = mysql.insert(c)
        connection.execute(put.on_duplicate_key_update(account_id=put.inserted.account_id), rows)
    for some in batched(rounds):
        again = mysql.insert(r)
        connection.execute(again.on_duplicate_key_update(account_id=again.inserted.account_id), some)
