"""Queries over samples by series, and over what is kept of them."""

from __future__ import annotations

import json
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime
from functools import cache
from typing import Any

import sqlalchemy as sa
from sqlalchemy.dialects import mysql

from fair_ladle.app.plumbing.database import batched, fetch, fetch_first, named_pairs
from fair_ladle.app.plumbing.prepared import Prepared, Question, in_utc
from fair_ladle.app.usage.rows import HeldNow, SeriesSample, StoredDay, StoredRecord
from fair_ladle.app.usage.tables import storage_samples, stored, stored_days

s, k = storage_samples, stored
_series = (s.c.product_id, s.c.account_id, s.c.category)


# Each series is looked up by its key, as many as there are: rows of several columns in IN would read the whole table.
_SAME = "s.product_id = k.product_id AND s.account_id = k.account_id AND s.category = k.category"
_STANDING = f"(SELECT %s FROM storage_samples s WHERE {_SAME} AND s.at <= :at%s ORDER BY s.at DESC LIMIT 1) AS b%s"
_WITH_INSTANT = "CONCAT(s.at, s.bytes)"
"""One look for both: an instant takes 26 characters."""
_FROM = """FROM JSON_TABLE(:series, '$[*]' COLUMNS (place FOR ORDINALITY, product_id BIGINT PATH '$[0]', account_id
    BIGINT PATH '$[1]', category VARCHAR(200) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin PATH '$[2]')) k"""


def levels(
    connection: sa.Connection, series: Sequence[tuple[int, int, str]], at: Sequence[datetime]
) -> list[tuple[list[int], datetime | None]]:
    """Of each of these (product, account, category), in their order: bytes at each of some instants, and when its
    newest sample up to the first of them was taken."""
    values = {f"at{n}": each.astimezone(UTC).replace(tzinfo=None) for n, each in enumerate(at)}
    found: list[tuple[list[int], datetime | None]] = [([0] * len(at), None)] * len(series)
    rows = connection.execute(_levels(len(at)), values | {"series": json.dumps(series)}).all()
    for place, first, *others in rows:
        size, newest = (0, None) if first is None else _size_and_instant(first)
        found[place - 1] = ([size, *(int(each or 0) for each in others)], newest)
    return found


@cache
def _levels(count: int) -> sa.TextClause:
    figures = [_STANDING % ("s.bytes" if n else _WITH_INSTANT, n, n) for n in range(count)]
    return sa.text(f"SELECT k.place, {', '.join(figures)} {_FROM}")


_SAYING_ELSE = Prepared(
    sa.text(
        """SELECT k.account_id, k.category FROM JSON_TABLE(:taken, '$[*]' COLUMNS (account_id BIGINT PATH '$[0]',
    at DATETIME(6) PATH '$[1]', NESTED PATH '$[2][*]' COLUMNS (
    category VARCHAR(200) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin PATH '$[0]', bytes BIGINT PATH '$[1]'))) k
    WHERE NOT COALESCE((SELECT s.bytes = k.bytes AND s.at < k.at FROM storage_samples s
    WHERE s.product_id = :product AND s.account_id = k.account_id AND s.category = k.category AND s.at <= :now
    ORDER BY s.at DESC LIMIT 1), FALSE)"""
    )
)
"""In WHERE: HAVING is worked out three times of each row. Rows of an account stand together: what is read of each of
many costs more than to look it up."""


def saying_else(
    connection: sa.Connection, product_id: int, taken: Mapping[int, tuple[datetime, Mapping[str, int]]], now: datetime
) -> list[tuple[int, str]]:
    """Those (account, category) of samples (by account: the instant, and bytes by category) that do not say again what
    the newest of their series, taken before them, has said."""
    found: list[tuple[int, str]] = []
    for part in _some_together(taken, LOOKED_UP_AT_ONCE):
        asked = [(each, _text(taken[each][0]), list(taken[each][1].items())) for each in part]
        values = {"product": product_id, "now": now, "taken": json.dumps(asked)}
        found += [(row.account_id, row.category) for row in _SAYING_ELSE.run(connection, values)]
    return found


def _some_together(taken: Mapping[int, tuple[datetime, Mapping[str, int]]], most: int) -> Iterator[list[int]]:
    """Accounts in parts with about so many samples."""
    part: list[int] = []
    count = 0
    for each, (_, sizes) in taken.items():
        part.append(each)
        count += len(sizes)
        if count >= most:
            yield part
            part, count = [], 0
    if part:
        yield part


LOOKED_UP_AT_ONCE = 5000


def _text(at: datetime) -> str:
    return at.astimezone(UTC).replace(tzinfo=None).isoformat(" ", "microseconds")


@dataclass(frozen=True)
class Standing:
    """What stands of an account: of some of its categories, in their order, the bytes and when the newest sample was
    taken; its total, where there was ever one, and its newest round."""

    sizes: list[tuple[int, datetime | None]]
    total: int | None
    round_at: datetime | None


_SERIES_NOW = f"""SELECT {_WITH_INSTANT} FROM storage_samples s WHERE s.product_id = :product
    AND s.account_id = :account AND s.category = :category AND s.at <= :at ORDER BY s.at DESC LIMIT 1"""
_OF_ACCOUNT = "product_id = :product AND %s.account_id = :account"
_FIRST_NOW = Prepared(
    sa.text(
        f"""SELECT ({_SERIES_NOW}) AS newest,
    (SELECT t.bytes FROM stored t WHERE t.{_OF_ACCOUNT % "t"} AND t.kind = '' AND t.name = '') AS total,
    (SELECT MAX(r.at) FROM sample_rounds r WHERE r.{_OF_ACCOUNT % "r"}) AS round_at"""
    )
)
_OTHER_NOW = Prepared(sa.text(f"SELECT ({_SERIES_NOW}) AS newest"))


def standing(product_id: int, account_id: int, categories: Sequence[str], at: datetime) -> Question[Standing]:
    """What stands of some categories of an account (one at least) at an instant: all that a write there has to know."""
    mine = {"product": product_id, "account": account_id, "at": at}
    series = [mine | {"category": each} for each in categories]

    def found(*rows: list[Any]) -> Standing:
        every = [row for [row] in rows]
        round_at = None if every[0].round_at is None else in_utc(every[0].round_at)
        sizes: list[tuple[int, datetime | None]] = [
            (0, None) if each.newest is None else _size_and_instant(each.newest) for each in every
        ]
        total = every[0].total
        return Standing(sizes, None if total is None else int(total), round_at)

    return Question([(_FIRST_NOW, series[0]), *((_OTHER_NOW, each) for each in series[1:])], found)


def _size_and_instant(both: str) -> tuple[int, datetime]:
    return int(both[26:]), in_utc(datetime.fromisoformat(both[:26]))


def levels_of_product(
    connection: sa.Connection, product_id: int, at: Sequence[datetime]
) -> Iterator[tuple[int, str, list[int], datetime | None]]:
    """Of every series of a product that has a sample up to one of some instants: account, category, bytes at each, and
    when its newest sample up to the first was taken. All of one pass, in the order of the key."""
    figures = ", ".join(f"MAX(CASE WHEN s.at <= :at{n} THEN {_WITH_INSTANT} END)" for n in range(len(at)))
    asked = sa.text(
        f"SELECT s.account_id, s.category, {figures} FROM storage_samples s "
        "WHERE s.product_id = :product_id AND s.at <= :last GROUP BY s.account_id, s.category"
    )
    values = {f"at{n}": each.astimezone(UTC).replace(tzinfo=None) for n, each in enumerate(at)}
    asked_of = values | {"product_id": product_id, "last": max(values.values())}
    for account_id, category, *found in connection.execute(asked, asked_of):
        sizes = [0 if each is None else int(each[26:]) for each in found]
        yield account_id, category, sizes, None if found[0] is None else datetime.fromisoformat(found[0][:26])


def series_between(
    connection: sa.Connection, product_id: int, spans: Sequence[tuple[datetime, datetime]]
) -> list[tuple[int, int, str]]:
    """The series of a product with a sample after the first and up to the second instant of one of these spans."""
    parts = [
        sa.select(*_series).where(s.c.product_id == product_id, s.c.at > begin, s.c.at <= end) for begin, end in spans
    ]
    return [(row.product_id, row.account_id, row.category) for row in connection.execute(sa.union(*parts))]


def first_after(connection: sa.Connection, product_id: int, at: datetime) -> datetime | None:
    """The instant of the first sample of a product that is later than another."""
    wanted = sa.select(sa.func.min(s.c.at)).where(s.c.product_id == product_id, s.c.at > at)
    found: datetime | None = connection.scalar(wanted)
    return found


def put_samples(connection: sa.Connection, rows: Sequence[dict[str, Any]]) -> None:
    """Write samples, each in place of one of the same series and instant."""
    for part in batched(rows):
        _PUT_SAMPLES.run_later(connection, *part)


def _of_columns(table: sa.Table, *names: str) -> mysql.Insert:
    return mysql.insert(table).values({name: sa.bindparam(name) for name in names})


def _put_samples() -> Prepared:
    put = _of_columns(s, "product_id", "account_id", "category", "at", "bytes")
    return Prepared(put.on_duplicate_key_update(bytes=put.inserted.bytes))


_PUT_SAMPLES = _put_samples()


_key = (k.c.product_id, k.c.account_id, k.c.kind, k.c.name)


def totals_of(connection: sa.Connection, keys: Collection[tuple[int, int]]) -> dict[tuple[int, int], int]:
    """The bytes that are kept of accounts in all, by (product, account)."""
    found = {}
    for product_id in sorted({product for product, _ in keys}):
        for part in batched(sorted({account for product, account in keys if product == product_id})):
            mine = [k.c.product_id == product_id, k.c.account_id.in_(part), k.c.kind == "", k.c.name == ""]
            for row in connection.execute(sa.select(k.c.account_id, k.c.bytes).where(*mine)):
                found[product_id, row.account_id] = int(row.bytes)
    return found


def all_stored(connection: sa.Connection, product_id: int) -> list[StoredRecord]:
    """All that is kept of a product."""
    return fetch(connection, sa.select(k).where(k.c.product_id == product_id), StoredRecord)


def add_stored(connection: sa.Connection, rows: Sequence[dict[str, Any]]) -> None:
    """Add to what is kept, or begin it; the newest instants stand."""
    for part in batched(rows):
        is_of_now = all(row["used_at"] is None and not any(row[each] for each in _FIGURES[1:]) for row in part)
        (_ADD_NOW if is_of_now else _ADD_STORED).run_later(connection, *part)


def _add_stored(is_of_now: bool) -> Prepared:
    """``is_of_now``: nothing changes of what was a while ago, nor of the last use."""
    begun: dict[str, Any] = dict.fromkeys(_FIGURES[1:], sa.literal_column("0")) if is_of_now else {}
    columns = ("product_id", "account_id", "kind", "name", *_FIGURES, "at", "used_at")
    put = _of_columns(k, *(each for each in columns if not is_of_now or each not in ("used_at", *begun))).values(begun)
    figures = {name: k.c[name] + put.inserted[name] for name in _FIGURES if name not in begun}
    said = put.inserted.used_at
    later = {"at": sa.func.greatest(k.c.at, put.inserted.at)}
    if not is_of_now:
        later["used_at"] = sa.func.coalesce(sa.func.greatest(k.c.used_at, said), said, k.c.used_at)
    return Prepared(put.on_duplicate_key_update(**figures, **later))


_FIGURES = ("bytes", "week_ago", "month_ago", "quarter_ago")
_ADD_STORED, _ADD_NOW = _add_stored(False), _add_stored(True)


def replace_stored(connection: sa.Connection, product_id: int, rows: Sequence[dict[str, Any]]) -> None:
    """Let these be all that is kept of a product; what is known of a last use stays."""
    wanted = sa.select(*_key, k.c.used_at).where(k.c.product_id == product_id)
    there = {(row.account_id, row.kind, row.name): row.used_at for row in connection.execute(wanted)}
    put = mysql.insert(k)
    names = ("bytes", "week_ago", "month_ago", "quarter_ago", "at", "used_at")
    statement = put.on_duplicate_key_update({name: put.inserted[name] for name in names})
    for part in batched(
        [row | {"used_at": there.pop((row["account_id"], row["kind"], row["name"]), None)} for row in rows]
    ):
        connection.execute(statement, part)
    for some in batched(sorted(there)):
        gone = sa.tuple_(k.c.account_id, k.c.kind, k.c.name).in_(some)
        connection.execute(sa.delete(k).where(k.c.product_id == product_id, gone))


def samples_of(
    connection: sa.Connection, product_id: int, account_id: int, categories: Collection[str], until: datetime
) -> list[SeriesSample]:
    """Category, instant and bytes of the samples of some series of an account up to an instant, the earlier first."""
    mine = [s.c.product_id == product_id, s.c.account_id == account_id, s.c.category.in_(categories), s.c.at <= until]
    return fetch(connection, sa.select(s.c.category, s.c.at, s.c.bytes).where(*mine).order_by(s.c.at), SeriesSample)


def empty_stored(connection: sa.Connection, account_ids: Collection[int], at: datetime) -> None:
    """Let these accounts store nothing from an instant on."""
    connection.execute(sa.update(k).where(k.c.account_id.in_(account_ids), k.c.bytes > 0).values(bytes=0, at=at))


def set_delete_at(
    connection: sa.Connection, product_id: int, account_id: int, names: Collection[str], at: datetime | None
) -> None:
    """Let what these people have of their own in an account be gone at an instant; None = it stays."""
    mine = k.c.product_id == product_id, k.c.account_id == account_id, k.c.kind == "person"
    for part in batched(names):
        connection.execute(sa.update(k).where(*mine, k.c.name.in_(part)).values(delete_at=at))


def of_people(
    connection: sa.Connection, product_ids: Collection[int], homes: Collection[tuple[int, str]]
) -> list[StoredRecord]:
    """What people store of these products as their own, each (account, username) of ``homes`` in that account."""
    found = []
    for product_id in product_ids:
        asked = named_pairs(homes)
        same = sa.and_(k.c.account_id == asked.c.a, k.c.name == asked.c.b)
        mine = sa.select(k).select_from(asked.join(k, same)).where(k.c.product_id == product_id, k.c.kind == "person")
        found.append(mine.prefix_with("STRAIGHT_JOIN"))
    return fetch(connection, sa.union_all(*found), StoredRecord)


_HOLDER: dict[str, sa.BindParameter[Any]] = {
    name: sa.bindparam(f"of_{name}") for name in ("product_id", "account_id", "kind", "name")
}
_THEIRS = [k.c[name] == each for name, each in _HOLDER.items()]
_HELD = Prepared(sa.select(k.c.bytes, k.c.past_limit_since).where(*_THEIRS))
_PAST_LIMIT = Prepared(sa.update(k).where(*_THEIRS).values(past_limit_since=sa.bindparam("since")))


def _holder(product_id: int, account_id: int, kind: str, name: str) -> dict[str, Any]:
    return {"of_product_id": product_id, "of_account_id": account_id, "of_kind": kind, "of_name": name}


def held(product_id: int, account_id: int, kind: str, name: str) -> Question[HeldNow | None]:
    """What a holder (kind and name) of an account stores."""
    return Question([(_HELD, _holder(product_id, account_id, kind, name))], lambda rows: next(iter(rows), None))


def past_limit(
    connection: sa.Connection, product_id: int, account_id: int, username: str, since: datetime | None
) -> None:
    """Say since when somebody is over their limit; None takes it back."""
    _PAST_LIMIT.run_later(connection, _holder(product_id, account_id, "person", username) | {"since": since})


def series_of(connection: sa.Connection, product_id: int, account_id: int, category: str) -> list[str]:
    """A category and those below it, of which there are samples of an account."""
    mine = [s.c.product_id == product_id, s.c.account_id == account_id, _within(category)]
    return list(connection.scalars(sa.select(s.c.category).distinct().where(*mine)))


def naming(
    connection: sa.Connection, product_ids: Collection[int], account_ids: Collection[int], username: str
) -> list[tuple[int, int, str]]:
    """The series of these products that are somebody's own in whatever account, or what they wrote to a folder of these
    accounts."""
    same = sa.and_(s.c.product_id == k.c.product_id, s.c.account_id == k.c.account_id)
    theirs = [k.c.product_id.in_(product_ids), k.c.kind == "person", k.c.name == username, _within(f"home/{username}")]
    own = sa.select(*_series).select_from(k.join(s, same)).where(*theirs)
    in_folders = [
        s.c.category > "folder/",
        s.c.category < "folder0",
        s.c.category.endswith(f"/{username}", autoescape=True),
    ]
    mine = [s.c.product_id.in_(product_ids), s.c.account_id.in_(account_ids), *in_folders]
    found = connection.execute(sa.union(own, sa.select(*_series).where(*mine)))
    return sorted((row.product_id, row.account_id, row.category) for row in found)


def _within(category: str) -> sa.ColumnElement[bool]:
    # "0" is what comes after "/".
    return sa.or_(s.c.category == category, sa.and_(s.c.category > f"{category}/", s.c.category < f"{category}0"))


def rename_series(connection: sa.Connection, series: tuple[int, int, str], by: str) -> None:
    """Call a category of an account something else, in all its samples."""
    product_id, account_id, category = series
    mine = [s.c.product_id == product_id, s.c.account_id == account_id, s.c.category == category]
    connection.execute(sa.update(s).where(*mine).values(category=by))


def rename_stored(connection: sa.Connection, product_id: int, account_id: int, username: str, by: str) -> None:
    """Call whoever stores something in an account something else."""
    mine = [k.c.product_id == product_id, k.c.account_id == account_id, k.c.kind == "person", k.c.name == username]
    connection.execute(sa.update(k).where(*mine).values(name=by))


def stored_days_of(connection: sa.Connection, product_ids: Collection[int]) -> list[StoredDay]:
    """From which day the figures of these products are counted back, and when the first sample is still to come."""
    return fetch(connection, sa.select(stored_days).where(stored_days.c.product_id.in_(product_ids)), StoredDay)


def put_stored_days(
    connection: sa.Connection, product_ids: Sequence[int], day: date, ahead_at: datetime | None
) -> None:
    """Say from which day the figures of these products are counted back, and when the first sample is still to come."""
    rows = [{"product_id": each, "day": day, "ahead_at": ahead_at} for each in product_ids]
    put = mysql.insert(stored_days).values(rows)
    connection.execute(put.on_duplicate_key_update(day=put.inserted.day, ahead_at=put.inserted.ahead_at))


def lock_stored_day(connection: sa.Connection, product_id: int) -> StoredDay | None:
    """A product's row, locked; None where there is none yet."""
    wanted = sa.select(stored_days).where(stored_days.c.product_id == product_id).with_for_update()
    return fetch_first(connection, wanted, StoredDay)
