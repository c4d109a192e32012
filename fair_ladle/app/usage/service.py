"""What is in use, as arrays for the engine."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterable, Mapping, Sequence
from datetime import date, datetime
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.plumbing import generations
from fair_ladle.app.plumbing.database import Transaction, batched
from fair_ladle.app.plumbing.merge import Merged, Progress, merge
from fair_ladle.app.plumbing.prepared import Question, in_utc
from fair_ladle.app.pools.service import Product
from fair_ladle.app.usage import rounds, store, stored, stored_store, whose
from fair_ladle.app.usage.rows import HeldNow
from fair_ladle.app.usage.tables import assignments
from fair_ladle.core.calendar import MICRO, Day, instant, local_day, micros
from fair_ladle.core.clocks import Steps, counted_steps, split_by, stored_steps
from fair_ladle.core.readings import counted_at, counted_days, stored_at, stored_days
from fair_ladle.core.tree import Ints

RESERVED = "reserved"
"""The category, or the last part of one, in which what is held for uploads stands."""


def own_at(tx: Transaction, accounts: Accounts, columns: Sequence[Product], at: datetime) -> Ints:
    """Grains in use by subjects of each account itself at an instant: accounts × products."""
    own = np.zeros((len(accounts.tree), len(columns)), dtype=np.int64)
    column = {product.id: place for place, product in enumerate(columns)}
    ahead = {each.id: tx.kept[_ahead(each, at)] for each in columns if tx.kept and _ahead(each, at) in tx.kept}
    for product_id, (ids, figures) in ahead.items():
        own[accounts.rows(ids), column[product_id]] = figures
    counted = [product.id for product in columns if not product.is_storage and product.id not in ahead]
    measured = [product.id for product in columns if product.is_storage and product.id not in ahead]
    if counted:
        for used in store.units_in_use(tx.connection, counted, at):
            own[accounts.row_of_id[used.account_id], column[used.product_id]] = used.units
    if measured:
        for kept in store.bytes_stored(tx.connection, measured, at):
            own[accounts.row_of_id[kept.account_id], column[kept.product_id]] = stored.grains(int(kept.bytes))
    return own


def read_ahead(tx: Transaction, product: Product, ats: Sequence[datetime]) -> None:
    """Read what is in use of a counted product at several instants in one go: ``own_at`` finds it there, as long as the
    facts of one instant are seen. Of storage the database adds up each instant by itself: its samples are many."""
    if tx.kept is None or not ats or product.is_storage:
        return
    instants = np.array(sorted(micros(at) for at in ats), dtype=np.int64)
    begin, end = instant(int(instants[0])), instant(int(instants[-1]) + 1)
    account, begins, ends = store.intervals(tx.connection, product.id, begin, end)
    ids, place = np.unique(account, return_inverse=True)
    own = counted_at(len(ids), place, begins, ends, instants)
    for column, moment in enumerate(sorted(ats)):
        tx.kept[_ahead(product, moment)] = (ids, own[:, column])


def _ahead(product: Product, at: datetime) -> str:
    return f"own of {product.id} at {micros(at)}"


def own_by_day(
    tx: Transaction, accounts: Accounts, product: Product, days: Sequence[Day], ids: Collection[int] | None = None
) -> Ints:
    """Each account's own use on each day in grain-seconds: accounts × days; with ``ids`` of these accounts alone."""
    return own_of_each_by_day(tx, accounts, [product], days, ids)[product.id]


def own_of_each_by_day(
    tx: Transaction, accounts: Accounts, products: Sequence[Product], days: Sequence[Day], ids: Collection[int] | None
) -> dict[int, Ints]:
    """The same of several products, by product (id), read in one go."""
    begin, end = instant(days[0].start * MICRO), instant(days[-1].end * MICRO)
    rows = len(accounts.tree)
    counted = [each.id for each in products if not each.is_storage]
    measured = [each.id for each in products if each.is_storage]
    found = {}
    if counted:
        intervals = store.intervals_of_each(tx.connection, counted, begin, end, ids)
        for product_id, (account, begins, ends) in intervals.items():
            found[product_id] = counted_days(rows, accounts.rows(account), begins, ends, days)
    if measured:
        samples = store.samples_of_each(tx.connection, measured, begin, end, ids)
        for product_id, (account, category, at, stored) in samples.items():
            found[product_id] = stored_days(rows, accounts.rows(account), category, at, stored, days)
    return found


def own_at_each(
    tx: Transaction, accounts: Accounts, product: Product, instants: Ints, ids: Collection[int] | None = None
) -> Ints:
    """Each account's own use at each of some instants (µs, ascending) in grains: accounts × instants; with ``ids`` of
    these accounts alone."""
    begin, end = instant(int(instants[0])), instant(int(instants[-1]) + 1)
    rows = len(accounts.tree)
    if product.is_storage:
        account, category, at, stored = store.samples(tx.connection, product.id, begin, end, ids)
        return stored_at(rows, accounts.rows(account), category, at, stored, instants)
    account, begins, ends = store.intervals(tx.connection, product.id, begin, end, ids)
    return counted_at(rows, accounts.rows(account), begins, ends, instants)


def own_over_time(
    tx: Transaction, accounts: Accounts, product: Product, rows: Sequence[int], until: datetime
) -> dict[int, Steps]:
    """Each of these accounts' own use over time, from the first fact up to an instant (left out where nothing)."""
    ids = [int(accounts.ids[row]) for row in rows]
    end = instant(micros(until) + 1)
    parts: dict[int, Steps] = {}
    for part in batched(ids):
        if product.is_storage:
            account, category, at, stored = store.samples(tx.connection, product.id, None, end, part)
            parts.update((each, stored_steps(*mine)) for each, mine in split_by(account, category, at, stored))
        else:
            account, begins, ends = store.intervals(tx.connection, product.id, None, end, part)
            parts.update((each, counted_steps(*mine)) for each, mine in split_by(account, begins, ends))
    return {accounts.row_of_id[account_id]: steps for account_id, steps in parts.items()}


def load_assignments(tx: Transaction, rows: Iterable[dict[str, Any]], progress: Progress) -> Merged:
    """Create assignments, and change the ends of those that are there."""
    merged = merge(tx.connection, assignments, ["product_id", "account_id", "subject", "begins"], rows, progress)
    if merged.created or merged.changed:
        _past_changed(tx, ((row["product_id"], row["account_id"], row["begins"]) for row in rows))
    return merged


def load_samples(tx: Transaction, rows: Iterable[dict[str, Any]], progress: Progress | None = None) -> Merged:
    """Create and correct storage samples."""
    merged = stored.load(tx, rows, progress)
    if merged.created or merged.changed:
        _past_changed(tx, ((row["product_id"], row["account_id"], row["at"]) for row in rows))
        stored.rebuild(tx, {row["product_id"] for row in rows})
    return merged


def record_samples(tx: Transaction, rows: Iterable[Mapping[str, Any]]) -> dict[tuple[int, int], int]:
    """Write samples (product_id, account_id, category, at, bytes), as ``record_taken`` does."""
    return record_taken(tx, stored.by_account(rows), None)


def record_now(tx: Transaction, zone: ZoneInfo, known: stored.Known, sizes: Mapping[str, int], at: datetime) -> None:
    """Let categories of an account store so many bytes from an instant on that is later than all that was read of them
    under the lock of its counter; ``zone`` is the operator's."""
    stored.record_now(tx, zone, known, sizes, at)
    if local_day(at, zone) < local_day(tx.now, zone):  # which ended while the locks were held
        _past_changed(tx, [(*known.account, at)])


Taken = stored.Taken
by_account = stored.by_account


def record_taken(
    tx: Transaction,
    taken: Taken,
    used_at: Mapping[tuple[int, int, str], datetime] | None = None,
) -> dict[tuple[int, int], int]:
    """Write samples, each in place of one of the same series and instant; by how many grains what is stored now
    differs, by product and account. ``used_at``: the last use of some (product, account, category). The counters, which
    the caller has locked, are the caller's."""
    zone, now = accounts_service.zone(tx), tx.now
    recorded = stored.record(tx, taken, zone, used_at)
    today = local_day(now, zone)
    facts = [(row["product_id"], row["account_id"], row["at"]) for row in recorded.rows]
    late = [each for each in facts if local_day(each[2], zone) < today]
    if late:
        _past_changed(tx, late)
    return recorded.changes


def _past_changed(tx: Transaction, facts: Iterable[tuple[int, int, datetime]]) -> None:
    """Facts of products and accounts (ids) are others, each from an instant on."""
    first: dict[int, datetime] = {}
    accounts: dict[int, set[int]] = defaultdict(set)
    for product_id, account_id, at in facts:
        first[product_id] = min(at, first.get(product_id, at))
        accounts[product_id].add(account_id)
    zone, today = accounts_service.zone(tx), accounts_service.today(tx)
    days = {product_id: local_day(at, zone) for product_id, at in first.items()}
    past = {product_id: day for product_id, day in days.items() if day < today}
    generations.renew_past(tx, past, accounts, of_use=True)


def next_change(tx: Transaction, products: Sequence[Product], after: datetime) -> datetime | None:
    """The first later instant at which what is in use changes by itself."""
    return store.next_change(tx.connection, [product.id for product in products], after)


def rehearse(tx: Transaction, products: Sequence[Product], subjects: Collection[str] | None = None) -> None:
    """Where this is only tried out: go on with a copy of what these subjects (all, if not said) have of these products
    now."""
    tx.rehearse(assignments, store.is_open([each.id for each in products], subjects, tx.now))


def changed_between(tx: Transaction, product: Product, since: datetime, until: datetime) -> list[int]:
    """The accounts (ids) where assignments of a product began or ended after an instant, up to another."""
    return store.changed_between(tx.connection, product.id, since, until)


def changing_between(tx: Transaction, product: Product, since: datetime, until: datetime) -> list[int]:
    """The accounts (ids) where use of a product, of whatever kind, changes by itself after an instant, up to another:
    an assignment begins or ends, or a sample's instant comes."""
    if product.is_storage:
        return store.sampled_between(tx.connection, product.id, since, until)
    return store.changed_between(tx.connection, product.id, since, until)


def open_assignments(tx: Transaction, products: Sequence[Product], subjects: Sequence[str], at: datetime) -> list[Any]:
    """The assignments of these subjects that are in force at an instant."""
    return store.open_assignments(tx.connection, [product.id for product in products], subjects, at)


def open_of_accounts(tx: Transaction, account_ids: Sequence[int], at: datetime) -> list[Any]:
    """Product and subject of the assignments of these accounts that are in force at an instant, or begin later."""
    return store.open_of_accounts(tx.connection, account_ids, at) if account_ids else []


def assignments_of(tx: Transaction, product: Product, account_ids: Sequence[int]) -> list[Any]:
    """Every assignment of a product that these accounts ever had, by its number."""
    rows = [row for part in batched(account_ids) for row in store.all_assignments(tx.connection, product.id, part)]
    return sorted(rows, key=lambda row: int(row.id))


def of_subject(tx: Transaction, product: Product, subject: str, begin: datetime, end: datetime) -> list[Any]:
    """The assignments of a product to a subject that touch a period, the earlier first."""
    return store.of_subject(tx.connection, product.id, subject, begin, end)


def begin(tx: Transaction, rows: list[dict[str, Any]]) -> None:
    """Record assignments; the counters are the caller's."""
    store.begin(tx.connection, rows)


def end(tx: Transaction, ids: Sequence[int], at: datetime) -> None:
    """Record that assignments end; the counters are the caller's."""
    store.end(tx.connection, ids, at)


def grains(in_bytes: int) -> int:
    """Bytes as grains, rounded half up."""
    return stored.grains(in_bytes)


def standing(product: Product, account_id: int, categories: Sequence[str], at: datetime) -> Question[stored.Known]:
    """What some categories of an account store at an instant, and all else that a write there has to know."""
    return stored.standing(product.id, account_id, categories, at)


def sizes_at(
    tx: Transaction, product: Product, places: Collection[tuple[int, str]], at: datetime
) -> dict[tuple[int, str], int]:
    """Bytes in some categories of accounts (account, category) at an instant."""
    series = [(product.id, *each) for each in places]
    return {(each[1], each[2]): level.figures[0] for each, level in stored.levels(tx, series, [at]).items()}


def home(username: str) -> str:
    """The category of what is one person's own."""
    return f"home/{username}"


def whose_home(category: str) -> str | None:
    """Whose own a category is; None where it is nobody's."""
    kind, name = stored.holder_of(category)
    return name if kind == stored.PERSON else None


def of_person(product: Product, account_id: int, username: str) -> Question[HeldNow | None]:
    """What somebody stores as their own in an account, to be asked with other things; None where they never did."""
    return stored_store.held(product.id, account_id, stored.PERSON, username)


def of_folder(product: Product, account_id: int, code: str) -> Question[HeldNow | None]:
    """The same of a shared folder."""
    return stored_store.held(product.id, account_id, stored.SHARED, code)


def past_limit(
    tx: Transaction, product: Product, account_id: int, username: str, was: datetime | None, is_past: bool
) -> datetime | None:
    """Say whether somebody is over their limit, who was since an instant (None = was not); since when they are."""
    since = (was or tx.now) if is_past else None
    if since != was:
        stored_store.past_limit(tx.connection, product.id, account_id, username, since)
    return since


def at_home(
    tx: Transaction, products: Sequence[Product], homes: Sequence[tuple[int, str]]
) -> list[tuple[int, int, str, int]]:
    """(product, account, username, bytes) of what people store as their own, each (account, username) of ``homes`` in
    that account."""
    if not (products and homes):
        return []
    found = stored_store.of_people(tx.connection, [each.id for each in products], homes)
    return [(row.product_id, row.account_id, row.name, int(row.bytes)) for row in found]


def delete_homes_at(tx: Transaction, homes: Iterable[tuple[int, int, str]], at: datetime | None) -> None:
    """Let what is stored as somebody's own (product, account, username) be gone at an instant; None = it stays."""
    names: dict[tuple[int, int], list[str]] = defaultdict(list)
    for product_id, account_id, username in homes:
        names[product_id, account_id].append(username)
    for (product_id, account_id), mine in sorted(names.items()):
        stored_store.set_delete_at(tx.connection, product_id, account_id, mine, at)


def series_of(tx: Transaction, product: Product, account_id: int, category: str) -> list[str]:
    """A category of an account and those below it of which there are samples."""
    return stored_store.series_of(tx.connection, product.id, account_id, category)


def stored_of_category(tx: Transaction, product: Product, account_id: int, category: str) -> int:
    """Bytes an account stores in a category and those below it."""
    places = [(account_id, each) for each in series_of(tx, product, account_id, category)]
    return sum(sizes_at(tx, product, places, tx.now).values())


def moved(
    tx: Transaction, product: Product, from_id: int, to_id: int, category: str, at: datetime, into: str
) -> tuple[int, list[dict[str, Any]]]:
    """That what is in a category of one account, and in those below it, is in a category of another one (or the same)
    from an instant on, under the same names below: bytes, and the samples that say so. What is held for uploads stays
    where they are counted when they end."""
    of_it = [name for name in series_of(tx, product, from_id, category) if name.rpartition("/")[2] != RESERVED]
    new = {name: into + name.removeprefix(category) for name in of_it}
    series = [(product.id, from_id, name) for name in new] + [(product.id, to_id, name) for name in new.values()]
    now = {each: level.figures[0] for each, level in stored.levels(tx, series, [at]).items()}
    rows = [
        {"product_id": product.id, "account_id": account_id, "category": name, "at": at, "bytes": in_bytes}
        for old, becomes in new.items()
        if (there := now[product.id, from_id, old])
        for account_id, name, in_bytes in (
            (from_id, old, 0),
            (to_id, becomes, now[product.id, to_id, becomes] + there),
        )
    ]
    return sum(now[product.id, from_id, name] for name in new), rows


def release_all(tx: Transaction, account_ids: Sequence[int], at: datetime) -> dict[tuple[int, int], int]:
    """Record that nothing of these accounts is in use from an instant on; (account, product) → units, or grains of
    storage, there were. The counters are the caller's."""
    if not account_ids:
        return {}
    emptied = store.empty_all(tx.connection, account_ids, at)
    stored_store.empty_stored(tx.connection, account_ids, at)
    grains = {key: stored.grains(in_bytes) for key, in_bytes in emptied.items()}
    return {**store.end_all(tx.connection, account_ids, at), **grains}


def evidence(
    tx: Transaction, product: Product, account_ids: Sequence[int], begin: datetime, end: datetime, limit: int
) -> list[Any]:
    """The assignments, or the samples, that count between two instants."""
    ask = store.samples_touching if product.is_storage else store.touching
    return ask(tx.connection, product.id, account_ids, begin, end, limit)


def rename(tx: Transaction, product_ids: Collection[int], subject: str, by: str) -> None:
    """Call a subject of these products something else, in all that was ever assigned."""
    store.rename(tx.connection, product_ids, subject, by)


def series_naming(
    tx: Transaction, products: Sequence[Product], account_ids: Collection[int], username: str
) -> list[tuple[int, int, str]]:
    """(product, account, category) of what is somebody's own in whatever account, and of what they wrote to folders of
    these accounts."""
    return stored_store.naming(tx.connection, [each.id for each in products if each.is_storage], account_ids, username)


def rename_series(tx: Transaction, series: Sequence[tuple[int, int, str]], username: str, by: str) -> None:
    """Call somebody something else in these series of theirs; how much is stored stays. The counters are locked."""
    names = {each: _renamed(each[2], username, by) for each in series}
    for each, becomes in names.items():
        stored_store.rename_series(tx.connection, each, becomes)
    for product_id, account_id in sorted({each[:2] for each in series}):
        stored_store.rename_stored(tx.connection, product_id, account_id, username, by)
    rounds.rename(tx, {each[1:]: becomes for each, becomes in names.items()})


def _renamed(category: str, username: str, by: str) -> str:
    own = home(username)
    if category == own or category.startswith(f"{own}/"):
        return home(by) + category.removeprefix(own)
    return category.removesuffix(username) + by


def holder_of(category: str) -> tuple[str, str]:
    """Whose a category of storage is: person, folder or category, and the username, the folder's code or itself."""
    return stored.holder_of(category)


def settle_whose(tx: Transaction, products: Sequence[Product]) -> None:
    """Look through who of an account it is whose bytes stand there, after many people or samples came."""
    stored.settle(tx, [each.id for each in products if each.is_storage])


def settle_whose_in(tx: Transaction, product: Product, account_ids: Sequence[int]) -> int:
    """The same of some accounts; how many rows were wrong."""
    return whose.settle(tx, product.id, account_ids)


def has_come(tx: Transaction, product: Product) -> bool:
    """Whether the instant of some samples of a product has come that are not in what is stored."""
    return stored.has_come(tx, product.id)


def take_in(tx: Transaction, product: Product) -> None:
    """Take them in. All counters of the product are the caller's to lock."""
    stored.take_in(tx, product.id)


def age_stored(tx: Transaction, product: Product) -> bool:
    """Count what is stored of a product a week, a month and a quarter ago from today; whether anything was to do."""
    return stored.age(tx, product.id)


def stored_differences(tx: Transaction, products: Sequence[Product]) -> list[tuple[str, str, str, str]]:
    """What is kept of whom stores how much, where it is not what the samples come to: (what, where, found,
    evidence)."""
    accounts = accounts_service.known(tx)
    found = []
    for product in products:
        for account_id, kind, name, is_kept, evidence in stored.differences(tx, product.id):
            account = accounts.tree.codes[accounts.row_of_id[account_id]]
            found.append(("stored", f"{product.code} {account} {kind} {name}".strip(), is_kept, evidence))
    return found


def stored_over_time(
    tx: Transaction, product: Product, account_id: int, kind: str, name: str, since: date
) -> tuple[list[tuple[str, int]], list[tuple[date, int]]]:
    """What a person, a folder or a category of an account stores: by category (grains, the largest first), and all
    together at the end of each day since one on which it changed (grains)."""
    prefix = {stored.PERSON: stored.HOME, stored.SHARED: stored.FOLDER}.get(kind, "")
    categories = stored_store.series_of(tx.connection, product.id, account_id, prefix + name)
    rows = stored_store.samples_of(tx.connection, product.id, account_id, categories, tx.now)
    number = {each: place for place, each in enumerate(categories)}
    zone = accounts_service.zone(tx)
    days: dict[date, int] = {}
    level, total = [0] * len(categories), 0
    for row in rows:
        total += int(row.bytes) - level[number[row.category]]
        level[number[row.category]] = int(row.bytes)
        days[max(local_day(in_utc(row.at), zone), since)] = stored.grains(total)
    sizes = sorted(
        ((each, stored.grains(level[number[each]])) for each in categories), key=lambda each: (-each[1], each[0])
    )
    return sizes, sorted(days.items())
