"""What undoes an applied draft, as changes for another one."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import timedelta

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.allocations import service as allocations
from fair_ladle.app.allocations.rows import VersionRecord
from fair_ladle.app.drafts.change_types import (
    AllocationChange,
    Change,
    FolderChange,
    LotEnd,
    Move,
    NewAccount,
    NewLot,
    PersonLimit,
    RateChange,
    RateTerms,
    StatusChange,
    Terms,
    UnitsChange,
    Until,
)
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.pools import service as pools_service


def reversed_changes(tx: Transaction, changes: Sequence[Change]) -> list[Change]:
    """What puts back what these changes did, the last of them first; allocations go back from what is in force by
    now."""
    products = {each.code: each.id for each in pools_service.products(tx)}
    ids = accounts_service.ids_by_code(tx)
    day = accounts_service.today(tx)
    wanted = [each for each in changes if isinstance(each, AllocationChange)]
    there = allocations.in_force(
        tx, {products[each.product] for each in wanted}, {ids[each.account] for each in wanted}, day
    )
    found: list[Change] = []
    made = {each.code for each in changes if isinstance(each, NewAccount)}
    for change in reversed(changes):
        if isinstance(change, AllocationChange) and change.account in made:
            continue
        if isinstance(change, AllocationChange):
            now = there.get((ids[change.account], products[change.product]))
            found.append(
                AllocationChange(
                    account=change.account,
                    product=change.product,
                    terms=change.was,
                    seen=now.id if now else None,
                    was=terms_of(now),
                    until=None if change.was is None else change.was_until,
                    was_until=None if change.until is None else Until(last_day=now.last_day if now else None),
                )
            )
        elif isinstance(change, NewLot):
            last = change.first_day - timedelta(days=1) if change.first_day >= day else day - timedelta(days=1)
            found.append(
                LotEnd(
                    owner=change.owner,
                    product=change.product,
                    reference=change.reference,
                    first_day=change.first_day,
                    last_day=last,
                    was=change.last_day,
                )
            )
        elif isinstance(change, LotEnd):
            found.append(change.model_copy(update={"last_day": change.was, "was": change.last_day}))
        elif isinstance(change, Move) and change.was:
            found.append(Move(account=change.account, parent=change.was, was=change.parent))
        elif isinstance(change, StatusChange):
            found.append(
                StatusChange(
                    account=change.account,
                    status=change.was or "active",
                    charged=change.was_charged,
                    was=change.status,
                    was_charged=change.charged,
                )
            )
        elif isinstance(change, RateChange) and change.buyer not in made:
            if change.was is not None and not change.gone:
                terms = change.was.model_dump() | {"was": change.model_dump(include=set(RateTerms.model_fields))}
                found.append(RateChange.model_validate(change.model_dump() | terms))
            else:
                found.append(change.model_copy(update={"gone": not change.gone, "was": None}))
        elif isinstance(change, PersonLimit):
            found.append(change.model_copy(update={"terms": change.was, "was": change.terms}))
        elif isinstance(change, FolderChange):
            found.append(change.model_copy(update={"state": change.was, "was": change.state}))
        elif isinstance(change, UnitsChange):
            found.append(change.model_copy(update={"give": not change.give}))
        elif isinstance(change, NewAccount) and change.parent not in made:
            found.append(StatusChange(account=change.code, status="closed", was="active"))
    return found


def terms_of(version: VersionRecord | None) -> Terms | None:
    """A version's terms; None for none."""
    if version is None:
        return None
    return Terms(
        reserve=version.reserve,
        cap=version.cap,
        at_cap=version.at_cap,
        burst=version.burst,
        grace_days=version.grace_days,
        per=version.per,
        each=version.each,
    )
