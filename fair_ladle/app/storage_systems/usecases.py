"""What storage systems ask before they write, reserve, and report, with a key of an account for one storage product.

Locks: the reservation by its token; then the counters and what hangs on them (``assignments/storing.py``). A person's
own limit and a folder's are asked for under the lock of the account's counter, and judged with what is to be written.
"""

from __future__ import annotations

import secrets
from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.assignments import storing
from fair_ladle.app.devices.usecases import hashed, valid_key_not_locked
from fair_ladle.app.people import service as people_service
from fair_ladle.app.people.rows import PersonFacts
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.prepared import Question, ask
from fair_ladle.app.plumbing.problems import Problem, Refused, invalid, not_found
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.storage_systems import store
from fair_ladle.app.storage_systems.limits import Limited
from fair_ladle.app.usage import service as usage
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
    person: PersonFacts | None


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
    reading: Transaction
    """Sees generations of one instant: nothing of it is written, or judged again under a lock."""

    def limited(self, place: Place) -> Limited:
        """What may stop a write to a place besides its account's limits."""
        return Limited(self.reading, self.actor, self.product, place.account_id, place.category, place.person)


def _key(tx: Transaction, key: str) -> _Key:
    return _key_and(tx, key)[0]


def _key_and(tx: Transaction, key: str, *with_it: Question[Any]) -> tuple[_Key, list[Any]]:
    """A key, and what these questions come to, asked with it."""
    reading = replace(tx, kept={})
    found, actor, others = valid_key_not_locked(reading, key, "storage", *with_it)
    return _Key(found.row.id, found.product, actor, accounts_service.known(reading), reading), others


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


def place_in(accounts: Accounts, actor: Actor, where: Where, person: PersonFacts | None) -> Place:
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


def _key_and_place(tx: Transaction, key: str, where: Where) -> tuple[_Key, Place]:
    name = where.person or usage.whose_home(where.category or "")
    if not name:
        found = _key(tx, key)
        return found, _one_place(found, where, None)
    found, [person] = _key_and(tx, key, people_service.named(name))
    return found, _one_place(found, where, person)


def _one_place(key: _Key, where: Where, person: PersonFacts | None) -> Place:
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
    found, place = _key_and_place(tx, key, where)
    whole, limited = -(-_size(size) // BYTES_PER_GRAIN), found.limited(place)
    room, members, stopped, asked = storing.ladder_now(tx, found.actor, place.account, found.product, *limited.asks())
    mine, past = limited.looked_at(tx.now, asked, whole)
    stopped = stopped or past
    fits = room.headroom is None or whole <= room.headroom
    limit, used = (None, None) if mine is None else (mine.limit, mine.used)
    return Answer(fits and stopped is None, stopped or members["sentence"], members, limit, used)


def reserve(tx: Transaction, key: str, where: Where, size: int, seconds: int) -> tuple[str, datetime]:
    """Hold so many bytes for an upload; a token to commit or cancel it with, and until when it is held. Refused with
    the ladder where a limit stops it."""
    found, place = _key_and_place(tx, key, where)
    if not 1 <= seconds <= MOST_SECONDS:
        raise invalid(f"From 1 second to {MOST_SECONDS}.", "seconds")
    _change(tx, found, place, {_held(place.category): _size(size)}, size)
    token, until = secrets.token_urlsafe(32), tx.now + timedelta(seconds=seconds)
    row = {"token_hash": hashed(token), "key_id": found.id, "product_id": found.product.id, "bytes": size}
    store.reserve(tx.connection, row | {"account_id": place.account_id, "category": place.category, "until": until})
    return token, until


def write(tx: Transaction, key: str, where: Where, size: int) -> None:
    """Let so many bytes more (less, below 0) be stored there, in one step. Refused with the ladder where a limit stops
    it."""
    found, place = _key_and_place(tx, key, where)
    if abs(size) > MOST_BYTES:
        raise invalid(f"At most {MOST_BYTES} bytes.", "bytes")
    _change(tx, found, place, {place.category: size}, size)


def commit(tx: Transaction, key: str, token: str, size: int | None) -> None:
    """An upload is written: so many bytes in place of what was held for it (all, if not said). More than was held is
    admitted like any other."""
    found, row = _reservation(tx, key, token)
    written = row.bytes if size is None else _size(size)
    where = Where(_account(found, row), category=row.category)
    more = written - row.bytes
    person = next(iter(_people(tx, [where]).values()), None) if more > 0 else None
    _change(tx, found, _one_place(found, where, person), {_held(row.category): -row.bytes, row.category: written}, more)
    store.end(tx.connection, row.id, tx.now, "committed")


def _change(tx: Transaction, key: _Key, place: Place, by: Mapping[str, int], more: int) -> None:
    """Let categories of a place store other sizes, which come to so many bytes ``more`` there: refused where they are
    more and any limit stops that."""
    limited = key.limited(place)
    asks = limited.asks() if more > 0 else []
    answers = storing.change_sizes(tx, key.actor, place.account, key.product, by, *asks)
    limited.judge(tx, answers, more)


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
