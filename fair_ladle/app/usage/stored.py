"""What each person, shared folder and other category of an account stores now, and did a week, a month and a quarter
ago: the samples added up, and kept.

Beside them stands the account's own total, of kind ALL. Trusted: the caller has judged scope, and holds the counters of
the accounts of which it records samples, so that no two add to one row from the same figure.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime, timedelta
from functools import lru_cache
from typing import Any
from zoneinfo import ZoneInfo

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.plumbing.database import Transaction, batched
from fair_ladle.app.plumbing.merge import MOST_CHANGES, Merged, Progress
from fair_ladle.app.plumbing.prepared import Question, in_utc
from fair_ladle.app.usage import rounds, whose
from fair_ladle.app.usage import stored_store as store
from fair_ladle.app.usage.rows import StoredDay
from fair_ladle.core.calendar import MICRO, day_start, instant, local_day
from fair_ladle.core.quantities import BYTES_PER_GRAIN

HOME, FOLDER = "home/", "folder/"
PERSON, SHARED, CATEGORY, ALL = "person", "folder", "category", ""
BACK = {"week_ago": 7, "month_ago": 30, "quarter_ago": 90}
"""Days back, by column."""
FIGURES = ("bytes", *BACK)
Series = rounds.Series


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


Taken = Mapping[tuple[int, int], Mapping[datetime, Mapping[str, int]]]
"""Bytes by product and account, instant, and category."""


def by_account(rows: Iterable[Mapping[str, Any]]) -> dict[tuple[int, int], dict[datetime, dict[str, int]]]:
    """Samples (product_id, account_id, category, at, bytes) by account; the last of the same series and instant."""
    found: dict[tuple[int, int], dict[datetime, dict[str, int]]] = defaultdict(lambda: defaultdict(dict))
    for row in rows:
        found[row["product_id"], row["account_id"]][row["at"]][row["category"]] = row["bytes"]
    return found


@dataclass(frozen=True)
class Level:
    """Bytes of a series at several instants, in the order of FIGURES, and when its newest sample was taken."""

    figures: tuple[int, ...]
    at: datetime | None


def instants(zone: ZoneInfo, day: date, now: datetime) -> list[datetime]:
    """Now, and the ends of the days so many before a day."""
    return [now, *ends(zone, day)[1:]]


def ends(zone: ZoneInfo, day: date) -> list[datetime]:
    """The ends of a day, and of those a week, a month and a quarter before."""
    return [_end_of(zone, day - timedelta(days=back)) for back in (0, *BACK.values())]


@lru_cache(1000)
def _end_of(zone: ZoneInfo, day: date) -> datetime:
    return instant(day_start(day + timedelta(days=1), zone) * MICRO) - timedelta(microseconds=1)


def levels(tx: Transaction, series: Collection[Series], at: Sequence[datetime]) -> dict[Series, Level]:
    """What these series come to at some instants, the first of which is now."""
    found: dict[Series, Level] = {}
    for part in batched(series):
        for each, (figures, newest) in zip(part, store.levels(tx.connection, part, at), strict=True):
            found[each] = Level(tuple(figures), newest)
    return found


def record(
    tx: Transaction,
    taken_of: Taken,
    zone: ZoneInfo,
    used_at: Mapping[Series, datetime] | None = None,
) -> Recorded:
    """Take samples in, each in place of one of the same series and instant.
    ``used_at``: the last use of some series.

    The counters are the caller's.
    """
    used, now = used_at or {}, tx.now
    products = sorted({each[0] for each in taken_of})
    day = days(tx, products, local_day(now, zone))
    rounds_at = rounds.newest(tx, taken_of.keys())
    before: dict[Series, Level] = {}
    after: dict[Series, Level] = {}
    late: dict[tuple[int, int], list[Series]] = {}
    of_series: dict[Series, dict[datetime, int]] = {}
    sifted = _Sifted()
    for product in products:
        at = instants(zone, day[product], now)
        mine = {each: taken for each, taken in taken_of.items() if each[0] == product}
        # Most of what is reported every night says what was said the night before.
        other = _saying_else(tx, mine, used, (at[1], now))
        of_product: dict[Series, dict[datetime, int]] = defaultdict(dict)
        for key, of_account in mine.items():
            for when, sizes in of_account.items():
                said = other.get(key, sizes)
                if len(said) < len(sizes):
                    sifted.repeats.add((*key, when))
                for category in said:
                    of_product[*key, category][when] = sizes[category]
        of_series |= of_product
        # What was a while ago is touched only by what comes late.
        old = [each for each, taken in of_product.items() if min(taken) <= at[1]]
        new = [each for each, taken in of_product.items() if min(taken) > at[1]]
        for some, count in ((old, len(at)), (new, 1)):
            before |= levels(tx, some, at[:count])
            late[product, count] = []
            for each in some:
                taken, was, round_at = of_series[each], before[each], rounds_at.get(each[:2])
                first, last = min(taken), was.at
                is_before = (last is not None and first < last) or (round_at is not None and first < round_at)
                if count > 1 or is_before or max(taken) > now:
                    late[product, count].append(each)
                    continue
                if last is not None and last < first and len(taken) == 1 and taken[first] == was.figures[0]:
                    sifted.repeats.add((product, each[1], first))
                    if each in used:
                        after[each] = was
                    continue
                there = {} if last is None else {last: was.figures[0]}
                new_at = sifted.add(each, there, (), taken)
                after[each] = Level((taken[max(taken)],), new_at or last)
    firsts = {each: min(of_series[each]) for some in late.values() for each in some}
    if firsts:
        there_of, again_of = rounds.known(tx, firsts)
        for each in firsts:
            sifted.add(each, there_of[each], again_of[each], of_series[each])
    sifted.write(tx, taken_of)
    for (product, count), some in late.items():
        if some:
            after |= levels(tx, some, instants(zone, day[product], now)[:count])
    changes = _add(tx, before, after, used)
    _begin(tx, before)
    return Recorded(changes, sifted.rows)


def _begin(tx: Transaction, before: Mapping[Series, Level]) -> None:
    """Find whose it is that somebody stores from now on."""
    begun = {(each[0], each[1], holder_of(each[2])) for each, level in before.items() if level.at is None}
    whose.begin(tx, {(product_id, of, name) for product_id, of, (kind, name) in begun if kind == PERSON})


def record_now(tx: Transaction, zone: ZoneInfo, known: Known, sizes: Mapping[str, int], at: datetime) -> None:
    """Let categories store so many bytes from now on, which is later than all samples that are ``known`` of them: as
    ``record`` does, and of much else nothing has to be found out. ``at`` may be a little ahead of this clock."""
    product_id, account_id = known.account
    before = {each: was for each, was in known.levels.items() if was.at is None or was.figures[0] != sizes[each[2]]}
    if known.round_at is not None and known.round_at >= at:
        before = {}
    others = {each[2]: sizes[each[2]] for each in known.levels if each not in before}
    if others:
        record(tx, {known.account: {at: others}}, zone)
    if not before:
        return
    if known.total is None:
        days(tx, [product_id], local_day(at, zone))
    rows = [
        {"product_id": product_id, "account_id": account_id, "category": each[2], "at": at, "bytes": sizes[each[2]]}
        for each in before
    ]
    store.put_samples(tx.connection, rows)
    after = {each: Level((sizes[each[2]],), at) for each in before}
    _add(tx, before, after, {}, {known.account: known.total or 0})
    _begin(tx, before)


def _saying_else(
    tx: Transaction,
    taken_of: Taken,
    used: Collection[Series],
    between: tuple[datetime, datetime],
) -> dict[rounds.Account, set[str]]:
    """Of those accounts of a product of which samples were taken at one instant, after the first and up to the second
    of two: the categories that do not say again what the newest row of theirs has said before, or have been used."""
    after, until = between
    asked: dict[rounds.Account, tuple[datetime, Mapping[str, int]]] = {}
    for key, of_account in taken_of.items():
        at = min(of_account)
        if len(of_account) == 1 and after < at <= until:
            asked[key] = at, of_account[at]
    found: dict[rounds.Account, set[str]] = {key: set() for key in asked}
    for product_id, account_id, category in used:
        if (product_id, account_id) in found:
            found[product_id, account_id].add(category)
    if asked:
        product_id = min(asked)[0]
        of_accounts = {account_id: taken for (_, account_id), taken in asked.items()}
        for account_id, category in store.saying_else(tx.connection, product_id, of_accounts, until):
            found[product_id, account_id].add(category)
    return found


def load(tx: Transaction, rows: Iterable[dict[str, Any]], progress: Progress | None = None) -> Merged:
    """Bring samples in that were taken whenever, each in place of one of the same series and instant."""
    merged, done = Merged(), 0
    every = by_account(rows)
    for part in batched(sorted(every)):
        taken_of = {key: every.pop(key) for key in part}
        of_series: dict[Series, dict[datetime, int]] = defaultdict(dict)
        for key, of_account in taken_of.items():
            for at, sizes in of_account.items():
                done += len(sizes)
                for category, size in sizes.items():
                    of_series[*key, category][at] = size
        there_of, again_of = rounds.known(tx, {each: min(taken) for each, taken in of_series.items()})
        sifted = _Sifted()
        for series, taken in of_series.items():
            there, again = there_of[series], again_of[series]
            sifted.add(series, there, again, taken)
            before = rounds.said(there, again) if there else {}
            for at, size in taken.items():
                was = before.get(at)
                if was is None:
                    merged.created += 1
                elif was == size:
                    merged.left += 1
                else:
                    merged.changed += 1
                    if len(merged.changes) < MOST_CHANGES:
                        merged.changes.append(((*series, at), {"bytes": was}, {"bytes": size}))
        sifted.write(tx, taken_of)
        if progress:
            progress(done)
    return merged


@dataclass(frozen=True)
class Known:
    """What series of an account (product and account) store now, as it was read under the lock of its counter; all of
    it (None = there was never any), and when its newest round was, which may be to come."""

    account: rounds.Account
    levels: Mapping[Series, Level]
    total: int | None
    round_at: datetime | None

    @property
    def newest(self) -> datetime | None:
        """When the newest sample of these series was taken."""
        return max((each.at for each in self.levels.values() if each.at is not None), default=None)


@dataclass(frozen=True)
class Recorded:
    """By how many grains what is stored now differs, by product and account; and the rows that were written for it,
    which is nothing of what was said before and is said again."""

    changes: dict[tuple[int, int], int]
    rows: list[dict[str, Any]]


@dataclass
class _Sifted:
    """What of samples is to be written, and the instants by account at which some say nothing new."""

    rows: list[dict[str, Any]] = field(default_factory=list)
    repeats: set[tuple[int, int, datetime]] = field(default_factory=set)

    def add(
        self, series: Series, there: rounds.Sizes, again: Sequence[datetime], taken: rounds.Sizes
    ) -> datetime | None:
        """Sift one series; the instant of the newest row to write."""
        product_id, account_id, category = series
        written, repeats = rounds.sift(there, again, taken)
        self.rows += [
            {"product_id": product_id, "account_id": account_id, "category": category, "at": at, "bytes": size}
            for at, size in written.items()
        ]
        self.repeats.update((product_id, account_id, at) for at in repeats)
        return max(written, default=None)

    def write(self, tx: Transaction, taken_of: Taken) -> None:
        """Write all of it."""
        store.put_samples(tx.connection, self.rows)
        rounds.keep(tx, {key: taken_of[key[:2]][key[2]] for key in self.repeats})


def _add(
    tx: Transaction,
    before: Mapping[Series, Level],
    after: Mapping[Series, Level],
    used: Mapping[Series, datetime],
    known_totals: Mapping[tuple[int, int], int] | None = None,
) -> dict[tuple[int, int], int]:
    """Let the kept figures follow; by how many grains each account's total now differs."""
    changes: dict[tuple[int, int, str, str], list[int]] = defaultdict(lambda: [0] * len(FIGURES))
    newest: dict[tuple[int, int, str, str], datetime] = {}
    last: dict[tuple[int, int, str, str], datetime] = {}
    for each, level in after.items():
        if level == before[each] and each not in used:
            continue
        product_id, account_id, category = each
        whose = (product_id, account_id, *holder_of(category))
        for key in (whose, (product_id, account_id, ALL, "")):
            for place, figure in enumerate(level.figures):
                changes[key][place] += figure - before[each].figures[place]
            if level.at is not None:
                newest[key] = max(level.at, newest.get(key, level.at))
            if each in used:
                last[key] = max(used[each], last.get(key, used[each]))
    totals = [(product_id, account_id) for product_id, account_id, kind, _ in changes if kind == ALL]
    was = store.totals_of(tx.connection, totals) if known_totals is None else known_totals
    rows = [
        dict(zip(("product_id", "account_id", "kind", "name"), key, strict=True))
        | dict(zip(FIGURES, by, strict=True))
        | {"at": newest.get(key, tx.now), "used_at": last.get(key)}
        for key, by in sorted(changes.items())
    ]
    store.add_stored(tx.connection, rows)
    found = {}
    for product_id, account_id in totals:
        there = was.get((product_id, account_id), 0)
        then = there + changes[product_id, account_id, ALL, ""][0]
        found[product_id, account_id] = grains(then) - grains(there)
    return found


def standing(product_id: int, account_id: int, categories: Sequence[str], at: datetime) -> Question[Known]:
    """What some categories of an account store at an instant, and all else that a write there has to know."""
    asked, key = store.standing(product_id, account_id, categories, at), (product_id, account_id)

    def known(*rows: list[Any]) -> Known:
        found = asked.answer(*rows)
        of = {(*key, name): Level((size,), at) for name, (size, at) in zip(categories, found.sizes, strict=True)}
        return Known(key, of, found.total, found.round_at)

    return Question(asked.asked, known)


def days(tx: Transaction, product_ids: Sequence[int], today: date) -> dict[int, date]:
    """The day from which a product's figures are counted back; begun today where there is none yet."""
    there = {row.product_id: row.day for row in store.stored_days_of(tx.connection, product_ids)}
    missing = [each for each in product_ids if each not in there]
    if missing:
        store.put_stored_days(tx.connection, missing, today, None)
    return {each: there.get(each, today) for each in product_ids}


def rebuild(tx: Transaction, product_ids: Collection[int]) -> None:
    """Make what is kept of these products anew from their samples; what is known of a last use stays."""
    today, now = accounts_service.today(tx), tx.now
    for product_id in sorted(product_ids):
        ahead_at = store.first_after(tx.connection, product_id, now)
        store.put_stored_days(tx.connection, [product_id], today, ahead_at)
        at = instants(accounts_service.zone(tx), today, now)
        fresh = _from_samples(tx, product_id, at)
        store.replace_stored(tx.connection, product_id, fresh)
    settle(tx, product_ids)


def _from_samples(tx: Transaction, product_id: int, at: Sequence[datetime]) -> list[dict[str, Any]]:
    figures: dict[tuple[int, str, str], list[int]] = defaultdict(lambda: [0] * len(FIGURES))
    newest: dict[tuple[int, str, str], datetime] = {}
    for account_id, category, sizes, last in store.levels_of_product(tx.connection, product_id, at):
        for key in ((account_id, *holder_of(category)), (account_id, ALL, "")):
            for place, size in enumerate(sizes):
                figures[key][place] += size
            if last is not None:
                newest[key] = max(in_utc(last), newest.get(key, in_utc(last)))
    return [
        {"product_id": product_id, "account_id": account_id, "kind": kind, "name": name}
        | dict(zip(FIGURES, by, strict=True))
        | {"at": newest.get((account_id, kind, name), at[0])}
        for (account_id, kind, name), by in sorted(figures.items())
    ]


def has_come(tx: Transaction, product_id: int) -> bool:
    """Whether the instant of some samples of a product has come that are not taken in."""
    return any(_is_due(tx, each) for each in store.stored_days_of(tx.connection, [product_id]))


def _is_due(tx: Transaction, there: StoredDay) -> bool:
    return there.ahead_at is not None and in_utc(there.ahead_at) <= tx.now


def take_in(tx: Transaction, product_id: int) -> bool:
    """Make what is kept of a product anew where the instant of some samples has come; whether it had. Nobody adds to it
    meanwhile whose counters the caller has locked.

    Locks: the product's row of ``stored_days``.
    """
    there = store.lock_stored_day(tx.connection, product_id)
    if there is None or not _is_due(tx, there):
        return False
    rebuild(tx, [product_id])
    return True


def age(tx: Transaction, product_id: int) -> bool:
    """Count a product's figures back from today, and take in what has come; whether anything was to do. Only series
    with a sample in the days that pass are read.

    Locks: the product's row of ``stored_days``; who records samples meanwhile adds to what is there.
    """
    if take_in(tx, product_id):
        return True
    there, today = store.lock_stored_day(tx.connection, product_id), accounts_service.today(tx)
    if there is None:
        rebuild(tx, [product_id])
        return True
    if there.day >= today:
        return False
    day = there.day
    zone = accounts_service.zone(tx)
    passing = [
        (_end_of(zone, day - timedelta(days=back)), _end_of(zone, today - timedelta(days=back)))
        for back in BACK.values()
    ]
    series = store.series_between(tx.connection, product_id, passing)
    before = {
        each: Level(level.figures, None) for each, level in levels(tx, series, instants(zone, day, tx.now)).items()
    }
    store.put_stored_days(tx.connection, [product_id], today, there.ahead_at)
    _add(tx, before, levels(tx, series, instants(zone, today, tx.now)), {})
    return True


def settle(tx: Transaction, product_ids: Collection[int]) -> None:
    """Look through whose all that is kept of these products is."""
    every = [int(each) for each in accounts_service.known(tx).ids]
    for product_id in sorted(product_ids):
        whose.settle(tx, product_id, every)


def differences(tx: Transaction, product_id: int) -> Iterator[tuple[int, str, str, str, str]]:
    """Account, kind and name of what is kept of a product and is not what its samples come to, with what was found and
    what the samples say."""
    there = next(iter(store.stored_days_of(tx.connection, [product_id])), None)
    if there is None or _is_due(tx, there):
        return
    facts = {
        (row["account_id"], row["kind"], row["name"]): tuple(row[each] for each in FIGURES)
        for row in _from_samples(tx, product_id, instants(accounts_service.zone(tx), there.day, tx.now))
    }
    kept = {
        (row.account_id, row.kind, row.name): tuple(getattr(row, each) for each in FIGURES)
        for row in store.all_stored(tx.connection, product_id)
    }
    none = (0,) * len(FIGURES)
    for key in sorted(facts.keys() | kept.keys()):
        if facts.get(key, none) != kept.get(key, none):
            yield (*key, str(kept.get(key, none)), str(facts.get(key, none)))
    every = [int(each) for each in accounts_service.known(tx).ids]
    for (_, account_id, name), person_id in sorted(whose.differences(tx, product_id, every).items()):
        yield account_id, PERSON, name, "another owner", "left behind" if person_id is None else f"person {person_id}"
