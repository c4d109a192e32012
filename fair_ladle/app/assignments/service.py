"""Admitting and releasing units for other capabilities: by the engine's rule under locks, a batch whole or not at all.

Locks, in this order: the people concerned by id; claims; then pool by pool the counters on the way up, the deeper
account first, then by id (of one account alone, as far as it or the one before it reaches), and the pool's own row last
where promises are not fully backed. What is judged of people (one of a family, needs a base, status, account) is judged
under their locks.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime
from typing import Any, NamedTuple
from zoneinfo import ZoneInfo

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.allocations.ladders import in_sight, ladder_members
from fair_ladle.app.allocations.positions import Positions
from fair_ladle.app.allocations.present import is_fresh
from fair_ladle.app.assignments import ceilings, claims, counters, eligibility, store
from fair_ladle.app.assignments.eligibility import RESERVED, Wanted
from fair_ladle.app.assignments.many import MOST_AT_ONCE, AtLimit
from fair_ladle.app.assignments.places import (
    Directory,
    Place,
    by_directory,
    directory_now,
    forget,
    place_now,
    product_now,
)
from fair_ladle.app.assignments.rows import PoolNow
from fair_ladle.app.assignments.walk import CeilingReached, LimitReached, Stale, begin_clocks, caps_now, rung, walk
from fair_ladle.app.log import service as log_service
from fair_ladle.app.people import service as people
from fair_ladle.app.people.rows import PersonFacts
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Again, Transaction
from fair_ladle.app.plumbing.prepared import Question
from fair_ladle.app.plumbing.problems import Refused, conflict, invalid
from fair_ladle.app.plumbing.watch import units_are
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.usage import service as usage
from fair_ladle.core.calendar import local_day
from fair_ladle.core.path import Ladder, ladder


@dataclass(frozen=True)
class Placed:
    """Where the wanted units are counted, as the directory has it."""

    directory: Directory
    places: dict[tuple[str, str], Place]

    def of(self, each: Wanted) -> Place:
        """The place of one unit."""
        return self.places[each.account, each.product]


def rehearse(tx: Transaction, products: Collection[Product], usernames: Collection[str] | None = None) -> None:
    """Where assigning and releasing these products is only tried out, for these people (all, if not said): go on with
    copies. Counters that are stale are made anew there."""
    if not tx.is_rehearsal:
        return
    store.rehearse(tx, [each.id for each in products])
    counters.rebuild(tx, list(products))
    subjects = None if usernames is None else [*usernames, *(RESERVED + each for each in usernames)]
    usage.rehearse(tx, list(products), subjects)
    claims.rehearse(tx, products, subjects)


def _anew(tx: Transaction, product: Product) -> Again:
    """Begin anew with counters that can be trusted; a rehearsal makes its own."""
    return Again(None if tx.is_rehearsal else lambda again: counters.rebuild(again, [product]))


def admit(tx: Transaction, actor: Actor, wanted: Sequence[Wanted]) -> datetime:
    """Assign units, all or none; when. Refused with the ladder where a limit stops one of them."""
    placed = _placed(tx, actor, wanted, is_new=True)
    products = placed.directory.products
    ceilings.judge_at_once(tx, actor, wanted, placed.places)
    _lock_people(tx, products, wanted)
    if any(not products[each.product].stands_alone for each in wanted):
        ids = {account: place.account_id for (account, _), place in placed.places.items()}
        findings = eligibility.find(tx, wanted, products, ids)
        if findings:
            refused = findings[0].refuse(f"{findings[0].wanted.subject} {findings[0].why}")
            refused.about = frozenset(each.wanted.username for each in findings)
            raise refused
    claimed = [(products[each.product], each.subject) for each in wanted]
    try:
        claims.take_with_next(tx, claimed)
        writes = _walk_all(tx, actor, wanted, placed, +1)
    except claims.Taken:
        claims.take(tx, claimed)
        writes = _walk_all(tx, actor, wanted, placed, +1)
    at = tx.now
    usage.begin(
        tx,
        [
            {
                "account_id": placed.of(each).account_id,
                "product_id": placed.of(each).product.id,
                "subject": each.subject,
                "begins": at,
            }
            for each in wanted
        ],
    )
    begin_clocks(writes, at)
    store.write(tx.connection, writes)
    ceilings.note(tx, wanted, placed.places)
    _log(tx, actor, wanted, placed, "assigned")
    units_are("assigned", len(wanted))
    return at


def release(tx: Transaction, actor: Actor, wanted: Sequence[Wanted]) -> datetime:
    """Release units, all or none; when. Refused where one of them is not assigned."""
    placed = _placed(tx, actor, wanted, is_new=False)
    _lock_people(tx, placed.directory.products, wanted)
    products = list({place.product.id: place.product for place in placed.places.values()}.values())
    there: dict[tuple[int, int, str], list[int]] = defaultdict(list)
    for row in usage.open_assignments(tx, products, [each.subject for each in wanted], tx.now):
        there[row.account_id, row.product_id, row.subject].append(row.id)
    ids = []
    for each in wanted:
        place = placed.of(each)
        mine = there.get((place.account_id, place.product.id, each.subject))
        if not mine:
            raise conflict(f"{each.subject} has no {place.product.name} in {each.account}; nothing was released.")
        ids.append(mine[0])
    claims.drop(tx, [(placed.of(each).product, each.subject) for each in wanted], ids)
    writes = _walk_all(tx, actor, wanted, placed, -1)
    at = tx.now
    store.write(tx.connection, writes)
    usage.end(tx, ids, at)
    _log(tx, actor, wanted, placed, "released")
    units_are("released", len(wanted))
    return at


def _placed(tx: Transaction, actor: Actor, wanted: Sequence[Wanted], is_new: bool) -> Placed:
    """Find the places within the actor's scope; refused where something new is given out that is not to be."""
    if not wanted or len(wanted) > MOST_AT_ONCE:
        raise invalid(f"Between 1 and {MOST_AT_ONCE} units at once; here are {len(wanted)}.", "units")
    if len(set(wanted)) < len(wanted):
        raise invalid("The same unit is there twice.", "units")
    pairs = sorted({(each.account, each.product) for each in wanted})

    def judged(known: Directory) -> Placed:
        day = local_day(tx.now, known.zone)
        places = {pair: known.place(tx, day, pair[0], known.product(pair[1]), actor.scope) for pair in pairs}
        for place in places.values() if is_new else ():
            place.judge_restraint(actor.scope)
        return Placed(known, places)

    return by_directory(tx, judged)


def _lock_people(tx: Transaction, products: Mapping[str, Product], wanted: Sequence[Wanted]) -> None:
    """Lock whom units are for: two who assign to, release from or suspend one person come one after the other."""
    people.lock_by_username(tx, {each.username for each in wanted if products[each.product].is_personal})


def _walk_all(
    tx: Transaction, actor: Actor, wanted: Sequence[Wanted], placed: Placed, sign: int
) -> list[dict[str, Any]]:
    by_pool: dict[int, dict[int, int]] = defaultdict(lambda: defaultdict(int))
    place_of = {}
    for each in wanted:
        place = placed.of(each)
        by_pool[place.pool_id][place.account_id] += sign
        place_of[place.pool_id, place.account_id] = place
    writes = []
    for pool_id in sorted(by_pool):
        changes = dict(by_pool[pool_id])
        depth = {account: place_of[pool_id, account].depth for account in changes}
        first = place_of[pool_id, next(iter(changes))]
        ceiling = ceilings.in_all(actor, first) if sign > 0 else None
        known = placed.directory
        way = known.lock_way(tx, first)[0] if len(changes) == 1 else None
        try:
            here = walk(tx, pool_id, changes, depth, known.number, known.zone, ceiling, way=way)
            if len(changes) == 1:
                known.note_reach(first, here)
            writes.extend(here)
        except Stale:
            forget(tx)
            raise _anew(tx, first.product) from None
        except CeilingReached as reached:
            raise ceilings.too_much(actor, first, reached.load, wanted) from None
        except LimitReached as reached:
            place = place_of[pool_id, reached.account_ids[0]]
            raise stopped(tx, actor, place, changes[place.account_id], placed.directory.zone) from None
    return writes


class LiveLadder(NamedTuple):
    """A ladder by live counters, its rungs, what the pool may promise, the pool as it is, and what was asked with
    them."""

    ladder: Ladder
    rungs: list[Any]
    promisable: int
    pool: PoolNow
    others: list[Any]


def live_ladder(tx: Transaction, place: Place, zone: ZoneInfo, *with_it: Question[Any]) -> LiveLadder:
    """The ladder of a place by its live counters, and what these questions come to, asked with them."""
    way = [each for each, _, _ in place.to_owner]
    rows, pool, others = store.read_with_pool(tx.connection, place.pool_id, way, *with_it)
    if len(rows) < len(place.to_owner):
        raise _anew(tx, place.product)
    caps = caps_now(tx, place.pool_id, list(rows.values()))
    rungs = [rung(rows[each], code, tx.now, zone, caps.get(each)) for each, code, _ in place.to_owner]
    owner = rows[place.to_owner[-1][0]]
    assert owner.physical is not None and owner.promisable is not None
    found = ladder(rungs, owner.promisable, owner.physical - pool.used)
    return LiveLadder(found, rungs, owner.promisable, pool, others)


def stopped(tx: Transaction, actor: Actor, place: Place, amount: int, zone: ZoneInfo) -> Refused:
    """The refusal with its ladder, from counters that nothing of this transaction has been written to; without any
    figure for whom no account's are."""
    found, rungs, promisable, *_ = live_ladder(tx, place, zone)
    room = found.headroom or 0
    if actor.people_of is not None:
        said = f"No {place.product.unit} of {place.product.name} left."
        return AtLimit(place.product.code, room, said, {"sentence": said})
    names = {code: name for _, code, name in place.way_up}
    members = ladder_members(found, rungs, place.product, promisable, actor, names)
    detail = (
        f"{place.product.said(amount)} of {place.product.name} asked for in {place.way_up[0][2]}. {members['sentence']}"
    )
    return AtLimit(place.product.code, room, detail, members)


def may_give(actor: Actor, product: Product) -> None:
    """Refused where the actor's delegation is not for giving a product."""
    ceilings.may_give(actor, product)


def judge_whole(tx: Transaction, actor: Actor, product: Product, whom: Sequence[tuple[str, str]]) -> None:
    """Refused where giving a product's seats to all of these people (account's code, username) is more than the actor
    may give in one change, though it be done part by part."""
    ceilings.may_give(actor, product)
    for owner, units in _by_pool(tx, actor, product, whom).items():
        ceilings.judge_amount(tx, actor, owner, product, units)


def _by_pool(
    tx: Transaction, actor: Actor, product: Product, whom: Sequence[tuple[str, str]]
) -> dict[str, list[Wanted]]:
    """Units of a product for these people (account's code, username) by the owner of the pool they come from, where
    the actor has a ceiling of any; those of accounts without a pool are left out."""
    if not actor.limits.bounds(product.code):
        return {}
    known, found = directory_now(tx), defaultdict[str, list[Wanted]](list)
    day = local_day(tx.now, known.zone)
    for account, username in whom:
        with suppress(Refused):  # no pool reaches the account: the reason stands beside each of them
            place = known.place(tx, day, account, product, actor.scope)
            found[place.owner_code].append(Wanted(account, product.code, username))
    return found


def above_ceiling(detail: str) -> Refused:
    """The refusal of what goes above a ceiling of the actor's delegation."""
    return ceilings.above(detail)


class Room(NamedTuple):
    """How many more of a product (grains) an account can take now, and that as far as the actor may see: None where
    nothing in their branch limits it."""

    real: int
    in_sight: int | None


def room(tx: Transaction, actor: Actor, account: str, product: Product) -> Room:
    """The room of an account by its live counters."""
    place, known = place_now(tx, account, product, actor.scope)
    found, rungs, *_ = live_ladder(tx, place, known.zone)
    assert found.headroom is not None  # what the pool may promise is always a limit
    return Room(found.headroom, in_sight(found, rungs, actor)[0].headroom)


def check_subjects(tx: Transaction, account_id: int, product: Product, subjects: Sequence[str]) -> None:
    """Lock people and refuse what an account may not give these subjects of a product, limits aside."""
    by_code = {each.code: each for each in pools_service.products(tx)}
    wanted = [Wanted("the account", product.code, subject) for subject in subjects]
    _lock_people(tx, by_code, wanted)
    for finding in eligibility.find(tx, wanted, by_code, {"the account": account_id}):
        raise finding.refuse(f"{finding.wanted.subject} {finding.why}")


def what_speaks_against(
    tx: Transaction, product: Product, people: Sequence[PersonFacts], leaving: Collection[str] = ()
) -> dict[str, str]:
    """Why each of these people may not have a product in their account, limits aside, by username and worded without
    their name; those who may are left out.

    What they have of the products in ``leaving`` does not count: it goes at the same instant.
    """
    by_code = {each.code: each for each in pools_service.products(tx)}
    wanted = [Wanted(str(each.account_id), product.code, each.username) for each in people]
    ids = {str(each.account_id): each.account_id for each in people}
    return {each.wanted.subject: each.why for each in eligibility.find(tx, wanted, by_code, ids, leaving)}


def judge_layers(tx: Transaction, actor: Actor, granted: Sequence[tuple[str, str, str]]) -> None:
    """Refused where what layers gave by the actor's change (account's code, username, product) is above a ceiling of
    theirs."""
    for code in sorted({code for _, _, code in granted}):
        product = product_now(tx, code)
        whom = [(account, username) for account, username, each in granted if each == code]
        for owner, units in _by_pool(tx, actor, product, whom).items():
            most = actor.limits.ceiling(owner, code).at_once
            if most is not None and len(units) > most:
                raise ceilings.above(
                    f"You may give at most {product.said(most)} of {product.name} in one change; this gives "
                    f"{product.said(len(units))}."
                )
            place, _ = place_now(tx, units[0].account, product, actor.scope)
            bound = ceilings.in_all(actor, place)
            if bound is not None:
                load = store.read(tx.connection, place.pool_id, bound[0]).load
                if load > bound[1]:
                    raise ceilings.too_much(actor, place, load)


def reserved_seats(
    tx: Transaction, products: Sequence[Product], usernames: Sequence[str]
) -> list[tuple[str, str, str]]:
    """(username, product, account) of the seats that are reserved for these people."""
    accounts, code_of = accounts_service.known(tx), {each.id: each.code for each in products}
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
    """Assign a product's seats to people (account's code, username), all or none; who has one reserved gets that
    one."""
    reservations = reserved_seats(tx, [product], [username for _, username in whom])
    if reservations:
        release(tx, actor, [Wanted(where, product.code, RESERVED + username) for username, _, where in reservations])
    admit(tx, actor, [Wanted(account, product.code, username) for account, username in whom])


def add_ons_left(
    tx: Transaction, subjects: Sequence[str], leaving: Mapping[str, set[str]]
) -> list[tuple[str, Product, Product]]:
    """(subject, add-on, base) where a subject would keep an add-on and none of its bases; ``leaving`` has the products
    that go of each."""
    return eligibility.add_ons_left(tx, {each.code: each for each in pools_service.products(tx)}, subjects, leaving)


def _log(tx: Transaction, actor: Actor, wanted: Sequence[Wanted], placed: Placed, what: str) -> None:
    entries = []
    for each in wanted:
        if each.reserves:
            continue  # whoever reserves a seat says so
        change = {"product": each.product}
        before, after = (None, change) if what == "assigned" else (change, None)
        entries.append(log_service.Entry(what, each.subject, placed.of(each).account_id, before, after))
    log_service.write(tx, actor, None, entries)


def record(tx: Transaction, account_id: int, product: Product, subjects: Sequence[str]) -> None:
    """Claim and record assignments, limits aside: the counters are the caller's."""
    claims.take(tx, [(product, each) for each in subjects])
    at = tx.now
    usage.begin(
        tx,
        [{"account_id": account_id, "product_id": product.id, "subject": each, "begins": at} for each in subjects],
    )


def end(tx: Transaction, account_id: int, product: Product, subjects: Sequence[str]) -> None:
    """Lock people, give up claims and end an account's assignments of these subjects: the counters are the caller's."""
    _lock_people(tx, {product.code: product}, [Wanted("", product.code, each) for each in subjects])
    rows = usage.open_assignments(tx, [product], subjects, tx.now)
    ids = list({row.subject: row.id for row in rows if row.account_id == account_id}.values())
    claims.drop(tx, [(product, each) for each in subjects], ids)
    usage.end(tx, ids, tx.now)


def end_all(tx: Transaction, account_ids: Sequence[int]) -> dict[tuple[int, int], int]:
    """Give up the claims of these accounts and end all that is in use there; (account, product) → units or grains there
    were. The people and counters are locked by the caller."""
    products = {each.id: each for each in pools_service.products(tx)}
    pairs = [(products[row.product_id], row.subject) for row in usage.open_of_accounts(tx, account_ids, tx.now)]
    released = usage.release_all(tx, account_ids, tx.now)
    claims.drop(tx, pairs)
    return released


def drop_ended_claims(tx: Transaction, since: datetime | None) -> int:
    """Give up claims whose assignments ended by themselves from an instant on (None = ever); how many, some at a
    time."""
    return claims.drop_ended(tx, since)


def rebuild_stale(tx: Transaction, products: Sequence[Product] | None = None) -> int:
    """Make every stale counter of these products (all, if not said) anew; how many rows were written."""
    wanted = pools_service.products(tx) if products is None else products
    return sum(counters.rebuild(tx, [product]) for product in wanted)


def age_stored(tx: Transaction, product: Product) -> bool:
    """Count what is stored of a product a week, a month and a quarter ago from today, and take in what has come;
    whether anything was to do.

    Locks: where something has come, all counters of the product first.
    """
    if usage.has_come(tx, product):
        counters.rebuild(tx, [product], also_fresh=True)
    return usage.age_stored(tx, product)


def add_up_use(tx: Transaction) -> set[str]:
    """Add what was taken and released up the way to the pools; the products (codes) of which anything was.

    Locks: the changes by id; who makes counters anew takes them all, before or after.
    """
    rows = store.changes_of_use(tx.connection)
    if not rows:
        return set()
    accounts = accounts_service.known(tx)
    pools = {pool.id: pool for pool in pools_service.pools(tx, pools_service.products(tx))}
    sums: dict[tuple[int, int], int] = defaultdict(int)
    for row in rows:
        for above in accounts.tree.path_up(accounts.row_of_id[row.account_id]):
            account_id = int(accounts.ids[above])
            sums[row.pool_id, account_id] += row.change
            if account_id == pools[row.pool_id].owner_id:
                break
    store.add_up(tx.connection, [row.id for row in rows], sums)
    return {pools[row.pool_id].product.code for row in rows}


def loaded(tx: Transaction) -> None:
    """Make the claims what the assignments say, after an intake loaded some."""
    claims.rebuild(tx)


def lock(tx: Transaction, products: Sequence[Product]) -> None:
    """Hold back every admission from these products' pools until the transaction ends."""
    store.lock_pools(tx.connection, [pool.id for pool in pools_service.pools(tx, products)])


def lock_ways(tx: Transaction, accounts: Accounts, wanted: Mapping[Product, Collection[int]]) -> None:
    """Hold back admissions from the counters of some accounts (rows of today's tree, by product) and of those above
    them, up to their pools; begun anew where the counters cannot be trusted. Locks: pool by pool, the deeper account
    first, then by id."""
    number = accounts_service.structure_number(tx)
    tree = accounts.tree
    ways: dict[int, dict[int, set[int]]] = defaultdict(lambda: defaultdict(set))
    for product, rows in wanted.items():
        pool_of = {pool.owner_id: pool.id for pool in pools_service.pools(tx, [product])}
        for row in rows:
            path = tree.path_up(row)
            end = next((at for at, each in enumerate(path) if int(accounts.ids[each]) in pool_of), None)
            if end is not None:
                way = ways[pool_of[int(accounts.ids[path[end]])]]
                for at, each in enumerate(path[: end + 1]):
                    way[len(path) - 1 - at].add(int(accounts.ids[each]))
    for pool_id, levels in sorted(ways.items()):
        locked = [
            len(store.lock(tx.connection, pool_id, levels[depth])) == len(levels[depth])
            for depth in sorted(levels, reverse=True)
        ]
        trust = store.trust(tx.connection, pool_id)
        if not all(locked) or trust.structure != number or not is_fresh(trust.fresh_until, tx.now):
            forget(tx)
            raise Again(lambda again: counters.rebuild(again, list(wanted)))


def follow(tx: Transaction, before: Positions, after: Positions) -> None:
    """Let the counters of pools, all of them locked, follow other allocations."""
    counters.follow(tx, before, after)


def rebuild_locked(tx: Transaction, products: Sequence[Product]) -> None:
    """Make the counters of these products anew, fresh or not."""
    counters.rebuild(tx, products, also_fresh=True)
