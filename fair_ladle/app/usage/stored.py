"""What each person, shared folder and other category of an account stores now, and did a week, a month and a quarter
ago: the samples added up, and kept.

Beside them stands the account's own total, of kind ALL. Trusted: the caller has judged scope, and holds the counters of
the accounts of which it records samples, so that no two add to one row from the same figure.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.plumbing.database import Transaction, batched, in_utc
from fair_ladle.app.usage import stored_store as store
from fair_ladle.core.quantities import BYTES_PER_GRAIN

HOME, FOLDER = "home/", "folder/"
PERSON, SHARED, CATEGORY, ALL = "person", "folder", "category", ""
BACK = {"week_ago": 7, "month_ago": 30, "quarter_ago": 90}
"""Days back, by column."""
FIGURES = ("bytes", *BACK)
Series = tuple[int, int, str]
"""Product, account and category."""


def holder_of(category: str) -> tuple[str, str]:
    """Whose a category is: kind and name (a username, a folder's code, or the category itself)."""
    for prefix, kind in ((HOME, PERSON), (FOLDER, SHARED)):
        name = category.removeprefix(prefix).split("/")[0]
        if category.startswith(prefix) and name:
            return kind, name
    return CATEGORY, category


def grains(in_bytes: int) -> int:
    """Bytes as grains, rounded half up."""
    return (in_bytes + BYTES_PER_GRAIN // 2) // BYTES_PER_GRAIN


@dataclass(frozen=True)
class Level:
    """Bytes of a series at several instants, in the order of FIGURES, and when its newest sample was taken."""

    figures: tuple[int, ...]
    at: datetime | None


def instants(tx: Transaction, day: date, now: datetime) -> list[datetime]:
    """Now, and the ends of the days so many before a day."""
    return [now, *(_end_of(tx, day - timedelta(days=back)) for back in BACK.values())]


def _end_of(tx: Transaction, day: date) -> datetime:
    return accounts_service.start_of(tx, day + timedelta(days=1)) - timedelta(microseconds=1)


def levels(tx: Transaction, series: Collection[Series], at: Sequence[datetime]) -> dict[Series, Level]:
    """What these series come to at some instants, the first of which is now."""
    found: dict[Series, list[int]] = {each: [0] * len(at) for each in series}
    newest: dict[Series, datetime] = {}
    for place, instant in enumerate(at):
        for part in batched(series):
            for row in store.newest_of_series(tx.connection, part, instant):
                key = row.product_id, row.account_id, row.category
                found[key][place] = int(row.bytes)
                if place == 0:
                    newest[key] = in_utc(row.at)
    return {each: Level(tuple(figures), newest.get(each)) for each, figures in found.items()}


def record(
    tx: Transaction, rows: Sequence[dict[str, Any]], used_at: Mapping[Series, datetime] | None = None
) -> dict[tuple[int, int], int]:
    """Write samples (product_id, account_id, category, at, bytes), each in place of one of the same instant; by how
    many grains what is stored now differs, by product and account. ``used_at``: the last use of some series.

    The counters are the caller's.
    """
    used, now = used_at or {}, tx.now
    series = sorted({(row["product_id"], row["account_id"], row["category"]) for row in rows})
    products = sorted({each[0] for each in series})
    day = days(tx, products)
    before: dict[Series, Level] = {}
    after: dict[Series, Level] = {}
    mine = {product: [each for each in series if each[0] == product] for product in products}
    for product, some in mine.items():
        before |= levels(tx, some, instants(tx, day[product], now))
    store.put_samples(tx.connection, rows)
    for product, some in mine.items():
        after |= levels(tx, some, instants(tx, day[product], now))
    return _add(tx, before, after, used)


def _add(
    tx: Transaction, before: Mapping[Series, Level], after: Mapping[Series, Level], used: Mapping[Series, datetime]
) -> dict[tuple[int, int], int]:
    """Let the kept figures follow; by how many grains each account's total now differs."""
    changes: dict[tuple[int, int, str, str], list[int]] = defaultdict(lambda: [0] * len(FIGURES))
    newest: dict[tuple[int, int, str, str], datetime] = {}
    last: dict[tuple[int, int, str, str], datetime] = {}
    for each, level in after.items():
        product_id, account_id, category = each
        whose = (product_id, account_id, *holder_of(category))
        for key in (whose, (product_id, account_id, ALL, "")):
            for place, figure in enumerate(level.figures):
                changes[key][place] += figure - before[each].figures[place]
            if level.at is not None:
                newest[key] = max(level.at, newest.get(key, level.at))
            if each in used:
                last[key] = max(used[each], last.get(key, used[each]))
    totals = [key for key in changes if key[2] == ALL]
    was = store.stored_of(tx.connection, totals)
    rows = [
        dict(zip(("product_id", "account_id", "kind", "name"), key, strict=True))
        | dict(zip(FIGURES, by, strict=True))
        | {"at": newest.get(key, tx.now), "used_at": last.get(key)}
        for key, by in sorted(changes.items())
    ]
    store.add_stored(tx.connection, rows)
    found = {}
    for product_id, account_id, kind, name in totals:
        key = product_id, account_id, kind, name
        there = was.get(key, 0)
        found[product_id, account_id] = grains(there + changes[key][0]) - grains(there)
    return found


def days(tx: Transaction, product_ids: Sequence[int]) -> dict[int, date]:
    """The day from which a product's figures are counted back; begun today where there is none yet."""
    there = {row.product_id: row.day for row in store.stored_days_of(tx.connection, product_ids)}
    today = accounts_service.today(tx)
    missing = [each for each in product_ids if each not in there]
    if missing:
        store.put_stored_days(tx.connection, missing, today, False)
    return {each: there.get(each, today) for each in product_ids}


def rebuild(tx: Transaction, product_ids: Collection[int]) -> None:
    """Make what is kept of these products anew from their samples; what is known of a last use stays."""
    today, now = accounts_service.today(tx), tx.now
    for product_id in sorted(product_ids):
        store.put_stored_days(tx.connection, [product_id], today, store.has_after(tx.connection, product_id, now))
        at = instants(tx, today, now)
        fresh = _from_samples(tx, product_id, at)
        store.replace_stored(tx.connection, product_id, fresh)


def _from_samples(tx: Transaction, product_id: int, at: Sequence[datetime]) -> list[dict[str, Any]]:
    figures: dict[tuple[int, str, str], list[int]] = defaultdict(lambda: [0] * len(FIGURES))
    newest: dict[tuple[int, str, str], datetime] = {}
    for place, instant in enumerate(at):
        for row in store.newest_of_product(tx.connection, product_id, instant):
            for key in ((row.account_id, *holder_of(row.category)), (row.account_id, ALL, "")):
                figures[key][place] += int(row.bytes)
                if place == 0:
                    newest[key] = max(in_utc(row.at), newest.get(key, in_utc(row.at)))
    return [
        {"product_id": product_id, "account_id": account_id, "kind": kind, "name": name}
        | dict(zip(FIGURES, by, strict=True))
        | {"at": newest.get((account_id, kind, name), at[0])}
        for (account_id, kind, name), by in sorted(figures.items())
    ]


def age(tx: Transaction, product_id: int) -> bool:
    """Count a product's figures back from today, and take in samples whose instant has come; whether anything was to
    do. Only series with a sample in the days that pass are read.

    Locks: the product's row of ``stored_days``; who records samples meanwhile adds to what is there.
    """
    there = store.lock_stored_day(tx.connection, product_id)
    today = accounts_service.today(tx)
    if there is not None and there.day >= today:
        return False
    if there is None or there.ahead:
        rebuild(tx, [product_id])
        return True
    day = there.day
    passing = [
        (_end_of(tx, day - timedelta(days=back)), _end_of(tx, today - timedelta(days=back))) for back in BACK.values()
    ]
    series = store.series_between(tx.connection, product_id, passing)
    before = {each: Level(level.figures, None) for each, level in levels(tx, series, instants(tx, day, tx.now)).items()}
    store.put_stored_days(tx.connection, [product_id], today, False)
    _add(tx, before, levels(tx, series, instants(tx, today, tx.now)), {})
    return True


def differences(tx: Transaction, product_id: int) -> Iterator[tuple[int, str, str, str, str]]:
    """Account, kind and name of what is kept of a product and is not what its samples come to, with what was found and
    what the samples say."""
    there = next(iter(store.stored_days_of(tx.connection, [product_id])), None)
    if there is None or there.ahead:
        return
    facts = {
        (row["account_id"], row["kind"], row["name"]): tuple(row[each] for each in FIGURES)
        for row in _from_samples(tx, product_id, instants(tx, there.day, tx.now))
    }
    kept = {
        (row.account_id, row.kind, row.name): tuple(getattr(row, each) for each in FIGURES)
        for row in store.all_stored(tx.connection, product_id)
    }
    none = (0,) * len(FIGURES)
    for key in sorted(facts.keys() | kept.keys()):
        if facts.get(key, none) != kept.get(key, none):
            yield (*key, str(kept.get(key, none)), str(facts.get(key, none)))
