"""Bringing clocks, holds and thresholds up to now.

Everything follows from the facts: whoever runs it later finds the same clocks and the same holds.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.allocations import present
from fair_ladle.app.allocations import service as allocations
from fair_ladle.app.allocations.positions import Positions, Snapshot, settle_snapshot
from fair_ladle.app.allocations.snapshots import present_snapshot
from fair_ladle.app.enforcement import store
from fair_ladle.app.enforcement.replay import UsageHistory
from fair_ladle.app.log import service as log_service
from fair_ladle.app.notices import service as notices_service
from fair_ladle.app.notices.service import Notice
from fair_ladle.app.plumbing import generations
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Again, Database, Transaction
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.usage import service as usage
from fair_ladle.core.calendar import day_name, instant, local_day, micros
from fair_ladle.core.clocks import GraceClock
from fair_ladle.core.holds import Hold
from fair_ladle.core.settling import NO_LIMIT

USUAL_LEVELS = (80, 90, 100)


MOST_LOOKED_AT = 2_000
"""So many accounts with something on hold are looked at between two runs over everything."""
UNDER_WAY = timedelta(minutes=1)
"""No taking is under way for longer."""
SCHEDULE = Actor("schedule", "", None)


@dataclass(frozen=True)
class Done:
    """What a run did to one product's pools."""

    on_hold: int
    freed: int
    notified: int


def enforce_all(database: Database) -> None:
    """Every product in a transaction of its own."""
    with database.transaction() as tx:
        codes = [each.code for each in pools_service.products(tx)]
    for code in codes:
        database.run(enforce, code)


def enforce(tx: Transaction, product_code: str) -> Done:
    """Bring one product's clocks, holds and thresholds up to now, and tell whom it concerns."""
    product = pools_service.product(tx, product_code)
    last = store.lock_product(tx.connection, product.id)
    if last is None:
        raise Again(lambda first: store.begin_enforced(first.connection, product.id, instant(0)))
    places = generations.numbers(tx, "places")[0]
    made_of = f"{allocations.past(tx, product, accounts_service.today(tx))} {places:x}"
    snapshot = present_snapshot(tx, [product])
    if not snapshot.pools:
        return Done(0, 0, 0)
    found = settle_snapshot(snapshot)
    new, freed = _sync_holds(tx, found, product, micros(last.until), anew=last.made_of != made_of)
    notified = [
        *_clock_notices(found, product),
        *_hold_notices(found, product, new),
        *_threshold_notices(tx, found, product),
    ]
    count = notices_service.notify(tx, snapshot.accounts, notified)
    store.set_enforced(tx.connection, product.id, snapshot.at, made_of)
    return Done(len(new), freed, count)


def mended(tx: Transaction) -> dict[str, tuple[tuple[str, int, int], ...]]:
    """Products of which more is on hold for an account than its branch uses past its cap: where, by product, as
    (account, on hold, past the cap)."""
    every = {each.id: each for each in pools_service.products(tx)}
    accounts = accounts_service.known(tx)
    held = {
        (account_id, product_id): count
        for (account_id, product_id), count in store.on_hold_for(tx.connection, None, MOST_LOOKED_AT).items()
        if account_id in accounts.row_of_id and product_id in every
    }
    if not held:
        return {}
    products = [every[each] for each in sorted({product_id for _, product_id in held})]
    past = present.past_caps(tx, products, held)
    if past is None:
        return {}  # the counters are being made anew
    result: dict[str, list[tuple[str, int, int]]] = {}
    for (account_id, product_id), count in held.items():
        beyond = past.get((account_id, product_id), 0)
        if count > beyond:
            code = accounts.tree.codes[accounts.row_of_id[account_id]]
            result.setdefault(every[product_id].code, []).append((code, count, beyond))
    return {product: tuple(cells) for product, cells in result.items()}


def _sync_holds(
    tx: Transaction, found: Positions, product: Product, since: int, anew: bool
) -> tuple[list[tuple[int, Hold, Any]], int]:
    """Keep what a replay finds beyond what is kept: new holds as (account row, hold, assignment), and how many
    ended.

    Replayed are the accounts with something on hold, with a clock that runs, and where something changed since; all
    that ever were under grace where ``anew``: the past itself has changed, or nothing is known of it.
    """
    accounts = found.snapshot.accounts
    kept = store.open_holds(tx.connection, product.id)
    before: dict[int, list[Hold]] = {}
    touched = None if anew else _touched(tx, found.snapshot, product, since)
    for row in kept:
        before.setdefault(accounts.row_of_id[row.account_id], []).append(
            Hold(row.assignment_id, row.place, micros(row.begins), None)
        )
    past = UsageHistory(tx, found.snapshot, None if touched is None else touched | set(before))
    ids = {(accounts.row_of_id[row.account_id], row.assignment_id, micros(row.begins)): row.id for row in kept}
    new, freed, rows, entries = [], 0, [], []
    for place, holds in past.holds(since, before).items():
        for hold in holds:
            hold_id = ids.get((place, hold.assignment, hold.begins))
            if hold_id is not None:
                if hold.ends is not None:
                    store.end_hold(tx.connection, hold_id, instant(hold.ends))
                    freed += 1
                    entries.append(_entry("hold ended", past.unit_of(hold.assignment), place, accounts, product))
                continue
            rows.append(
                {
                    "product_id": product.id,
                    "account_id": int(accounts.ids[place]),
                    "assignment_id": hold.assignment,
                    "place": hold.place,
                    "begins": instant(hold.begins),
                    "ends": None if hold.ends is None else instant(hold.ends),
                }
            )
            assignment = past.unit_of(hold.assignment)
            entries.append(_entry("put on hold", assignment, place, accounts, product))
            if hold.ends is None:
                new.append((place, hold, assignment))
    store.add_holds(tx.connection, rows)
    if entries:
        log_service.write(tx, SCHEDULE, None, entries)
    return new, freed


def _touched(tx: Transaction, snapshot: Snapshot, product: Product, since: int) -> set[int]:
    """The rows under grace whose clock runs, or below which, or of which, something changed since an instant."""
    accounts, column = snapshot.accounts, 0
    # What was under way at the last run has an instant before it and was kept after it.
    changed = usage.changed_between(tx, product, instant(since) - UNDER_WAY, snapshot.at)
    above = {
        row
        for account_id in changed
        if account_id in accounts.row_of_id
        for row in accounts.tree.path_up(accounts.row_of_id[account_id])
    }
    other = allocations.turned_since(tx, product, local_day(instant(since), snapshot.zone), snapshot.day)
    return (
        {row for row, _ in snapshot.clocks}
        | {row for row in above if snapshot.grid.grace[row, column]}
        | {accounts.row_of_id[account_id] for account_id in other if account_id in accounts.row_of_id}
    )


def _entry(what: str, assignment: Any, place: int, accounts: Accounts, product: Product) -> log_service.Entry:
    own = accounts.row_of_id[assignment.account_id] == place
    # Whoever runs the unit's account reads this; what stands above it is not named.
    return log_service.Entry(
        what,
        assignment.subject,
        assignment.account_id,
        None,
        {"product": product.code, "for": "its own cap" if own else "a cap above"},
    )


def _clock_notices(found: Positions, product: Product) -> list[Notice]:
    """At the start of a grace, halfway, on its last day, and when it has run out."""
    snapshot, notified = found.snapshot, []
    for (row, column), clock in snapshot.clocks.items():
        name, account_id = snapshot.accounts.name(row), int(snapshot.accounts.ids[row])
        over = int(found.settled.load[row, column]) - int(snapshot.grid.cap[row, column])
        stage = _stage(clock, snapshot)
        key = f"grace {account_id} {product.id} {clock.since} {stage}"
        past = (
            f"{name} is {product.said(over)} over its cap of "
            f"{product.said(int(snapshot.grid.cap[row, column]))} of {product.name}."
        )
        until = f"{clock.deadline_day:%A} {day_name(clock.deadline_day)}"
        subject, text = {
            "start": (
                f"{name} is past its cap of {product.name}: grace until {until}",
                f"{past} Everything goes on until the end of {until}; then the excess alone is put on hold.",
            ),
            "halfway": (
                f"{name}: half of its grace for {product.name} is over",
                f"{past} The grace ends with {until}.",
            ),
            "last day": (
                f"{name}: the last day of its grace for {product.name}",
                f"{past} At the end of today the excess is put on hold.",
            ),
            "over": (
                f"{name}: its grace for {product.name} is over",
                f"{past} Nothing more can be assigned until use is within the cap again. Raise the cap, or release "
                "idle units.",
            ),
        }[stage]
        notified.append(Notice(key, "grace", account_id, subject, text, product.id))
    return notified


def _stage(clock: GraceClock, snapshot: Any) -> str:
    if clock.is_over(micros(snapshot.at)):
        return "over"
    started = local_day(instant(clock.since), snapshot.zone)
    if snapshot.day >= clock.deadline_day and snapshot.day > started:
        return "last day"
    length = (clock.deadline_day - started).days
    return "halfway" if length > 1 and snapshot.day >= started + timedelta(days=(length + 1) // 2) else "start"


def _hold_notices(found: Positions, product: Product, new: Sequence[tuple[int, Hold, Any]]) -> list[Notice]:
    """One notice an account, with who was put on hold and where."""
    accounts, notified = found.snapshot.accounts, []
    for place in dict.fromkeys(place for place, _, _ in new):
        mine = [(hold, assignment) for row, hold, assignment in new if row == place]
        names = "\n".join(
            f"- {assignment.subject}, {accounts.name(accounts.row_of_id[assignment.account_id])}"
            for _, assignment in mine
        )
        account_id = int(accounts.ids[place])
        key = f"hold {account_id} {product.id} {mine[0][0].begins} {mine[0][0].assignment}"
        text = (
            "Only what is over the cap is on hold: not usable, still theirs, and free again "
            f"as soon as there is room.\n{names}"
        )
        notified.append(
            Notice(
                key,
                "hold",
                account_id,
                f"{accounts.name(place)}: {product.said(len(mine))} of {product.name} on hold",
                text,
                product.id,
            )
        )
    return notified


def _threshold_notices(tx: Transaction, found: Positions, product: Product) -> list[Notice]:
    """A notice for each threshold crossed upwards since the last run; one crossed back is armed again."""
    snapshot, other = found.snapshot, store.levels(tx.connection)
    known = store.crossed(tx.connection, product.id)
    now: dict[tuple[int, int], int] = {}
    for row, account_id in enumerate(snapshot.accounts.ids.tolist()):
        cap, load = int(snapshot.grid.cap[row, 0]), int(found.settled.load[row, 0])
        if snapshot.owner[row, 0] < 0 or not 0 < cap < NO_LIMIT:
            continue
        for level in other.get((account_id, product.id), USUAL_LEVELS):
            if load * 100 >= cap * level:
                now[account_id, level] = row
    new = now.keys() - known
    store.cross(tx.connection, product.id, new, tx.now)
    store.uncross(tx.connection, product.id, known - now.keys())
    notified = []
    for account_id in sorted({account_id for account_id, _ in new}):
        level = max(each for account, each in new if account == account_id)
        row = now[account_id, level]
        cap, load = int(snapshot.grid.cap[row, 0]), int(found.settled.load[row, 0])
        name = snapshot.accounts.name(row)
        notified.append(
            Notice(
                f"threshold {account_id} {product.id} {level} {micros(tx.now)}",
                "threshold",
                account_id,
                f"{name} has reached {level} % of its cap of {product.name}",
                f"{product.said(load)} of {product.said(cap)} are counted.",
                product.id,
                parent_too=level >= 100,
            )
        )
    return notified
