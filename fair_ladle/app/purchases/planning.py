"""What can be done about a pool that will be short, and about a lot that ends: each way with its changes."""

from __future__ import annotations

from calendar import monthrange
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date, timedelta
from decimal import Decimal
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.allocations import service as allocations
from fair_ladle.app.allocations.positions import Positions, settle_snapshot, snapshot_at
from fair_ladle.app.drafts.change_types import AllocationChange, Change, NewLot, Terms, UnitsChange
from fair_ladle.app.drafts.evaluate import DraftEvaluation
from fair_ladle.app.drafts.reversing import terms_of
from fair_ladle.app.enforcement.replay import UsageHistory
from fair_ladle.app.people import service as people
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import conflict, invalid, not_found
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Pool, Product
from fair_ladle.app.statements.rate_cards import decimals_of
from fair_ladle.core.costing import Lot, supply_on
from fair_ladle.core.quantities import MOST_GRAINS, half_up, to_units
from fair_ladle.core.settling import Supply
from fair_ladle.core.sharing import Mode, share
from fair_ladle.core.tree import Ints

UNSEEN = timedelta(days=60)


def owned_pool(
    tx: Transaction, actor: Actor, owner: str, product: str, on: date | None = None
) -> tuple[Positions, int, int]:
    """The positions of a product now or on a day ahead, the place among its pools of the one that an account of the
    branch owns, and the owner's row."""
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
class ShortfallPlan:
    """The ways out of one pool's shortfall on a day."""

    product: Product
    owner: str
    day: date
    short: int
    options: list[Option]
    planned: int
    """How much of what is short comes of allocations that begin between today and that day (grains)."""
    ending_cost: Decimal
    """What the lots that end the day before cost a month."""


def plan(tx: Transaction, actor: Actor, owner: str, product: str, day: date) -> ShortfallPlan:
    """What could be done about a shortfall on a day, compared by money and by people touched. Each is for a draft of
    that day."""
    found, place, row = owned_pool(tx, actor, owner, product, day)
    snapshot = found.snapshot
    pool = snapshot.pools[place]
    short = int(found.shortfalls()[place])
    if not short:
        raise conflict(f"{pool.product.name} is covered on {day}; there is nothing to plan.")
    below = _below(found, row)
    ids = [int(snapshot.accounts.ids[each]) for each in below]
    versions = allocations.in_force(tx, [pool.product.id], ids, accounts_service.today(tx))
    there = {each: versions.get((account_id, pool.product.id)) for each, account_id in zip(below, ids, strict=True)}
    ending = [lot for lot in pool.lots if lot.last_day == day - timedelta(days=1)]
    load, used = int(found.pool_load()[place]), int(found.pool_used()[place])
    unused, idle = _take_back(found, below, there, pool, short), _release(tx, found, row, pool)
    options = [
        *_renew(pool, owner, day, ending, load, used),
        _buy(pool, owner, day, load, used),
        *_mixed(found, actor, place, owner, day, ending, below, there, unused, idle),
        unused,
        _shrink(found, below, there, pool, row, "max-min", "Reduce all to the same level", short),
        _shrink(found, below, there, pool, row, "least harm", "Reduce where least is used", short),
        idle,
        Option(
            "let run",
            "Accept the shortfall",
            "Nothing new can be assigned once the supply is gone; no one loses anything.",
            Decimal(0),
            pool.currency,
            0,
            short,
        ),
    ]
    listed = [each for each in options if each is not None]
    now, place_now, _ = owned_pool(tx, actor, owner, product)
    planned = max(0, load - int(now.pool_load()[place_now]))
    return ShortfallPlan(pool.product, owner, day, short, listed, planned, _monthly(pool, ending))


def _covering(supply: Supply[int], load: int, used: int, overcommit: int | None) -> int:
    """The least that has to be bought so that the pool is covered (grains); the lot may raise the overcommit."""
    least, most = 0, max(1, supply.shortfall(load, used))
    percent = max(supply.overcommit, overcommit or 100)
    while least < most:
        middle = (least + most) // 2
        with_it = Supply(supply.quantity + middle, supply.true_up, percent)
        least, most = (least, middle) if with_it.shortfall(load, used) == 0 else (middle + 1, most)
    return least


def _monthly(pool: Pool, lots: Sequence[Lot | NewLot]) -> Decimal:
    costs = (to_units(lot.quantity, pool.product.measure) * lot.unit_cost for lot in lots)
    return sum((half_up(each, decimals_of(pool.currency)) for each in costs), Decimal(0))


def _renew(pool: Pool, owner: str, day: date, ending: Sequence[Lot], load: int, used: int) -> list[Option]:
    """Renew what ends for the same time at the same price: all of it, or only as much as is needed."""
    if not ending:
        return []
    supply = supply_on(pool.lots, day)
    whole = sum(lot.quantity for lot in ending)
    overcommit = max(supply.overcommit, *(lot.overcommit or 100 for lot in ending))
    needed = _covering(supply, load, used, overcommit)
    wanted = {"renew": ("Renew all", whole)}
    if 0 < needed < whole:
        wanted["renew needed"] = ("Renew", needed)
    options = []
    for key, (name, quantity) in wanted.items():
        left, lots = quantity, list[NewLot]()
        for lot in sorted(ending, key=lambda each: each.unit_cost):
            part = min(left, lot.quantity)
            left -= part
            if part:
                lots.append(_renewal(pool, owner, day, lot, part))
        true_up = supply.true_up + sum(lot.true_up for lot in lots)
        still = Supply(supply.quantity + quantity, true_up, overcommit).shortfall(load, used)
        references = ", ".join(lot.renews or "" for lot in lots)
        options.append(
            Option(
                key,
                f"{name} {pool.product.said(quantity)}",
                f"{references} again, at the same price and for as long as before.",
                _monthly(pool, lots),
                pool.currency,
                0,
                still,
                lots,
            )
        )
    return options


def _renewal(pool: Pool, owner: str, day: date, lot: Lot, quantity: int) -> NewLot:
    taken = {each.reference for each in pool.lots}
    number = next(n for n in range(1, 10_000) if f"{lot.reference}-R{n}" not in taken)
    assert lot.last_day is not None
    months = (day.year - lot.first_day.year) * 12 + day.month - lot.first_day.month
    same = months > 0 and day.day == lot.first_day.day
    until = _months_after(day, months) - timedelta(1) if same else day + (lot.last_day - lot.first_day)
    return NewLot(
        owner=owner,
        product=pool.product.code,
        reference=f"{lot.reference}-R{number}",
        quantity=quantity,
        first_day=day,
        last_day=until,
        unit_cost=lot.unit_cost,
        currency=pool.currency,
        true_up=lot.true_up,
        overcommit=lot.overcommit,
        renews=lot.reference,
    )


def _mixed(
    found: Positions,
    actor: Actor,
    place: int,
    owner: str,
    day: date,
    ending: Sequence[Lot],
    below: Sequence[int],
    there: dict[int, Any],
    unused: Option | None,
    idle: Option | None,
) -> list[Option]:
    """First what costs nothing, then only as much bought as is short after it: renewed where something ends, else
    anew."""
    pool = found.snapshot.pools[place]
    first: list[tuple[str, list[Option], Positions]] = []
    if unused is not None:
        first.append((unused.name, [unused], _allocated(found, actor, unused)))
    if idle is not None:
        without = settle_snapshot(replace(found.snapshot, own=_own_without(found, idle.changes)))
        first.append((idle.name, [idle], without))
        rest = _take_back(without, below, there, pool, int(without.shortfalls()[place]))
        if rest is not None:
            first.append((f"{idle.name} and unused reserves", [idle, rest], _allocated(without, actor, rest)))
    options = []
    for name, steps, after in first:
        if not int(after.shortfalls()[place]):
            continue
        load, used = int(after.pool_load()[place]), int(after.pool_used()[place])
        renewals = [each for each in _renew(pool, owner, day, ending, load, used) if not each.still_short]
        bought = renewals[-1] if renewals else _buy(pool, owner, day, load, used)
        options.append(
            Option(
                " and ".join(each.key for each in (*steps, bought)),
                f"{name}, then {bought.name[0].lower()}{bought.name[1:]}",
                bought.says,
                bought.cost,
                bought.currency,
                sum(each.people for each in steps),
                0,
                [*(change for step in steps for change in step.changes), *bought.changes],
            )
        )
    return options


def _allocated(found: Positions, actor: Actor, option: Option) -> Positions:
    return settle_snapshot(DraftEvaluation(found.snapshot, actor, option.changes).snapshot)


def _own_without(found: Positions, changes: Sequence[Change]) -> Ints:
    """What is in use without what some changes release."""
    own = found.snapshot.own.copy()
    for change in changes:
        if isinstance(change, UnitsChange):
            own[found.snapshot.accounts.tree.row(change.account), 0] -= len(change.subjects)
    return own


def _months_after(day: date, months: int) -> date:
    count = day.year * 12 + day.month - 1 + months
    return date(count // 12, count % 12 + 1, min(day.day, monthrange(count // 12, count % 12 + 1)[1]))


def _price(amount: Decimal) -> str:
    plain = f"{amount.normalize():f}"
    return plain if len(plain.partition(".")[2]) > 1 else f"{amount:.2f}"


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
        f"At {_price(newest.unit_cost)} {pool.currency} each per month, the price of {newest.reference}.",
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
        "Release unused reserves",
        "Reserves shrink to what is in use; no one loses a unit.",
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
    found, place, row = owned_pool(tx, actor, owner, product, first_day)
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
    past = UsageHistory(tx, found.snapshot, [row])
    branch = {each for each in past.rows if int(found.snapshot.owner[each, 0]) == row}
    assigned = [
        each
        for each in past.open_assignments()
        if each.begins <= tx.now and found.snapshot.accounts.row_of_id[each.account_id] in branch
    ]
    subjects = [each.subject for each in assigned]
    known = people.by_username(tx, subjects)
    snapshot = found.snapshot
    idle: dict[int, list[str]] = defaultdict(list)
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
    changes = [
        UnitsChange(
            account=snapshot.accounts.tree.codes[place],
            product=pool.product.code,
            subjects=tuple(sorted(subjects)[:1000]),
            give=False,
        )
        for place, subjects in sorted(idle.items())
    ]
    count = sum(len(each.subjects) for each in changes)
    left = settle_snapshot(replace(snapshot, own=_own_without(found, changes)))
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
