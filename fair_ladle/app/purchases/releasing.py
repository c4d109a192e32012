"""What can be released for a pool that will be short: unused reserves, caps, seats of people not seen."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import replace
from datetime import timedelta
from decimal import Decimal
from typing import Any

from fair_ladle.app.allocations.positions import Positions, settle_snapshot
from fair_ladle.app.drafts.change_types import AllocationChange, Change, Terms, UnitsChange
from fair_ladle.app.drafts.reversing import terms_of
from fair_ladle.app.enforcement.replay import UsageHistory
from fair_ladle.app.people import service as people
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.pools.service import Pool
from fair_ladle.app.purchases.buying import Option
from fair_ladle.core.sharing import Mode, share
from fair_ladle.core.tree import Ints

UNSEEN = timedelta(days=60)


def take_back(found: Positions, below: Sequence[int], there: dict[int, Any], pool: Pool, short: int) -> Option | None:
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


def shrink(
    found: Positions, below: Sequence[int], there: dict[int, Any], pool: Pool, row: int, way: str, name: str, short: int
) -> Option | None:
    """Caps below come down so that all of it fits; what is then over has 14 days of grace before the excess is on
    hold."""
    held = [int(found.settled.held[each, 0]) for each in below]
    parts = lowered(found, below, held, way, short)
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


def release(tx: Transaction, found: Positions, row: int, pool: Pool) -> Option | None:
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
    left = settle_snapshot(replace(snapshot, own=own_without(found, changes)))
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


def below_owner(found: Positions, row: int) -> list[int]:
    """The accounts directly below a pool's owner that it serves."""
    tree = found.snapshot.accounts.tree
    return [
        each
        for each in tree.branch(row).tolist()
        if int(tree.parent[each]) == row and each != row and int(found.snapshot.owner[each, 0]) == row
    ]


def lowered(found: Positions, below: Sequence[int], held: Sequence[int], way: str, short: int) -> list[int] | None:
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


def own_without(found: Positions, changes: Sequence[Change]) -> Ints:
    """What is in use without what some changes release."""
    own = found.snapshot.own.copy()
    for change in changes:
        if isinstance(change, UnitsChange):
            own[found.snapshot.accounts.tree.row(change.account), 0] -= len(change.subjects)
    return own


def _change(found: Positions, row: int, version: Any, pool: Pool, terms: dict[str, Any]) -> AllocationChange:
    was = terms_of(version)
    return AllocationChange(
        account=found.snapshot.accounts.tree.codes[row],
        product=pool.product.code,
        terms=(was or Terms()).model_copy(update=terms),
        seen=version.id if version else None,
        was=was,
    )
