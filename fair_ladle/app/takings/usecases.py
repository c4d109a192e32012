"""Assigning and releasing units live: admitted by the engine's rule under locks; a batch is all or nothing."""

from __future__ import annotations

import hashlib
import json
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import timedelta
from typing import Any
from zoneinfo import ZoneInfo

import sqlalchemy as sa

from fair_ladle.app.accounts import usecases as accounts_usecases
from fair_ladle.app.allocations.ladders import ladder_members
from fair_ladle.app.log import usecases as log
from fair_ladle.app.people import usecases as people
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Again, Unit
from fair_ladle.app.plumbing.problems import Problem, Refused, conflict, invalid, not_found
from fair_ladle.app.pools import usecases as pools_usecases
from fair_ladle.app.pools.usecases import Product
from fair_ladle.app.takings import counters, store
from fair_ladle.app.takings.walk import LimitReached, rung, walk
from fair_ladle.app.usage import usecases as usage
from fair_ladle.core.calendar import local_day
from fair_ladle.core.path import ladder
from fair_ladle.core.quantities import to_units

MOST_AT_ONCE = 1000
ANSWERS_KEPT = timedelta(days=2)


@dataclass(frozen=True)
class Wanted:
    """One unit to assign or release: of which account, which product, for whom."""

    account: str
    product: str
    subject: str


@dataclass(frozen=True)
class Place:
    """Where a unit is counted: the account, its pool, and the way up to the pool's owner."""

    account_id: int
    code: str
    product: Product
    pool_id: int
    backed: bool
    way_up: tuple[tuple[int, str, str], ...]
    """id, code and name of each account."""


def assign(unit: Unit, actor: Actor, wanted: Sequence[Wanted], key: str | None = None) -> dict[str, Any]:
    """Assign units, all or none. Refused with the ladder where a limit stops one of them."""
    return _once(unit, actor, "assign", wanted, key, _assign)


def release(unit: Unit, actor: Actor, wanted: Sequence[Wanted], key: str | None = None) -> dict[str, Any]:
    """Release units, all or none. Refused where one of them is not assigned."""
    return _once(unit, actor, "release", wanted, key, _release)


def _once(unit: Unit, actor: Actor, what: str, wanted: Sequence[Wanted], key: str | None, act: Any) -> dict[str, Any]:
    if not wanted or len(wanted) > MOST_AT_ONCE:
        raise invalid(f"Between 1 and {MOST_AT_ONCE} units at once; here are {len(wanted)}.", "units")
    if len(set(wanted)) < len(wanted):
        raise invalid("The same unit stands there twice.", "units")
    told = json.dumps([what, [[each.account, each.product, each.subject] for each in wanted]])
    fingerprint = hashlib.sha256(told.encode()).hexdigest()
    if key is not None:
        before = store.answered(unit.connection, actor.sign_in_id or 0, key)
        if before is not None:
            if before.fingerprint != fingerprint:
                raise conflict("This Idempotency-Key was used for another request.")
            return dict(before.answer)
    answer: dict[str, Any] = act(unit, actor, wanted)
    if key is not None:
        store.forget_answers(unit.connection, unit.now - ANSWERS_KEPT)
        try:
            store.keep_answer(
                unit.connection,
                {"sign_in_id": actor.sign_in_id or 0, "key": key, "fingerprint": fingerprint, "answer": answer, "at": unit.now},
            )
        except sa.exc.IntegrityError:
            raise Again from None
    return answer


def _places(unit: Unit, actor: Actor, wanted: Sequence[Wanted], zone: ZoneInfo) -> dict[tuple[str, str], Place]:
    """Where each account's units of a product are counted; stale counters on the way are rebuilt."""
    products = {each.code: each for each in pools_usecases.products(unit)}
    day = local_day(unit.now, zone)
    found: dict[tuple[str, str], Place] = {}
    for account, code in sorted({(each.account, each.product) for each in wanted}):
        product = products.get(code)
        if product is None:
            raise not_found("product", code)
        if product.is_storage:
            raise invalid(f"{product.name} is measured by what is stored; nothing of it is assigned.", "product")
        place = _place(unit, actor, account, product, day)
        if place is None:
            counters.rebuild(unit, [product])
            place = _place(unit, actor, account, product, day)
        if place is None:
            raise Again
        found[account, code] = place
    return found


def _place(unit: Unit, actor: Actor, account: str, product: Product, day: Any) -> Place | None:
    way = store.way_up(unit.connection, account, product.id, day)
    if not way or (actor.scope is not None and all(each.code != actor.scope for each in way)):
        raise not_found("account", account)
    owner = next((place for place, each in enumerate(way) if each.pool_id is not None), None)
    if owner is None:
        raise invalid(f"Neither {account} nor any account above it has a pool of {product.name}.", "product")
    pool = way[owner]
    if pool.fresh_until is None or pool.fresh_until <= unit.now:
        return None
    return Place(
        way[0].id, account, product, pool.pool_id, bool(pool.backed),
        tuple((each.id, each.code, each.name) for each in way[: owner + 1]),
    )


def _walk_all(
    unit: Unit, actor: Actor, wanted: Sequence[Wanted], places: dict[tuple[str, str], Place], sign: int, zone: ZoneInfo
) -> list[dict[str, Any]]:
    by_pool: dict[int, dict[int, int]] = defaultdict(lambda: defaultdict(int))
    backed, place_of = {}, {}
    for each in wanted:
        place = places[each.account, each.product]
        by_pool[place.pool_id][place.account_id] += sign
        backed[place.pool_id] = place.backed
        place_of[place.pool_id, place.account_id] = place
    writes = []
    for pool_id in sorted(by_pool):
        changes = dict(by_pool[pool_id])
        try:
            writes.extend(walk(unit, pool_id, changes, backed[pool_id], zone).writes)
        except LimitReached as reached:
            place = place_of[pool_id, reached.account_ids[0]]
            raise _stopped(unit, actor, place, changes[place.account_id], zone) from None
    return writes


def _stopped(unit: Unit, actor: Actor, place: Place, amount: int, zone: ZoneInfo) -> Refused:
    """The refusal with its ladder, from counters that nothing of this transaction has been written to."""
    rows = store.read(unit.connection, place.pool_id, [each for each, _, _ in place.way_up])
    rungs = [rung(rows[each], code, unit.now, zone) for each, code, _ in place.way_up]
    owner = rows[place.way_up[-1][0]]
    left = owner.physical - store.used(unit.connection, place.pool_id)
    found = ladder(rungs, owner.promisable, left)
    told = ladder_members(
        found, rungs, place.product, owner.promisable, actor, {code: name for _, code, name in place.way_up}
    )
    unit_name = place.product.unit if amount == 1 else f"{place.product.unit}s"
    can = max(0, found.headroom)
    return Refused(
        Problem(
            "at-limit", "No room for that", 409,
            f"{place.way_up[0][2]} can take {to_units(can, place.product.measure):f} more of {place.product.name}; "
            f"{amount} {unit_name} asked for. {told['sentence']}",
            {"ladder": told},
        )
    )


def _check_subjects(unit: Unit, wanted: Sequence[Wanted], places: dict[tuple[str, str], Place]) -> None:
    """One unit a subject and product; seats for people of the account; base products there; families apart."""
    every = pools_usecases.products(unit)
    by_code = {each.code: each for each in every}
    families = {each.family for each in (by_code[w.product] for w in wanted) if each.family}
    concerned = [
        each for each in every
        if each.code in {w.product for w in wanted} or each.family in families
        or any(each.code in by_code[w.product].requires for w in wanted)
    ]
    held: dict[str, set[str]] = defaultdict(set)
    code_of = {each.id: each.code for each in every}
    for row in usage.open_assignments(unit, concerned, [w.subject for w in wanted], unit.now):
        held[row.subject].add(code_of[row.product_id])
    seats = [w for w in wanted if by_code[w.product].measure == "seat"]
    known = people.by_username(unit, [w.subject for w in seats]) if seats else {}
    together: dict[str, set[str]] = defaultdict(set)
    for each in wanted:
        together[each.subject].add(each.product)
    for each in wanted:
        product = by_code[each.product]
        place = places[each.account, each.product]
        if product.measure == "seat":
            person = known.get(each.subject)
            if person is None or person.account_id != place.account_id:
                raise invalid(f"{each.subject} is nobody of {each.account}.", "subject")
            if person.status == "suspended":
                raise conflict(f"{each.subject} is suspended; resume them first.")
        if each.product in held[each.subject] and product.measure != "session":
            raise conflict(f"{each.subject} has {product.name} already.")
        mine = held[each.subject] | together[each.subject]
        if product.requires and not mine & set(product.requires):
            names = " or ".join(by_code[base].name for base in product.requires)
            raise conflict(f"{product.name} needs {names}, which {each.subject} does not have.")
        rivals = [code for code in mine if code != each.product and product.family and by_code[code].family == product.family]
        if rivals:
            raise conflict(f"{each.subject} has {by_code[rivals[0]].name}, and of this family only one at a time.")


def _assign(unit: Unit, actor: Actor, wanted: Sequence[Wanted]) -> dict[str, Any]:
    zone = accounts_usecases.zone(unit)
    places = _places(unit, actor, wanted, zone)
    writes = _walk_all(unit, actor, wanted, places, +1, zone)
    _check_subjects(unit, wanted, places)
    at = unit.now
    store.write(unit.connection, writes)
    usage.begin(
        unit,
        [
            {
                "account_id": places[each.account, each.product].account_id,
                "product_id": places[each.account, each.product].product.id, "subject": each.subject, "begins": at,
            }
            for each in wanted
        ],
    )
    _tell(unit, actor, wanted, places, "assigned")
    return {"assigned": len(wanted), "at": at.isoformat()}


def _release(unit: Unit, actor: Actor, wanted: Sequence[Wanted]) -> dict[str, Any]:
    zone = accounts_usecases.zone(unit)
    places = _places(unit, actor, wanted, zone)
    writes = _walk_all(unit, actor, wanted, places, -1, zone)
    at = unit.now
    products = list({place.product.id: place.product for place in places.values()}.values())
    there: dict[tuple[int, int, str], list[int]] = defaultdict(list)
    for row in usage.open_assignments(unit, products, [each.subject for each in wanted], at):
        there[row.account_id, row.product_id, row.subject].append(row.id)
    ids = []
    for each in wanted:
        place = places[each.account, each.product]
        mine = there.get((place.account_id, place.product.id, each.subject))
        if not mine:
            raise conflict(f"{each.subject} has no {place.product.name} in {each.account}; nothing was released.")
        ids.append(mine[0])
    store.write(unit.connection, writes)
    usage.end(unit, ids, at)
    _tell(unit, actor, wanted, places, "released")
    return {"released": len(wanted), "at": at.isoformat()}


def _tell(
    unit: Unit, actor: Actor, wanted: Sequence[Wanted], places: dict[tuple[str, str], Place], what: str
) -> None:
    entries = []
    for each in wanted:
        place = places[each.account, each.product]
        change = {"product": each.product}
        entries.append(
            log.Entry(
                what, each.subject, place.account_id, None if what == "assigned" else change,
                change if what == "assigned" else None,
            )
        )
    log.write(unit, actor, None, entries)


def rebuild_stale(unit: Unit) -> int:
    """Make every stale counter anew; how many rows were written."""
    return sum(counters.rebuild(unit, [product]) for product in pools_usecases.products(unit))


def verify(unit: Unit, actor: Actor) -> list[tuple[str, str, str, str]]:
    """Everything kept that does not agree with its evidence: counters, and the chain of the log."""
    if actor.scope is not None:
        raise not_found("installation", actor.scope)
    log.seal_new(unit)
    found = counters.differences(unit)
    found.extend(("log", each, "", "") for each in log.broken_seals(unit))
    return found


def lock(unit: Unit, products: Sequence[Product]) -> None:
    """Hold back every taking from these products' pools until the transaction ends."""
    store.lock_pools(unit.connection, [pool.id for pool in pools_usecases.pools(unit, products)])


def rebuild_locked(unit: Unit, products: Sequence[Product]) -> None:
    """Make the counters of these products anew, fresh or not."""
    counters.rebuild(unit, products, also_fresh=True)
