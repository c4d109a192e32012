"""A pool over time, the ways out of a shortfall ahead, and renewals as a calendar."""

from __future__ import annotations

import hashlib
import secrets
from bisect import bisect_left, bisect_right
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date, timedelta
from decimal import Decimal
from typing import Any

import numpy as np

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.allocations import service as allocations
from fair_ladle.app.allocations.positions import Positions, Snapshot, settle_snapshot, snapshot_at
from fair_ladle.app.drafts.change_types import AllocationChange, Change, NewLot, Terms, UnitsChange
from fair_ladle.app.drafts.reversing import terms_of
from fair_ladle.app.enforcement.replay import UsageHistory
from fair_ladle.app.people import service as people
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import conflict, invalid, not_found
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Pool, Product
from fair_ladle.app.purchases import store
from fair_ladle.app.sign_in import service as sign_in_service
from fair_ladle.app.statements.rate_cards import decimals_of
from fair_ladle.app.usage import service as usage
from fair_ladle.connectors.calendars import Event, as_calendar
from fair_ladle.core.calendar import MICRO, day_start, micros
from fair_ladle.core.costing import Lot, supply_on
from fair_ladle.core.quantities import MOST_GRAINS, half_up, to_units
from fair_ladle.core.settling import Roots, Supply, settle
from fair_ladle.core.sharing import Mode, share
from fair_ladle.core.tree import Ints

BACK, AHEAD, STEP = timedelta(days=364), timedelta(days=400), timedelta(days=7)
UNSEEN = timedelta(days=60)
AT_ONCE = 16
"""Days settled together: what bounds the memory of a timeline."""


@dataclass(frozen=True)
class Point:
    """What a day has, in grains: supply, what could be promised of it, what is promised, what is used."""

    day: date
    supply: int
    promisable: int
    promised: int
    used: int
    short: int
    """By how much it is in shortfall."""


@dataclass(frozen=True)
class Timeline:
    """A pool from a year back to a year ahead: its lots, and days on which its figures are known."""

    pool: Pool
    owner: str
    owner_name: str
    today: date
    points: list[Point]


def timelines(tx: Transaction, actor: Actor) -> list[tuple[Pool, str, str, Point]]:
    """Every pool that an account of the branch owns, with its present."""
    products = pools_service.products(tx)
    found = settle_snapshot(snapshot_at(tx, products, tx.now))
    snapshot = found.snapshot
    inside = set(snapshot.accounts.tree.branch(accounts_service.top_row(snapshot.accounts, actor)).tolist())
    result = []
    for place, row in enumerate(snapshot.roots.rows.tolist()):
        if row in inside:
            point = _point(
                snapshot.pools[place], snapshot.day, int(found.pool_load()[place]), int(found.pool_used()[place])
            )
            result.append(
                (snapshot.pools[place], snapshot.accounts.tree.codes[row], snapshot.accounts.name(row), point)
            )
    return result


def timeline(tx: Transaction, actor: Actor, owner: str, product: str) -> Timeline:
    """One pool over time. The past is as it was; ahead, what is in use stays as it is and allocations come and go as
    they are written."""
    found, place, row = _pool(tx, actor, owner, product)
    snapshot, pool = found.snapshot, found.snapshot.pools[place]
    versions = allocations.all_versions(tx, [pool.product.id])
    days = [*(snapshot.day - BACK + n * STEP for n in range(BACK // STEP + 1)), *_turns(pool, versions, snapshot.day)]
    instants = np.array([_looked_at(day, snapshot) for day in days], dtype=np.int64)
    own = usage.own_at_each(tx, snapshot.accounts, pool.product, instants)
    reserve = _reserves(snapshot, versions, days)
    points: list[Point] = []
    for begin in range(0, len(days), AT_ONCE):
        part = slice(begin, begin + AT_ONCE)
        roots = Roots.of([(int(root), column) for root in snapshot.roots.rows for column in range(len(days[part]))])
        load = settle(snapshot.accounts.tree, own[:, part], reserve[:, part], roots).load[row]
        used = settle(snapshot.accounts.tree, own[:, part], np.zeros_like(own[:, part]), roots).load[row]
        points.extend(_point(pool, day, int(load[n]), int(used[n])) for n, day in enumerate(days[part]))
    return Timeline(pool, owner, snapshot.accounts.name(row), snapshot.day, points)


def _looked_at(day: date, snapshot: Snapshot) -> int:
    """The instant a day is told by: the last of one that is over, the present one, the first of one ahead."""
    if day < snapshot.day:
        return day_start(day + timedelta(days=1), snapshot.zone) * MICRO - 1
    return micros(snapshot.at) if day == snapshot.day else day_start(day, snapshot.zone) * MICRO


def _reserves(snapshot: Snapshot, versions: Sequence[Any], days: Sequence[date]) -> Ints:
    """Every account's reserve on each of these days, over today's tree: accounts × days."""
    reserve = np.zeros((len(snapshot.accounts.tree), len(days)), dtype=np.int64)
    for version in versions:
        if version.reserve:
            end = len(days) if version.last_day is None else bisect_right(days, version.last_day)
            reserve[snapshot.accounts.row_of_id[version.account_id], bisect_left(days, version.first_day) : end] = (
                version.reserve
            )
    return reserve


def _point(pool: Pool, day: date, load: int, used: int) -> Point:
    supply = supply_on(pool.lots, day)
    return Point(day, supply.quantity, supply.promisable, load, used, supply.shortfall(load, used))


def _turns(pool: Pool, versions: Sequence[Any], today: date) -> list[date]:
    """The days ahead on which a lot or an allocation of the product begins or has ended, and the last one looked at."""
    days = {
        day for lot in pool.lots for day in (lot.first_day, lot.last_day and lot.last_day + timedelta(days=1)) if day
    }
    for version in versions:
        days |= {day for day in (version.first_day, version.last_day and version.last_day + timedelta(days=1)) if day}
    return [*sorted(day for day in days if today < day < today + AHEAD), today + AHEAD]


def _pool(
    tx: Transaction, actor: Actor, owner: str, product: str, on: date | None = None
) -> tuple[Positions, int, int]:
    wanted = pools_service.product(tx, product)
    at = tx.now if on is None or on <= accounts_service.today(tx) else accounts_service.start_of(tx, on)
    found = settle_snapshot(snapshot_at(tx, [wanted], at))
    row = accounts_service.row_in_scope(found.snapshot.accounts, actor, owner)
    place = found.pool_at(row, 0)
    if place < 0 or int(found.snapshot.owner[row, 0]) != row:
        raise not_found("pool of that owner", product)
    return found, place, row


@dataclass(frozen=True)
class Option:
    """A way out of a shortfall: what it costs more a month, how many people it touches, what stays short, and its
    changes."""

    key: str
    name: str
    says: str
    cost: Decimal
    currency: str
    people: int
    still_short: int
    changes: Sequence[Change] = ()


@dataclass(frozen=True)
class Plan:
    """The ways out of one pool's shortfall on a day."""

    product: Product
    owner: str
    day: date
    short: int
    options: list[Option]


def plan(tx: Transaction, actor: Actor, owner: str, product: str, day: date) -> Plan:
    """What could be done about a shortfall on a day, compared by money and by people touched. Each is for a draft of
    that day."""
    found, place, row = _pool(tx, actor, owner, product, day)
    snapshot = found.snapshot
    pool = snapshot.pools[place]
    short = int(found.shortfalls()[place])
    if not short:
        raise conflict(f"{pool.product.name} is covered on {day}; there is nothing to plan.")
    below = _below(found, row)
    ids = [int(snapshot.accounts.ids[each]) for each in below]
    versions = allocations.in_force(tx, [pool.product.id], ids, accounts_service.today(tx))
    there = {each: versions.get((account_id, pool.product.id)) for each, account_id in zip(below, ids, strict=True)}
    options = [
        _buy(pool, owner, day, int(found.pool_load()[place]), int(found.pool_used()[place])),
        _take_back(found, below, there, pool, short),
        _shrink(found, below, there, pool, row, "max-min", "Shrink all to the same level", short),
        _shrink(found, below, there, pool, row, "least harm", "Shrink where least is used", short),
        _release(tx, found, row, pool),
        Option(
            "let run",
            "Let it run over",
            "Nothing new is let through where supply is gone; nobody loses anything.",
            Decimal(0),
            pool.currency,
            0,
            short,
        ),
    ]
    return Plan(pool.product, owner, day, short, [each for each in options if each is not None])


def _covering(supply: Supply[int], load: int, used: int, overcommit: int | None) -> int:
    """The least that has to be bought so that the pool is covered (grains); the lot may raise the overcommit."""
    least, most = 0, max(1, supply.shortfall(load, used))
    percent = max(supply.overcommit, overcommit or 100)
    while least < most:
        middle = (least + most) // 2
        with_it = Supply(supply.quantity + middle, supply.true_up, percent)
        least, most = (least, middle) if with_it.shortfall(load, used) == 0 else (middle + 1, most)
    return least


def _buy(pool: Pool, owner: str, day: date, load: int, used: int) -> Option:
    newest = max(pool.lots, key=lambda lot: (lot.first_day, lot.reference))
    quantity = _covering(supply_on(pool.lots, day), load, used, newest.overcommit)
    taken = {lot.reference for lot in pool.lots}
    number = next(n for n in range(1, 10_000) if f"{newest.reference}-{n}" not in taken)
    lot = NewLot(
        owner=owner,
        product=pool.product.code,
        reference=f"{newest.reference}-{number}",
        quantity=quantity,
        first_day=day,
        last_day=None,
        unit_cost=newest.unit_cost,
        currency=pool.currency,
        overcommit=newest.overcommit,
    )
    units = to_units(quantity, pool.product.measure)
    return Option(
        "buy",
        f"Buy {pool.product.said(quantity)}",
        f"At {newest.unit_cost.normalize():f} {pool.currency} each a month, the price of {newest.reference}.",
        half_up(units * newest.unit_cost, decimals_of(pool.currency)),
        pool.currency,
        0,
        0,
        [lot],
    )


def _take_back(found: Positions, below: Sequence[int], there: dict[int, Any], pool: Pool, short: int) -> Option | None:
    """Reserves shrink to what is used, the largest unused part first: touches nobody."""
    left, changes = short, []
    for row in sorted(below, key=lambda each: (-int(found.settled.cushion[each, 0]), each)):
        cushion = int(found.settled.cushion[row, 0])
        if not cushion or not left or there[row] is None:
            continue
        by = min(cushion, left)
        left -= by
        changes.append(_change(found, row, there[row], pool, {"reserve": int(found.settled.held[row, 0]) - by}))
    if not changes:
        return None
    return Option(
        "take back",
        "Take back unused promises",
        "Reserves shrink to what is in use; nobody loses a unit.",
        Decimal(0),
        pool.currency,
        0,
        left,
        changes,
    )


def _shrink(
    found: Positions, below: Sequence[int], there: dict[int, Any], pool: Pool, row: int, way: str, name: str, short: int
) -> Option | None:
    """Caps below come down so that all of it fits; what is then over has 14 days of grace before the excess is on
    hold."""
    held = [int(found.settled.held[each, 0]) for each in below]
    parts = _lowered(found, below, held, way, short)
    if parts is None:
        return None
    changes: list[Change] = []
    touched = 0
    for each, part, now in zip(below, parts, held, strict=True):
        if part == now:
            continue
        load = int(found.settled.load[each, 0])
        touched += max(0, load - part)
        reserve = 0 if there[each] is None else there[each].reserve
        terms: dict[str, Any] = {"cap": part, "reserve": min(reserve, part)}
        if part < load:
            terms |= {"at_cap": "grace", "grace_days": 14, "burst": None}
        changes.append(_change(found, each, there[each], pool, terms))
    people_touched = touched if pool.product.measure == "seat" else 0
    says = (
        f"{len(changes)} accounts below get lower caps; {pool.product.said(touched)} in use would be over, have 14 "
        "days of grace, are then on hold, and count until they are released."
    )
    return Option(way, name, says, Decimal(0), pool.currency, people_touched, touched, changes)


def _below(found: Positions, row: int) -> list[int]:
    """The accounts directly below a pool's owner that it serves."""
    tree = found.snapshot.accounts.tree
    return [
        each
        for each in tree.branch(row).tolist()
        if int(tree.parent[each]) == row and each != row and int(found.snapshot.owner[each, 0]) == row
    ]


def _lowered(found: Positions, below: Sequence[int], held: Sequence[int], way: str, short: int) -> list[int] | None:
    """What each of these accounts would hold so that all of it fits; None where those past their cap alone are too
    many.

    Who is past its cap already gives nothing: a lower one would put it on hold at once.
    """
    least = [
        now if int(found.settled.load[each, 0]) > int(found.snapshot.grid.cap[each, 0]) else 0
        for each, now in zip(below, held, strict=True)
    ]
    room = max(0, sum(held) - short)
    if sum(least) > room:
        return None
    if way == "max-min":
        return share(room, [1] * len(below), least, held, Mode.MAX_MIN)
    parts, left = list(held), short
    used = found.used()
    for n in sorted(range(len(below)), key=lambda n: (int(used[below[n], 0]) - held[n], int(used[below[n], 0]), n)):
        by = min(parts[n] - least[n], left)
        parts[n], left = parts[n] - by, left - by
    return parts


@dataclass(frozen=True)
class Reduction:
    """An account below a pool: what counts there now and is used of it, and what it would have to give by either way
    (None = no way)."""

    account: str
    name: str
    counted: int
    used: int
    to_one_level: int | None
    where_least_used: int | None


@dataclass(frozen=True)
class Renewal:
    """What a purchase of a quantity would leave uncovered on its first day, and whom that would touch, in grains."""

    short: int
    gives: list[Reduction]


def renewal(
    tx: Transaction, actor: Actor, owner: str, product: str, quantity: int, true_up: int, first_day: date
) -> Renewal:
    """What buying so much from a day on, with what is in use and promised now, would do to each account below."""
    found, place, row = _pool(tx, actor, owner, product, first_day)
    snapshot, pool = found.snapshot, found.snapshot.pools[place]
    if not 1 <= quantity <= MOST_GRAINS or not 0 <= true_up <= MOST_GRAINS:
        raise invalid(f"A quantity from 1 to {pool.product.said(MOST_GRAINS)}.", "quantity")
    lot = Lot("", quantity, to_units(quantity, pool.product.measure), snapshot.day, None, Decimal(0), true_up, None)
    pools = [replace(each, lots=(*each.lots, lot)) if each.id == pool.id else each for each in snapshot.pools]
    found = settle_snapshot(replace(snapshot, pools=tuple(pools), supply=pools_service.supply(pools, snapshot.day)))
    short = int(found.shortfalls()[place])
    if not short:
        return Renewal(0, [])
    below, used = _below(found, row), found.used()
    held = [int(found.settled.held[each, 0]) for each in below]
    ways = [_lowered(found, below, held, way, short) for way in ("max-min", "least harm")]
    return Renewal(
        short,
        [
            Reduction(
                snapshot.accounts.tree.codes[each],
                snapshot.accounts.name(each),
                held[n],
                int(used[each, 0]),
                *(None if parts is None else held[n] - parts[n] for parts in ways),
            )
            for n, each in enumerate(below)
            if held[n]
        ],
    )


def _release(tx: Transaction, found: Positions, row: int, pool: Pool) -> Option | None:
    """Seats of people not seen for long are taken back from them; protected people keep theirs."""
    if pool.product.measure != "seat":
        return None
    past = UsageHistory(tx, found.snapshot)
    branch = {each for each in past.rows if int(found.snapshot.owner[each, 0]) == row}
    assigned = [
        each
        for each in past.open_assignments()
        if each.begins <= tx.now and found.snapshot.accounts.row_of_id[each.account_id] in branch
    ]
    subjects = [each.subject for each in assigned]
    known = people.by_username(tx, subjects)
    snapshot, idle = found.snapshot, defaultdict(list)  # type: tuple[Snapshot, dict[int, list[str]]]
    for each in assigned:
        person = known.get(each.subject)
        if (
            person is not None
            and not person.protected
            and (person.last_seen_at is None or tx.now - person.last_seen_at > UNSEEN)
        ):
            idle[snapshot.accounts.row_of_id[each.account_id]].append(each.subject)
    if not idle:
        return None
    own = snapshot.own.copy()
    changes: list[Change] = []
    for place, subjects in sorted(idle.items()):
        taken = sorted(subjects)[:1000]
        own[place, 0] -= len(taken)
        changes.append(
            UnitsChange(
                account=snapshot.accounts.tree.codes[place],
                product=pool.product.code,
                subjects=tuple(taken),
                give=False,
            )
        )
    count = int((snapshot.own - own).sum())
    left = settle_snapshot(replace(snapshot, own=own))
    return Option(
        "release",
        f"Release {count} idle seats",
        f"They are of people not seen for {UNSEEN.days} days; protected people keep theirs.",
        Decimal(0),
        pool.currency,
        count,
        int(left.shortfalls()[left.pool_at(row, 0)]),
        changes,
    )


def _change(found: Positions, row: int, version: Any, pool: Pool, terms: dict[str, Any]) -> AllocationChange:
    was = terms_of(version)
    return AllocationChange(
        account=found.snapshot.accounts.tree.codes[row],
        product=pool.product.code,
        terms=(was or Terms()).model_copy(update=terms),
        seen=version.id if version else None,
        was=was,
    )


def make_calendar(tx: Transaction, actor: Actor) -> str:
    """A new secret address for the calendar of the branch; the old one stops working. Only its hash is kept."""
    token = secrets.token_urlsafe(32)
    store.replace(tx.connection, actor.sign_in_id or 0, _account_id(tx, actor), _hash(token), tx.now)
    return token


def drop_calendar(tx: Transaction, actor: Actor) -> None:
    """The address stops working."""
    store.replace(tx.connection, actor.sign_in_id or 0, _account_id(tx, actor), None, tx.now)


def has_calendar(tx: Transaction, actor: Actor) -> bool:
    """Whether there is an address."""
    return store.made(tx.connection, actor.sign_in_id or 0, _account_id(tx, actor)) is not None


def calendar(tx: Transaction, token: str) -> bytes:
    """Renewals and endings of the branch's lots (RFC 5545), for whoever knows the address and while its maker runs
    the branch."""
    row = store.by_token(tx.connection, _hash(token))
    actor = None if row is None else sign_in_service.actor_for(tx, row.sign_in_id, row.code)
    if actor is None:
        raise not_found("calendar", "at this address")
    events = []
    for pool, owner, name, _ in timelines(tx, actor):
        for lot in pool.lots:
            quantity = pool.product.said(lot.quantity)
            if lot.last_day is not None:
                events.append(
                    Event(
                        f"end-{owner}-{pool.product.code}-{lot.reference}-{lot.first_day}",
                        lot.last_day,
                        f"{pool.product.name}: {quantity} end ({name})",
                        f"Lot {lot.reference}, {lot.unit_cost.normalize():f} {pool.currency} each "
                        "a month. Renew it before it ends.",
                    )
                )
            events.append(
                Event(
                    f"begin-{owner}-{pool.product.code}-{lot.reference}-{lot.first_day}",
                    lot.first_day,
                    f"{pool.product.name}: {quantity} begin ({name})",
                    f"Lot {lot.reference}.",
                )
            )
    return as_calendar("Fair Ladle: renewals and endings", events, tx.now)


def _hash(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def _account_id(tx: Transaction, actor: Actor) -> int:
    return accounts_service.ids_by_code(tx)[actor.scope or accounts_service.operator(tx).code]
