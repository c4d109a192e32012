"""A pool over time, the ways out of a shortfall ahead, and renewals as a calendar."""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import date, timedelta
from decimal import Decimal
from typing import Any

import numpy as np

from fair_ladle.app.accounts import usecases as accounts_usecases
from fair_ladle.app.allocations import usecases as allocations
from fair_ladle.app.allocations.positions import Positions, settle_world, world_at
from fair_ladle.app.drafts.changes import AllocationChange, Change, NewLot, Terms
from fair_ladle.app.drafts.usecases import terms_of
from fair_ladle.app.enforcement.replay import Past
from fair_ladle.app.people import usecases as people
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Unit
from fair_ladle.app.plumbing.problems import conflict, not_found
from fair_ladle.app.pools import usecases as pools_usecases
from fair_ladle.app.pools.usecases import Pool, Product
from fair_ladle.app.purchases import store
from fair_ladle.app.sign_in import usecases as sign_in
from fair_ladle.connectors.calendars import Event, as_calendar
from fair_ladle.core.calendar import MICRO, day_start
from fair_ladle.core.clocks import total
from fair_ladle.core.costing import supply_on
from fair_ladle.core.quantities import half_up, to_units
from fair_ladle.core.settling import NO_LIMIT
from fair_ladle.core.sharing import Mode, share

BACK, AHEAD, STEP = timedelta(days=364), timedelta(days=400), timedelta(days=7)
UNSEEN = timedelta(days=60)


@dataclass(frozen=True)
class Point:
    """What a day has, in grains: supply, what could be promised of it, what is promised, what is used."""

    day: date
    supply: int
    promisable: int
    promised: int
    used: int

    @property
    def short(self) -> int:
        """By how much more is promised than can be."""
        return max(0, self.promised - self.promisable)


@dataclass(frozen=True)
class Timeline:
    """A pool from a year back to a year ahead: its lots, and days on which its figures are known."""

    pool: Pool
    owner: str
    owner_name: str
    today: date
    points: list[Point]


def timelines(unit: Unit, actor: Actor) -> list[tuple[Pool, str, str, Point]]:
    """Every pool that an account of the branch owns, with its present."""
    products = pools_usecases.products(unit)
    found = settle_world(world_at(unit, products, unit.now))
    world = found.world
    inside = set(world.accounts.tree.branch(accounts_usecases.top_row(world.accounts, actor)).tolist())
    result = []
    for place, row in enumerate(world.roots.rows.tolist()):
        if row in inside:
            point = Point(
                world.day, int(world.supply.quantity[place]), int(world.supply.promisable[place]), int(found.pool_load()[place]), int(found.pool_used()[place]),
            )
            result.append((world.pools[place], world.accounts.tree.codes[row], world.accounts.name(row), point))
    return result


def timeline(unit: Unit, actor: Actor, owner: str, product: str) -> Timeline:
    """One pool over time. The past is as it was; ahead, what is in use stays as it is and allocations come and go as they are written."""
    found, place, row = _pool(unit, actor, owner, product)
    world, pool = found.world, found.world.pools[place]
    past = Past(unit, world)
    branch = [each for each in past.rows if int(world.owner[each, 0]) == row]
    used = total([past.own[each] for each in branch if each in past.own])
    days = [world.day - BACK + n * STEP for n in range(BACK // STEP + 1)]
    at = np.array([day_start(day + timedelta(days=1), world.zone) * MICRO - 1 if day < world.day else past.now for day in days], dtype=np.int64)
    load, in_use = past.loads[row].at(at).tolist(), used.at(at).tolist()
    points = [_point(pool, day, load[n], in_use[n]) for n, day in enumerate(days)]
    for day in _turns(unit, pool, world.day):
        ahead = settle_world(world_at(unit, [pool.product], accounts_usecases.start_of(unit, day)))
        there = next(n for n, each in enumerate(ahead.world.pools) if each.id == pool.id)
        points.append(_point(pool, day, int(ahead.pool_load()[there]), int(ahead.pool_used()[there])))
    return Timeline(pool, owner, world.accounts.name(row), world.day, points)


def _point(pool: Pool, day: date, load: int, used: int) -> Point:
    quantity, true_up, overcommit = supply_on(pool.lots, day)
    return Point(day, quantity, quantity * overcommit // 100 + true_up, int(load), int(used))


def _turns(unit: Unit, pool: Pool, today: date) -> list[date]:
    """The days ahead on which a lot or an allocation of the product begins or has ended, and the last one looked at."""
    days = {day for lot in pool.lots for day in (lot.first_day, lot.last_day and lot.last_day + timedelta(days=1)) if day}
    for version in allocations.all_versions(unit, [pool.product.id]):
        days |= {day for day in (version.first_day, version.last_day and version.last_day + timedelta(days=1)) if day}
    return [*sorted(day for day in days if today < day < today + AHEAD), today + AHEAD]


def _pool(unit: Unit, actor: Actor, owner: str, product: str, on: date | None = None) -> tuple[Positions, int, int]:
    wanted = pools_usecases.product(unit, product)
    at = unit.now if on is None or on <= accounts_usecases.today(unit) else accounts_usecases.start_of(unit, on)
    found = settle_world(world_at(unit, [wanted], at))
    row = accounts_usecases.row_in_scope(found.world.accounts, actor, owner)
    place = found.pool_at(row, 0)
    if place < 0 or int(found.world.owner[row, 0]) != row:
        raise not_found("pool of that owner", product)
    return found, place, row


@dataclass(frozen=True)
class Option:
    """A way out of a shortfall: what it costs more a month, how many people it touches, what stays short, and its changes."""

    key: str
    name: str
    says: str
    cost: Decimal
    currency: str
    people: int
    still_short: int
    changes: list[Change] = field(default_factory=list)


@dataclass(frozen=True)
class Plan:
    """The ways out of one pool's shortfall on a day."""

    product: Product
    owner: str
    day: date
    short: int
    options: list[Option]


def plan(unit: Unit, actor: Actor, owner: str, product: str, day: date) -> Plan:
    """What could be done about a shortfall on a day, compared by money and by people touched. Each is for a draft of that day."""
    found, place, row = _pool(unit, actor, owner, product, day)
    world = found.world
    pool = world.pools[place]
    short = int(found.shortfalls()[place])
    if not short:
        raise conflict(f"{pool.product.name} is covered on {day}; there is nothing to plan.")
    below = [
        each for each in world.accounts.tree.branch(row).tolist()
        if int(world.accounts.tree.parent[each]) == row and each != row and int(world.owner[each, 0]) == row
    ]
    ids = [int(world.accounts.ids[each]) for each in below]
    versions = allocations.in_force(unit, [pool.product.id], ids, accounts_usecases.today(unit))
    there = {each: versions.get((account_id, pool.product.id)) for each, account_id in zip(below, ids, strict=True)}
    options = [
        _buy(pool, owner, day, short, int(found.pool_load()[place])), _take_back(found, below, there, pool, short),
        _shrink(found, below, there, pool, row, "max-min", "Shrink all to the same level", short),
        _shrink(found, below, there, pool, row, "least harm", "Shrink where least is used", short), _release(unit, found, row, pool, short),
        Option("let run", "Let it run over", "Nothing new is let through where supply is gone; nobody loses anything.", Decimal(0), pool.currency, 0, short),
    ]
    return Plan(pool.product, owner, day, short, [each for each in options if each is not None])


def _buy(pool: Pool, owner: str, day: date, short: int, load: int) -> Option:
    newest = max(pool.lots, key=lambda lot: (lot.first_day, lot.reference))
    _, _, overcommit = supply_on(pool.lots, day)
    quantity = -(-short * 100 // overcommit)
    taken = {lot.reference for lot in pool.lots}
    number = next(n for n in range(1, 10_000) if f"{newest.reference}-{n}" not in taken)
    lot = NewLot(
        owner=owner, product=pool.product.code, reference=f"{newest.reference}-{number}", quantity=quantity, first_day=day, last_day=None,
        unit_cost=newest.unit_cost, currency=pool.currency, overcommit=newest.overcommit,
    )
    units = to_units(quantity, pool.product.measure)
    return Option("buy", f"Buy {pool.product.said(quantity)}", f"At {newest.unit_cost.normalize():f} {pool.currency} each a month, the price of {newest.reference}.", half_up(units * newest.unit_cost, 2), pool.currency, 0, 0, [lot])


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
    return Option("take back", "Take back unused promises", "Reserves shrink to what is in use; nobody loses a unit.", Decimal(0), pool.currency, 0, left, changes)


def _shrink(found: Positions, below: Sequence[int], there: dict[int, Any], pool: Pool, row: int, way: str, name: str, short: int) -> Option | None:
    """Caps below come down so that all of it fits; what is then over has 14 days of grace before the excess is on hold."""
    held = [int(found.settled.held[each, 0]) for each in below]
    room = max(0, sum(held) - short)
    # Who is past its cap already is left out: a lower one would put it on hold at once.
    least = [now if int(found.settled.load[each, 0]) > int(found.world.grid.cap[each, 0]) else 0 for each, now in zip(below, held, strict=True)]
    if sum(least) > room:
        return None
    if way == "max-min":
        parts = share(room, [1] * len(below), least, held, Mode.MAX_MIN)
    else:
        parts, left = list(held), short
        used = found.used()
        for n in sorted(range(len(below)), key=lambda n: (int(used[below[n], 0]) - held[n], int(used[below[n], 0]), n)):
            by = min(parts[n] - least[n], left)
            parts[n], left = parts[n] - by, left - by
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
    says = f"{len(changes)} accounts below get lower caps; {pool.product.said(touched)} in use would be over, have 14 days of grace, are then on hold, and count until they are released."
    return Option(way, name, says, Decimal(0), pool.currency, people_touched, touched, changes)


def _release(unit: Unit, found: Positions, row: int, pool: Pool, short: int) -> Option | None:
    """How many seats nobody has used for long: told, not done; they are released where the people are."""
    if pool.product.measure != "seat":
        return None
    past = Past(unit, found.world)
    branch = {each for each in past.rows if int(found.world.owner[each, 0]) == row}
    subjects = [each.subject for each in past.open_assignments() if found.world.accounts.row_of_id[each.account_id] in branch]
    known = people.by_username(unit, subjects)
    idle = sum(1 for each in subjects if each in known and (known[each].last_seen_at is None or unit.now - known[each].last_seen_at > UNSEEN))
    if not idle:
        return None
    return Option("release", f"Release {idle} idle seats", f"{idle} seats are of people not seen for {UNSEEN.days} days. They are released with their people, not in a draft.", Decimal(0), pool.currency, idle, max(0, short - idle))


def _change(found: Positions, row: int, version: Any, pool: Pool, terms: dict[str, Any]) -> AllocationChange:
    was = terms_of(version)
    return AllocationChange(
        account=found.world.accounts.tree.codes[row], product=pool.product.code, terms=(was or Terms()).model_copy(update=terms),
        seen=version.id if version else None, was=was,
    )


def make_calendar(unit: Unit, actor: Actor) -> str:
    """A new secret address for the calendar of the branch; the old one stops working. Only its hash is kept."""
    token = secrets.token_urlsafe(32)
    store.replace(unit.connection, actor.sign_in_id or 0, _account_id(unit, actor), _hash(token), unit.now)
    return token


def drop_calendar(unit: Unit, actor: Actor) -> None:
    """The address stops working."""
    store.replace(unit.connection, actor.sign_in_id or 0, _account_id(unit, actor), None, unit.now)


def has_calendar(unit: Unit, actor: Actor) -> bool:
    """Whether there is an address."""
    return store.made(unit.connection, actor.sign_in_id or 0, _account_id(unit, actor)) is not None


def calendar(unit: Unit, token: str) -> bytes:
    """Renewals and endings of the branch's lots (RFC 5545), for whoever knows the address and while its maker runs the branch."""
    row = store.by_token(unit.connection, _hash(token))
    actor = None if row is None else sign_in.actor_for(unit, row.sign_in_id, row.code)
    if actor is None:
        raise not_found("calendar", "at this address")
    events = []
    for pool, owner, name, _ in timelines(unit, actor):
        for lot in pool.lots:
            quantity = pool.product.said(lot.quantity)
            if lot.last_day is not None:
                events.append(Event(
                    f"end-{owner}-{pool.product.code}-{lot.reference}-{lot.first_day}", lot.last_day, f"{pool.product.name}: {quantity} end ({name})",
                    f"Lot {lot.reference}, {lot.unit_cost.normalize():f} {pool.currency} each a month. Renew it before it ends.",
                ))
            events.append(Event(
                f"begin-{owner}-{pool.product.code}-{lot.reference}-{lot.first_day}", lot.first_day, f"{pool.product.name}: {quantity} begin ({name})", f"Lot {lot.reference}.",
            ))
    return as_calendar("Fair Ladle: renewals and endings", events, unit.now)


def _hash(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def _account_id(unit: Unit, actor: Actor) -> int:
    return accounts_usecases.ids_by_code(unit)[actor.scope or accounts_usecases.operator(unit).code]
