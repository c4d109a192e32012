"""What storage systems ask before they write, reserve, and report, with a key of an account for one storage product.

Locks: the reservation by its token; then the counters and what hangs on them (``assignments/storing.py``). A personal
limit is judged under the lock of the account's counter, after what is to be written was counted.
"""

from __future__ import annotations

import secrets
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.assignments import storing
from fair_ladle.app.devices.usecases import hashed, valid_key_not_locked
from fair_ladle.app.people import service as people_service
from fair_ladle.app.people.rows import PersonRecord
from fair_ladle.app.personal_storage import usecases as personal_storage
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.prepared import Question, ask
from fair_ladle.app.plumbing.problems import Problem, Refused, invalid, not_found
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.storage import folders
from fair_ladle.app.storage_systems import store
from fair_ladle.app.usage import service as usage
from fair_ladle.core.calendar import MICRO, day_name, day_start, instant, local_day
from fair_ladle.core.quantities import BYTES_PER_GRAIN, MOST_GRAINS

MOST_BYTES = MOST_GRAINS * BYTES_PER_GRAIN
MOST_SECONDS = 7 * 86_400
SKEW = timedelta(minutes=2)
"""A clock may be ahead of ours by so much; what it says is then taken as now."""
MOST_UNPLACED, AT_ONCE = 100_000, 500


@dataclass(frozen=True)
class Where:
    """Where bytes are written: an account (the key's, or a person's own, if not said), and there a person's own, a
    shared folder, or a category; ``part`` is a category of the person's own, or who wrote it of a folder's."""

    account: str | None = None
    person: str | None = None
    folder: str | None = None
    category: str | None = None
    part: str | None = None


@dataclass(frozen=True)
class Report:
    """Bytes that are stored somewhere at an instant, all of that category together."""

    where: Where
    at: datetime
    bytes: int
    used_at: datetime | None = None


@dataclass(frozen=True)
class Place:
    """Where that is here."""

    account: str
    account_id: int
    category: str
    person: PersonRecord | None


@dataclass
class Reported:
    """What became of reports: how many were recorded, how many are kept for an account that nobody knows here, and by
    place in the list why others were refused."""

    recorded: int = 0
    unplaced: int = 0
    refused: list[tuple[int, str]] = field(default_factory=list)


@dataclass(frozen=True)
class Answer:
    """Whether so many bytes may be written, in a sentence, and the ladder: the limit a person has first, if any."""

    admitted: bool
    sentence: str
    ladder: dict[str, Any]
    person_limit: int | None
    person_used: int | None


@dataclass(frozen=True)
class _Key:
    id: int
    product: Product
    actor: Actor
    accounts: Accounts


def _key(tx: Transaction, key: str) -> _Key:
    return _key_and(tx, key)[0]


def _key_and(tx: Transaction, key: str, *with_it: Question[Any]) -> tuple[_Key, list[Any]]:
    """A key, and what these questions come to, asked with it."""
    reading = replace(tx, kept={})  # nothing of it is written, or judged again under a lock
    found, actor, others = valid_key_not_locked(reading, key, "storage", *with_it)
    return _Key(found.row.id, found.product, actor, accounts_service.known(reading)), others


def _named(where: Where) -> str:
    """The category that a place is."""
    person, folder, category, part = where.person, where.folder, where.category, where.part
    if "/" in (person or folder or ""):
        raise invalid("Neither a username nor a folder's code has a slash; what is below it is a part.", "person")
    if person and not folder and not category:
        found = usage.home(person)
    elif bool(person) + bool(folder) + bool(category) != 1:
        raise invalid("Say one of person, folder and category.", "category")
    elif category and part:
        raise invalid("Only what is a person's own, or a folder's, has parts.", "part")
    else:
        found = category or f"folder/{folder}"
    if part:
        found = f"{found}/{part}"
    if len(found) > 200 or not found.isprintable():
        raise invalid("At most 200 characters, all of them printable.", "category")
    if found.endswith(usage.RESERVED) and found[-len(usage.RESERVED) - 1 : -len(usage.RESERVED)] in ("", "/"):
        raise invalid(f"No category is called {usage.RESERVED}; that is what reservations stand in.", "category")
    return found


def place_in(accounts: Accounts, actor: Actor, where: Where, person: PersonRecord | None) -> Place:
    """Where a place is, within the actor's branch; what lies outside does not exist."""
    category, code = _named(where), where.account
    if code is None and person is not None and accounts_service.sees(accounts, actor, person.account_id):
        code = accounts.tree.codes[accounts.row_of_id[person.account_id]]
    row = accounts_service.row_in_scope(accounts, actor, code or str(actor.scope))
    account_id = int(accounts.ids[row])
    is_theirs = person is not None and person.account_id == account_id and person.status != "removed"
    return Place(accounts.tree.codes[row], account_id, category, person if is_theirs else None)


def _people(tx: Transaction, places: Sequence[Where]) -> dict[str, Any]:
    names = {each.person or usage.whose_home(each.category or "") or "" for each in places} - {""}
    return people_service.by_username(tx, names)


def _one_place(tx: Transaction, key: _Key, where: Where) -> Place:
    person = next(iter(_people(tx, [where]).values()), None)
    if (
        where.person
        and where.account is None
        and (person is None or not accounts_service.sees(key.accounts, key.actor, person.account_id))
    ):
        raise not_found("person", where.person)
    return place_in(key.accounts, key.actor, where, person)


def _size(size: int) -> int:
    if not 0 <= size <= MOST_BYTES:
        raise invalid(f"From 0 to {MOST_BYTES} bytes.", "bytes")
    return size


def may_write(tx: Transaction, key: str, where: Where, size: int) -> Answer:
    """Whether so many bytes could be written there now; nothing is held."""
    found = _key(tx, key)
    place = _one_place(tx, found, where)
    whole = -(-_size(size) // BYTES_PER_GRAIN)
    room, members, stopped = storing.ladder_now(tx, found.actor, place.account, found.product)
    stopped = stopped or _folder_full(tx, found, place, whole)
    mine = _limit(tx, found, place)
    if stopped is None and mine is not None:
        stopped = _past(tx, found, mine, place, whole, _since(tx, found, place))
    fits = room.headroom is None or whole <= room.headroom
    sentence = stopped or members["sentence"]
    limit, used = (None, None) if mine is None else (mine.limit, mine.used)
    return Answer(fits and stopped is None, sentence, members, limit, used)


def reserve(tx: Transaction, key: str, where: Where, size: int, seconds: int) -> tuple[str, datetime]:
    """Hold so many bytes for an upload; a token to commit or cancel it with, and until when it is held. Refused with
    the ladder where a limit stops it."""
    found = _key(tx, key)
    if not 1 <= seconds <= MOST_SECONDS:
        raise invalid(f"From 1 second to {MOST_SECONDS}.", "seconds")
    place = _one_place(tx, found, where)
    storing.change_sizes(tx, found.actor, place.account, found.product, {_held(place.category): _size(size)})
    _judge_limit(tx, found, place)
    token, until = secrets.token_urlsafe(32), tx.now + timedelta(seconds=seconds)
    row = {"token_hash": hashed(token), "key_id": found.id, "product_id": found.product.id, "bytes": size}
    store.reserve(tx.connection, row | {"account_id": place.account_id, "category": place.category, "until": until})
    return token, until


def write(tx: Transaction, key: str, where: Where, size: int) -> None:
    """Let so many bytes more (less, below 0) be stored there, in one step. Refused with the ladder where a limit stops
    it."""
    found = _key(tx, key)
    place = _one_place(tx, found, where)
    if abs(size) > MOST_BYTES:
        raise invalid(f"At most {MOST_BYTES} bytes.", "bytes")
    storing.change_sizes(tx, found.actor, place.account, found.product, {place.category: size})
    if size > 0:
        _judge_limit(tx, found, place)


def commit(tx: Transaction, key: str, token: str, size: int | None) -> None:
    """An upload is written: so many bytes in place of what was held for it (all, if not said). More than was held is
    admitted like any other."""
    found, row = _reservation(tx, key, token)
    written = row.bytes if size is None else _size(size)
    change = {_held(row.category): -row.bytes, row.category: written}
    account = _account(found, row)
    storing.change_sizes(tx, found.actor, account, found.product, change)
    if written > row.bytes:
        _judge_limit(tx, found, _one_place(tx, found, Where(account, category=row.category)))
    store.end(tx.connection, row.id, tx.now, "committed")


def cancel(tx: Transaction, key: str, token: str) -> None:
    """Nothing is written: what was held is free again."""
    found, row = _reservation(tx, key, token)
    storing.change_sizes(tx, found.actor, _account(found, row), found.product, {_held(row.category): -row.bytes})
    store.end(tx.connection, row.id, tx.now, "cancelled")


def lapsed(tx: Transaction) -> list[tuple[Product, str, str]]:
    """Some of the reservations whose time is over: product, account and what is kept of the token."""
    accounts = accounts_service.known(tx)
    products = {each.id: each for each in pools_service.products(tx)}
    return [
        (products[row.product_id], accounts.tree.codes[accounts.row_of_id[row.account_id]], row.token_hash)
        for row in store.lapsed(tx.connection, tx.now, AT_ONCE)
    ]


def lapse(tx: Transaction, product: Product, account: str, token_hash: str) -> None:
    """Let a reservation end whose time is over, if nobody did meanwhile."""
    [row] = ask(tx.connection, store.lock_reservation(token_hash))
    if row is not None and row.ended_at is None and row.until <= tx.now:
        storing.change_sizes(tx, Actor("schedule", "", None), account, product, {_held(row.category): -row.bytes})
        store.end(tx.connection, row.id, tx.now, "lapsed")


def _reservation(tx: Transaction, key: str, token: str) -> tuple[_Key, Any]:
    """A key, and a reservation of it by its token that is open, locked."""
    found, [row] = _key_and(tx, key, store.lock_reservation(hashed(token.strip())))
    if row is None or row.key_id != found.id:
        raise not_found("reservation", token[:8])
    if row.ended_at is not None or row.until <= tx.now:
        said = {"committed": "It was committed.", "cancelled": "It was cancelled."}.get(
            row.outcome or "", "Its time is over."
        )
        raise Refused(Problem("reservation-over", "The reservation is over", 410, f"{said} Reserve again."))
    return found, row


def _account(key: _Key, reservation: Any) -> str:
    return key.accounts.tree.codes[key.accounts.row_of_id[reservation.account_id]]


def _held(category: str) -> str:
    """Where what is held for a category stands, so that it counts for whoever that is."""
    kind = category.split("/")
    if kind[0] in ("home", "folder") and len(kind) > 1:
        return "/".join([*kind[:2], usage.RESERVED])
    return usage.RESERVED


def _limit(tx: Transaction, key: _Key, place: Place) -> personal_storage.Storage | None:
    """What a person stores and may store of their own, where a layer limits it."""
    if place.person is None:
        return None
    mine = personal_storage.of_people(tx, key.actor, [place.person]).get(place.person.username, [])
    return next((each for each in mine if each.product.id == key.product.id and each.limit is not None), None)


def _since(tx: Transaction, key: _Key, place: Place) -> datetime | None:
    if place.person is None:
        return None
    return usage.past_limit_since(tx, key.product, place.account_id, place.person.username)


def _judge_limit(tx: Transaction, key: _Key, place: Place) -> None:
    """Refused where what was just counted is over the person's own limit, or the folder's, and that stops."""
    why = _folder_full(tx, key, place)
    if why is not None:
        raise Refused(Problem("at-limit", "No room for that", 409, why, {"folder": place.category}))
    mine = _limit(tx, key, place)
    if mine is None or mine.limit is None or place.person is None:
        return
    since = tx.now if mine.used > mine.limit else None
    since = usage.past_limit(tx, key.product, place.account_id, place.person.username, since)
    stopped = _past(tx, key, mine, place, 0, since)
    if stopped is not None:
        raise Refused(Problem("at-limit", "No room for that", 409, stopped, {"person": place.category}))


def _folder_full(tx: Transaction, key: _Key, place: Place, more: int = 0) -> str | None:
    if not place.category.startswith("folder/"):
        return None
    return folders.why_stopped(tx, key.product, place.account_id, place.category.split("/")[1], more)


def _past(
    tx: Transaction, key: _Key, mine: personal_storage.Storage, place: Place, more: int, since: datetime | None
) -> str | None:
    """Why a person's own limit, which they are over since an instant (None = are not), lets nobody write so many grains
    more; None where it does."""
    assert mine.limit is not None and place.person is not None
    if mine.at_limit.what == "tell" or mine.used + more <= mine.limit:
        return None
    stores = f"{key.product.said(mine.used)} of {key.product.said(mine.limit)}"
    said = f"{place.person.display_name} stores {stores} ({mine.source})"
    if mine.at_limit.what == "grace":
        zone = accounts_service.zone(tx)
        last = local_day(since or tx.now, zone) + timedelta(days=mine.at_limit.grace_days or 0)
        if tx.now < instant(day_start(last + timedelta(days=1), zone) * MICRO):
            return None
        said += f"; its days of grace ended on {day_name(last)}"
    return f"{said}."


def report(tx: Transaction, key: str, reports: Sequence[Report]) -> Reported:
    """Take totals in, in any order and as often as they come: each is recorded, kept until its account is known, or
    refused with the reason; the others go on."""
    found, done, now = _key(tx, key), Reported(), tx.now
    people = _people(tx, [each.where for each in reports if each.where.account is None])
    product_id = found.product.id
    taken: dict[tuple[int, int], dict[datetime, dict[str, int]]] = defaultdict(lambda: defaultdict(dict))
    known: dict[tuple[str | None, datetime], tuple[int, dict[str, int]]] = {}
    """By account (code) and instant, as they were said: the account's number, and what is taken there."""
    used: dict[tuple[int, int, str], datetime] = {}
    unplaced: dict[tuple[str, str, datetime], dict[str, Any]] = {}
    for number, each in enumerate(reports):
        where = each.where
        code = where.account
        place = known.get((code, each.at))
        try:
            size, category = _size(each.bytes), _named(where)
            if place is None:
                at = _at(now, each)
                if code is None:
                    name = where.person or usage.whose_home(category) or ""
                    account_id = place_in(found.accounts, found.actor, where, people.get(name)).account_id
                    place = account_id, taken[product_id, account_id][at]
                elif accounts_service.is_in_scope(found.accounts, found.actor, code):
                    account_id = int(found.accounts.ids[found.accounts.tree.row(code)])
                    place = known[code, each.at] = account_id, taken[product_id, account_id][at]
        except Refused as refused:
            done.refused.append((number, refused.problem.detail))
            continue
        if place is None:
            assert code is not None
            unplaced[code, category, at] = {
                "key_account_id": int(found.accounts.ids[found.accounts.tree.row(str(found.actor.scope))]),
                "product_id": product_id,
                "account": code[:64],
                "category": category,
                "at": at,
                "bytes": size,
                "received_at": tx.now,
            }
            continue
        account_id, sizes = place
        sizes[category] = size
        if each.used_at is not None and each.used_at <= tx.now:
            series = (product_id, account_id, category)
            used[series] = max(each.used_at, used.get(series, each.used_at))
    if unplaced:
        key_account = next(iter(unplaced.values()))["key_account_id"]
        if store.count_unplaced(tx.connection, key_account) + len(unplaced) > MOST_UNPLACED:
            raise invalid(f"{MOST_UNPLACED} reports of unknown accounts are kept already; place or drop these first.")
        store.keep_unplaced(tx.connection, list(unplaced.values()))
    if taken:
        storing.report_taken(tx, found.product, taken, used)
    done.recorded = sum(len(sizes) for of_account in taken.values() for sizes in of_account.values())
    done.unplaced = len(unplaced)
    return done


def _at(now: datetime, report: Report) -> datetime:
    if report.at.tzinfo is None:
        raise invalid("An instant has an offset, like 2026-11-27T08:00:00+00:00.", "at")
    if report.at > now + SKEW:
        raise invalid(f"{report.at.isoformat()} is ahead of the clock here, {now.isoformat(timespec='seconds')}.", "at")
    if report.at.year < 1990:
        raise invalid(f"{report.at.isoformat()} is too long ago.", "at")
    return min(report.at, now)
