"""Assigning and releasing units live: admitted by the engine's rule under locks; a batch is all or nothing."""

from __future__ import annotations

import hashlib
import json
from collections import defaultdict
from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass
from datetime import timedelta
from typing import Any, TypeVar
from zoneinfo import ZoneInfo

import sqlalchemy as sa

from fair_ladle.app.accounts import usecases as accounts_usecases
from fair_ladle.app.allocations.ladders import ladder_members
from fair_ladle.app.assignments import counters, store
from fair_ladle.app.assignments.places import Directory, Place, directory, forget
from fair_ladle.app.assignments.walk import LimitReached, Stale, rung, walk
from fair_ladle.app.log import usecases as log
from fair_ladle.app.people import usecases as people
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Again, Transaction
from fair_ladle.app.plumbing.problems import Problem, Refused, conflict, invalid, not_found
from fair_ladle.app.pools import usecases as pools_usecases
from fair_ladle.app.pools.usecases import Product
from fair_ladle.app.usage import usecases as usage
from fair_ladle.core.calendar import local_day
from fair_ladle.core.path import ladder
from fair_ladle.core.quantities import to_units

MOST_AT_ONCE = 1000
RESERVED = "aside:"
"""Before a username: a seat that is counted and kept for them, and not theirs yet."""
ANSWERS_KEPT = timedelta(days=2)


@dataclass(frozen=True)
class Wanted:
    """One unit to assign or release: of which account, which product, for whom."""

    account: str
    product: str
    subject: str


def assign(tx: Transaction, actor: Actor, wanted: Sequence[Wanted], key: str | None = None) -> dict[str, Any]:
    """Assign units, all or none. Refused with the ladder where a limit stops one of them."""
    return _once(tx, actor, "assign", wanted, key, _assign)


def release(tx: Transaction, actor: Actor, wanted: Sequence[Wanted], key: str | None = None) -> dict[str, Any]:
    """Release units, all or none. Refused where one of them is not assigned."""
    return _once(tx, actor, "release", wanted, key, _release)


def _once(
    tx: Transaction, actor: Actor, what: str, wanted: Sequence[Wanted], key: str | None, act: Any
) -> dict[str, Any]:
    if not wanted or len(wanted) > MOST_AT_ONCE:
        raise invalid(f"Between 1 and {MOST_AT_ONCE} units at once; here are {len(wanted)}.", "units")
    if len(set(wanted)) < len(wanted):
        raise invalid("The same unit stands there twice.", "units")
    fingerprint = ""
    if key is not None:
        members = json.dumps([what, [[each.account, each.product, each.subject] for each in wanted]])
        fingerprint = hashlib.sha256(members.encode()).hexdigest()
        before = store.answered(tx.connection, actor.sign_in_id or 0, key)
        if before is not None:
            if before.fingerprint != fingerprint:
                raise conflict("This Idempotency-Key was used for another request.")
            return dict(before.answer)
    answer: dict[str, Any] = act(tx, actor, wanted)
    if key is not None:
        store.forget_answers(tx.connection, tx.now - ANSWERS_KEPT)
        try:
            store.keep_answer(
                tx.connection,
                {
                    "sign_in_id": actor.sign_in_id or 0,
                    "key": key,
                    "fingerprint": fingerprint,
                    "answer": answer,
                    "at": tx.now,
                },
            )
        except sa.exc.IntegrityError:
            raise Again from None
    return answer


@dataclass(frozen=True)
class Seen:
    """Where the wanted units are counted, as the directory has it."""

    directory: Directory
    places: dict[tuple[str, str], Place]


def _look(tx: Transaction, actor: Actor, wanted: Sequence[Wanted]) -> Seen:
    """Find the places within the actor's scope."""
    known = directory(tx)
    day = local_day(tx.now, known.zone)
    pairs = sorted({(each.account, each.product) for each in wanted})
    return Seen(known, {pair: known.place(tx, day, pair[0], known.product(pair[1]), actor.scope) for pair in pairs})


def _walk_all(tx: Transaction, actor: Actor, wanted: Sequence[Wanted], seen: Seen, sign: int) -> list[dict[str, Any]]:
    by_pool: dict[int, dict[int, int]] = defaultdict(lambda: defaultdict(int))
    place_of = {}
    for each in wanted:
        place = seen.places[each.account, each.product]
        by_pool[place.pool_id][place.account_id] += sign
        place_of[place.pool_id, place.account_id] = place
    writes = []
    for pool_id in sorted(by_pool):
        changes = dict(by_pool[pool_id])
        depth = {account: place_of[pool_id, account].depth for account in changes}
        try:
            writes.extend(walk(tx, pool_id, changes, depth, seen.directory.number, seen.directory.zone))
        except Stale:
            forget(tx)
            product = place_of[pool_id, next(iter(changes))].product
            raise Again(lambda again, product=product: counters.rebuild(again, [product])) from None
        except LimitReached as reached:
            place = place_of[pool_id, reached.account_ids[0]]
            raise _stopped(tx, actor, place, changes[place.account_id], seen.directory.zone) from None
    return writes


def _stopped(tx: Transaction, actor: Actor, place: Place, amount: int, zone: ZoneInfo) -> Refused:
    """The refusal with its ladder, from counters that nothing of this transaction has been written to."""
    rows = store.read(tx.connection, place.pool_id, [each for each, _, _ in place.to_owner])
    rungs = [rung(rows[each], code, tx.now, zone) for each, code, _ in place.to_owner]
    owner = rows[place.to_owner[-1][0]]
    left = owner.physical - store.used(tx.connection, place.pool_id)
    found = ladder(rungs, owner.promisable, left)
    members = ladder_members(
        found, rungs, place.product, owner.promisable, actor, {code: name for _, code, name in place.to_owner}
    )
    unit_name = place.product.unit if amount == 1 else f"{place.product.unit}s"
    can = max(0, found.headroom)
    return Refused(
        Problem(
            "at-limit",
            "No room for that",
            409,
            f"{place.way_up[0][2]} can take {to_units(can, place.product.measure):f} more of {place.product.name}; "
            f"{amount} {unit_name} asked for. {members['sentence']}",
            {"ladder": members},
        )
    )


def check_subjects(tx: Transaction, account_id: int, product: Product, subjects: Sequence[str]) -> None:
    """Refuse what an account may not give these subjects of a product, limits aside."""
    by_code = {each.code: each for each in pools_usecases.products(tx)}
    wanted = [Wanted("the account", product.code, subject) for subject in subjects]
    _check_subjects(tx, wanted, by_code, {"the account": account_id})


Subject = TypeVar("Subject")


def in_parts(units: Sequence[Subject]) -> Iterator[Sequence[Subject]]:
    """Parts of what is more than one call takes."""
    return (units[start : start + MOST_AT_ONCE] for start in range(0, len(units), MOST_AT_ONCE))


def as_many_as_fit(
    tx: Transaction, subjects: list[Subject], give: Callable[[list[Subject]], None]
) -> tuple[list[Subject], str]:
    """Give to all of these, or, where a limit stops it, to as many of the first as it lets through.

    ``give`` assigns for some of them and is called for at most MOST_AT_ONCE; those it was given to come back, and why
    not to the others. Nothing of a try that was refused is kept.
    """
    given, why = subjects, ""
    while given:
        try:
            with tx.connection.begin_nested():
                for part in in_parts(given):
                    give(list(part))
            break
        except Refused as refused:
            ladder = refused.problem.more.get("ladder")
            why = refused.problem.detail if ladder is None else ladder["sentence"]
            given = [] if ladder is None else given[: min(len(given) - 1, max(0, int(ladder["headroom"])))]
    return given, why


def each_that_can(
    tx: Transaction, subjects: Sequence[Subject], do: Callable[[Sequence[Subject]], None]
) -> tuple[list[Subject], list[tuple[Subject, str]]]:
    """Do something to all of these at once, or, where that is refused, to each half by itself: those it was done to,
    and the others with the reason. Nothing of a try that was refused is kept."""
    if not subjects:
        return [], []
    try:
        with tx.connection.begin_nested():
            do(subjects)
        return list(subjects), []
    except Refused as refused:
        if len(subjects) == 1:
            return [], [(subjects[0], refused.problem.detail)]
        half = len(subjects) // 2
        (done, refused_of), (more, refused_of_more) = (
            each_that_can(tx, part, do) for part in (subjects[:half], subjects[half:])
        )
        return done + more, refused_of + refused_of_more


def reserved_seats(
    tx: Transaction, products: Sequence[Product], usernames: Sequence[str]
) -> list[tuple[str, str, str]]:
    """(username, product, account) of the seats that are set aside for these people."""
    accounts, code_of = accounts_usecases.known(tx), {each.id: each.code for each in products}
    rows = usage.open_assignments(tx, products, [RESERVED + each for each in usernames], tx.now) if usernames else []
    return [
        (
            row.subject.removeprefix(RESERVED),
            code_of[row.product_id],
            accounts.tree.codes[accounts.row_of_id[row.account_id]],
        )
        for row in rows
    ]


def give(tx: Transaction, actor: Actor, product: Product, whom: Sequence[tuple[str, str]]) -> None:
    """Assign a product's seats to people (account's code, username), all or none; who has one set aside gets that
    one."""
    reservations = reserved_seats(tx, [product], [username for _, username in whom])
    if reservations:
        release(tx, actor, [Wanted(where, product.code, RESERVED + username) for username, _, where in reservations])
    assign(tx, actor, [Wanted(account, product.code, username) for account, username in whom])


def room(tx: Transaction, actor: Actor, account: str, product: Product) -> int:
    """How many more of a product (grains) an account can take now, by its live counters."""
    known = directory(tx)
    place = known.place(tx, local_day(tx.now, known.zone), account, product, actor.scope)
    rows = store.read(tx.connection, place.pool_id, [each for each, _, _ in place.to_owner])
    if len(rows) < len(place.to_owner):
        raise Again(lambda again: counters.rebuild(again, [product]))
    rungs = [rung(rows[each], code, tx.now, known.zone) for each, code, _ in place.to_owner]
    owner = rows[place.to_owner[-1][0]]
    return ladder(rungs, owner.promisable, owner.physical - store.used(tx.connection, place.pool_id)).headroom


def what_speaks_against(
    tx: Transaction, product: Product, people: Sequence[Any], leaving: Collection[str] = ()
) -> dict[str, str]:
    """Why each of these people may not have a product in their account, limits aside, by username and told without
    their name; those who may are left out.

    What they have of the products in ``leaving`` does not count: it goes at the same instant.
    """
    by_code = {each.code: each for each in pools_usecases.products(tx)}
    wanted = [Wanted(str(each.account_id), product.code, each.username) for each in people]
    return {
        each.subject: why
        for each, why, _ in _faults(
            tx, wanted, by_code, {str(each.account_id): each.account_id for each in people}, leaving
        )
    }


def _check_subjects(
    tx: Transaction, wanted: Sequence[Wanted], by_code: dict[str, Product], account_ids: dict[str, int]
) -> None:
    for each, why, refuse in _faults(tx, wanted, by_code, account_ids):
        raise refuse(f"{each.subject} {why}")


def _faults(
    tx: Transaction,
    wanted: Sequence[Wanted],
    by_code: dict[str, Product],
    account_ids: dict[str, int],
    leaving: Collection[str] = (),
) -> Iterator[tuple[Wanted, str, Callable[[str], Refused]]]:
    """One unit a subject and product; seats for people of the account; base products there; families apart.

    Whatever is against one of them, in words that follow their name, and the kind of refusal it is.
    """
    every = list(by_code.values())
    families = {each.family for each in (by_code[w.product] for w in wanted) if each.family}
    concerned = [
        each
        for each in every
        if each.code in {w.product for w in wanted}
        or each.family in families
        or any(each.code in by_code[w.product].requires for w in wanted)
    ]
    held: dict[str, set[str]] = defaultdict(set)
    code_of = {each.id: each.code for each in every}
    for row in usage.open_assignments(tx, concerned, [w.subject for w in wanted], tx.now):
        if code_of[row.product_id] not in leaving:
            held[row.subject].add(code_of[row.product_id])
    seats = [w for w in wanted if by_code[w.product].measure == "seat"]
    known = people.by_username(tx, [w.subject.removeprefix(RESERVED) for w in seats]) if seats else {}
    together: dict[str, set[str]] = defaultdict(set)
    for each in wanted:
        together[each.subject].add(each.product)
    for each in wanted:
        product = by_code[each.product]
        if product.measure == "seat":
            person = known.get(each.subject.removeprefix(RESERVED))
            if person is None or person.account_id != account_ids[each.account]:
                yield each, f"is nobody of {each.account}.", invalid
                continue
            if person.status not in ("active", "invited"):
                yield (
                    each,
                    f"is {person.status}; {'resume' if person.status == 'suspended' else 'restore'} them first.",
                    conflict,
                )
                continue
        if each.product in held[each.subject] and product.measure != "session":
            yield each, f"has {product.name} already.", conflict
            continue
        if each.subject.startswith(RESERVED):
            continue  # what it needs besides is asked for when it is given
        mine = held[each.subject] | together[each.subject]
        if product.requires and not mine & set(product.requires):
            names = " or ".join(by_code[base].name for base in product.requires)
            yield each, f"has no {names}, which {product.name} needs.", conflict
            continue
        rivals = [
            code for code in mine if code != each.product and product.family and by_code[code].family == product.family
        ]
        if rivals:
            yield each, f"has {by_code[rivals[0]].name}, and of this family only one at a time.", conflict


def _assign(tx: Transaction, actor: Actor, wanted: Sequence[Wanted]) -> dict[str, Any]:
    seen = _look(tx, actor, wanted)
    for place in seen.places.values():
        restrained = place.why_restrained(actor.scope)
        if restrained:
            raise conflict(restrained)
    writes = _walk_all(tx, actor, wanted, seen, +1)
    at = tx.now
    rows = [
        {
            "account_id": seen.places[each.account, each.product].account_id,
            "product_id": seen.places[each.account, each.product].product.id,
            "subject": each.subject,
            "begins": at,
        }
        for each in wanted
    ]
    product = seen.directory.products[wanted[0].product]
    if len(wanted) == 1 and product.stands_alone:
        if not usage.begin_unless_open(tx, rows[0]):
            raise conflict(f"{wanted[0].subject} has {product.name} already.")
    else:
        _check_subjects(
            tx,
            wanted,
            seen.directory.products,
            {account: place.account_id for (account, _), place in seen.places.items()},
        )
        usage.begin(tx, rows)
    store.write(tx.connection, writes)
    _log(tx, actor, wanted, seen.places, "assigned")
    return {"assigned": len(wanted), "at": at.isoformat()}


def _release(tx: Transaction, actor: Actor, wanted: Sequence[Wanted]) -> dict[str, Any]:
    seen = _look(tx, actor, wanted)
    writes = _walk_all(tx, actor, wanted, seen, -1)
    at = tx.now
    products = list({place.product.id: place.product for place in seen.places.values()}.values())
    there: dict[tuple[int, int, str], list[int]] = defaultdict(list)
    for row in usage.open_assignments(tx, products, [each.subject for each in wanted], at):
        there[row.account_id, row.product_id, row.subject].append(row.id)
    ids = []
    for each in wanted:
        place = seen.places[each.account, each.product]
        mine = there.get((place.account_id, place.product.id, each.subject))
        if not mine:
            raise conflict(f"{each.subject} has no {place.product.name} in {each.account}; nothing was released.")
        ids.append(mine[0])
    store.write(tx.connection, writes)
    usage.end(tx, ids, at)
    _log(tx, actor, wanted, seen.places, "released")
    return {"released": len(wanted), "at": at.isoformat()}


def _log(
    tx: Transaction, actor: Actor, wanted: Sequence[Wanted], places: dict[tuple[str, str], Place], what: str
) -> None:
    entries = []
    for each in wanted:
        if each.subject.startswith(RESERVED):
            continue  # whoever sets a seat aside says so
        place = places[each.account, each.product]
        change = {"product": each.product}
        entries.append(
            log.Entry(
                what,
                each.subject,
                place.account_id,
                None if what == "assigned" else change,
                change if what == "assigned" else None,
            )
        )
    log.write(tx, actor, None, entries)


def rebuild_stale(tx: Transaction) -> int:
    """Make every stale counter anew; how many rows were written."""
    return sum(counters.rebuild(tx, [product]) for product in pools_usecases.products(tx))


def verify(tx: Transaction, actor: Actor) -> list[tuple[str, str, str, str]]:
    """Everything kept that does not agree with its evidence: counters, and the chain of the log."""
    if actor.scope is not None:
        raise not_found("installation", actor.scope)
    log.seal_new(tx)
    found = counters.differences(tx)
    found.extend(("log", each, "", "") for each in log.broken_seals(tx))
    return found


def lock(tx: Transaction, products: Sequence[Product]) -> None:
    """Hold back every taking from these products' pools until the transaction ends."""
    store.lock_pools(tx.connection, [pool.id for pool in pools_usecases.pools(tx, products)])


def rebuild_locked(tx: Transaction, products: Sequence[Product]) -> None:
    """Make the counters of these products anew, fresh or not."""
    counters.rebuild(tx, products, also_fresh=True)
