"""Writing a checked plan: facts with dates, and a log entry for each change. The locks are the caller's."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.allocations import service as allocations
from fair_ladle.app.assignments import service as assignments
from fair_ladle.app.drafts import storage
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
    StatusChange,
    Terms,
    UnitsChange,
    Until,
)
from fair_ladle.app.drafts.evaluate import DraftEvaluation
from fair_ladle.app.drafts.wording import price_said
from fair_ladle.app.log import service as log_service
from fair_ladle.app.log.service import Entry
from fair_ladle.app.people import memberships
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import conflict
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.statements import rate_cards

TERMS = ("reserve", "cap", "at_cap", "burst", "grace_days", "per", "each")


@dataclass(frozen=True)
class AppliedChange:
    """A change as applied, knowing what was there before, so that it can be reversed."""

    change: Change


def write_changes(
    tx: Transaction, actor: Actor, evaluation: DraftEvaluation, changes: Sequence[Change], through: str
) -> list[AppliedChange]:
    """New accounts, then prices, then moves, lots, limits per person and folders, then allocations."""
    ids = accounts_service.ids_by_code(tx, _named(changes))
    products = {each.code: each for each in evaluation.snapshot.products}
    entries: list[Entry] = []
    before: list[AppliedChange] = []
    for change in changes:
        if isinstance(change, NewAccount):
            ids[change.code] = _create(tx, change)
            entries.append(
                Entry(
                    "account created",
                    change.code,
                    ids[change.code],
                    None,
                    {"name": change.name, "kind": change.account_kind},
                )
            )
            before.append(AppliedChange(change))
    rates = [each for each in changes if isinstance(each, RateChange)]
    if rates:
        _write_rates(tx, [each for each in rates if not each.gone], ids, products)
        for each in rates:
            if each.gone:
                buyer_id = ids[each.buyer] if each.buyer else None
                rate_cards.drop(tx, ids[each.seller], buyer_id, products[each.product].id, each.first_day)
        before.extend(AppliedChange(each) for each in rates)
        entries.extend(
            Entry(
                "rate taken back" if each.gone else "rate written",
                each.product,
                ids[each.concerns],
                None if each.was is None else {"price": price_said(each.was)},
                {"price": price_said(each), "from": each.first_day.isoformat()},
            )
            for each in rates
        )
    for change in changes:
        if isinstance(change, Move):
            tree = evaluation.before.accounts.tree
            above = int(tree.parent[tree.row(change.account)])
            was = tree.codes[above]
            accounts_service.move(tx, change.account, change.parent)
            branch = tree.branch(tree.row(change.account))
            memberships.regroup_branches(tx, [int(each) for each in evaluation.before.accounts.ids[branch]])
            # Each side is told its own: whoever runs the account, or one of the two, need not know the others.
            entries.append(Entry("account moved away", change.account, int(evaluation.before.accounts.ids[above])))
            entries.append(Entry("account moved here", change.account, ids[change.parent]))
            before.append(AppliedChange(change.model_copy(update={"was": was})))
        elif isinstance(change, NewLot):
            product = products[change.product]
            pools_service.add_lot(
                tx,
                {
                    "reference": change.reference,
                    "owner_id": ids[change.owner],
                    "product_id": product.id,
                    "quantity": change.quantity,
                    "first_day": change.first_day,
                    "last_day": change.last_day,
                    "unit_cost": change.unit_cost,
                    "currency": change.currency,
                    "true_up": change.true_up,
                    "overcommit": change.overcommit,
                },
            )
            entries.append(
                Entry(
                    "lot renewed" if change.renews else "lot bought",
                    change.product,
                    ids[change.owner],
                    {"lot": change.renews} if change.renews else None,
                    {
                        "lot": change.reference,
                        "quantity": format_term("quantity", change.quantity, product),
                        "from": change.first_day.isoformat(),
                        "to": change.last_day.isoformat() if change.last_day else "open",
                        "unit cost": f"{change.unit_cost.normalize():f} {change.currency}",
                    },
                )
            )
            before.append(AppliedChange(change))
        elif isinstance(change, LotEnd):
            before.append(
                AppliedChange(_end_lot(tx, evaluation, change, ids[change.owner], products[change.product], entries))
            )
        elif isinstance(change, StatusChange):
            before.extend(AppliedChange(each) for each in _set_status(tx, evaluation, change, entries))
        elif isinstance(change, UnitsChange):
            _give_or_take(tx, change, ids[change.account], products[change.product], entries)
            before.append(AppliedChange(change))
        elif isinstance(change, PersonLimit | FolderChange):
            entries.append(storage.write(tx, actor, change))
            before.append(AppliedChange(change))
    if any(isinstance(each, NewAccount | Move | NewLot | LotEnd | StatusChange) for each in changes):
        accounts_service.structure_changed(tx)
    before.extend(AppliedChange(each) for each in _allocate(tx, evaluation, changes, ids, products, entries))
    log_service.write(
        tx,
        actor,
        None,
        [Entry(e.action, e.subject, e.account_id, e.before, {**(e.after or {}), "through": through}) for e in entries],
    )
    return before


def _named(changes: Sequence[Change]) -> set[str]:
    """The codes of all accounts that changes name."""
    named = {each.concerns for each in changes}
    for each in changes:
        if isinstance(each, NewAccount | Move):
            named.add(each.parent)
        elif isinstance(each, RateChange):
            named.add(each.seller)
    return named


def _create(tx: Transaction, change: NewAccount) -> int:
    return accounts_service.create(
        tx,
        {
            "code": change.code,
            "kind": change.account_kind,
            "name": change.name,
            "currency": None,
            "time_zone": None,
            "admin_email": change.admin_email,
            "billing_email": change.billing_email,
        },
        change.parent,
        change.unallocated,
    )


def _write_rates(
    tx: Transaction, changes: Sequence[RateChange], ids: dict[str, int], products: dict[str, Product]
) -> None:
    keys = [
        {
            "seller_id": ids[each.seller],
            "buyer_id": ids[each.buyer] if each.buyer else None,
            "product_id": products[each.product].id,
            "first_day": each.first_day,
        }
        for each in changes
    ]
    fields = (
        *("basis", "aggregate", "tier_mode", "included", "overage_price", "minimum", "fixed_fee", "currency"),
        *("committed", "fees", "markup"),
    )
    rate_cards.load(
        tx,
        [{**key, **{field: getattr(each, field) for field in fields}} for key, each in zip(keys, changes, strict=True)],
        [
            {**key, "from_quantity": tier.from_quantity, "unit_price": tier.unit_price}
            for key, each in zip(keys, changes, strict=True)
            for tier in each.tiers
        ],
    )


def _set_status(
    tx: Transaction, evaluation: DraftEvaluation, change: StatusChange, entries: list[Entry]
) -> list[Change]:
    """Write another status; for one that is closed, release everything and end the allocations of its branch.

    What comes back is the change and the allocations it ended, each knowing what was before.
    """
    snapshot, day = evaluation.before, evaluation.before.day
    facts = evaluation.accounts.facts[evaluation.accounts.tree.row(change.account)]
    old = evaluation.before.accounts.facts[evaluation.before.accounts.tree.row(change.account)]
    accounts_service.set_status(tx, facts.id, change.status, change.charged)
    was = old.status or "active"
    said = {"status": change.status} | (
        {"charged": "yes" if change.charged else "no"} if change.status == "suspended" else {}
    )
    entries.append(Entry("status changed", change.account, facts.id, {"status": was}, said))
    ended: list[Change] = [
        change.model_copy(update={"was": was, "was_charged": True if old.charged is None else bool(old.charged)})
    ]
    if change.status != "closed":
        return ended
    tree = evaluation.accounts.tree
    ids = {
        int(evaluation.accounts.ids[row]): tree.codes[row]
        for row in tree.branch(tree.row(change.account)).tolist()
        if int(evaluation.accounts.ids[row]) > 0
    }
    by_id = {each.id: each for each in snapshot.products}
    for (account_id, product_id), version in sorted(allocations.in_force(tx, list(by_id), list(ids), day).items()):
        terms = Terms(**{name: getattr(version, name) for name in TERMS})
        ended.append(
            AllocationChange(
                account=ids[account_id], product=by_id[product_id].code, terms=None, seen=version.id, was=terms
            )
        )
    allocations.end_all_from(tx, list(ids), day)
    for (account_id, product_id), units in sorted(assignments.end_all(tx, list(ids)).items()):
        product = by_id[product_id]
        entries.append(
            Entry(
                "released with its account",
                product.code,
                account_id,
                {"in use": product.said(units)},
                {"in use": product.said(0)},
            )
        )
    return ended


def _give_or_take(
    tx: Transaction, change: UnitsChange, account_id: int, product: Product, entries: list[Entry]
) -> None:
    """Assign or release for each subject; the counters are the caller's."""
    entry_terms = {"product": product.code}
    if change.give:
        assignments.check_subjects(tx, account_id, product, change.subjects)
        assignments.record(tx, account_id, product, change.subjects)
    else:
        assignments.end(tx, account_id, product, change.subjects)
    entries.extend(
        Entry(
            "assigned" if change.give else "released",
            each,
            account_id,
            None if change.give else entry_terms,
            entry_terms if change.give else None,
        )
        for each in change.subjects
    )


def _end_lot(
    tx: Transaction, evaluation: DraftEvaluation, change: LotEnd, owner_id: int, product: Product, entries: list[Entry]
) -> LotEnd:
    pool = next(each for each in evaluation.before.pools if each.owner_id == owner_id and each.product.id == product.id)
    lot = next(each for each in pool.lots if (each.reference, each.first_day) == (change.reference, change.first_day))
    taken_out = change.last_day is not None and change.last_day < change.first_day
    if taken_out and change.first_day < evaluation.before.day:
        raise conflict(f"Lot {change.reference} has begun; it can end yesterday at the earliest.")
    pools_service.end_lot(tx, owner_id, product.id, change.reference, change.first_day, change.last_day)
    entries.append(
        Entry(
            "lot taken back" if taken_out else "lot ended",
            change.product,
            owner_id,
            {"lot": change.reference, "to": lot.last_day.isoformat() if lot.last_day else "open"},
            {"to": "never" if taken_out else change.last_day.isoformat() if change.last_day else "open"},
        )
    )
    return change.model_copy(update={"was": lot.last_day})


def _allocate(
    tx: Transaction,
    evaluation: DraftEvaluation,
    changes: Sequence[Change],
    ids: dict[str, int],
    products: dict[str, Product],
    entries: list[Entry],
) -> list[AllocationChange]:
    """Write the allocations among these changes; each comes back with what was before."""
    mine = [each for each in changes if isinstance(each, AllocationChange)]
    terms = {
        (ids[each.account], products[each.product].id): None if each.terms is None else each.terms.model_dump()
        for each in mine
    }
    columns = {key: None if each is None else _columns(each, products) for key, each in terms.items()}
    until = {
        (ids[each.account], products[each.product].id): each.until.last_day for each in mine if each.until is not None
    }
    present = allocations.put_all_from(tx, evaluation.before.day, columns, until)
    written = []
    for change in mine:
        product, key = products[change.product], (ids[change.account], products[change.product].id)
        version, now = present.get(key), terms[key] or {}
        was = {name: getattr(version, name) for name in TERMS} if version else {}
        differs = [name for name in TERMS if was.get(name) != now.get(name)]
        ends = None if version is None else version.last_day
        before = {name: format_term(name, was[name], product) for name in differs if name in was}
        after = {name: format_term(name, now[name], product) for name in differs if name in now}
        if change.until is not None and change.until.last_day != ends:
            before["last day"] = "open" if ends is None else ends.isoformat()
            after["last day"] = "open" if change.until.last_day is None else change.until.last_day.isoformat()
        entries.append(
            Entry(
                "allocation changed",
                product.code,
                key[0],
                before or None,
                after or {"allocation": "none"},
            )
        )
        ended = None if change.until is None else Until(last_day=ends)
        written.append(change.model_copy(update={"was": Terms(**was) if was else None, "was_until": ended}))
    return written


def _columns(terms: dict[str, Any], products: dict[str, Product]) -> dict[str, Any]:
    """Terms as they stand in the table."""
    per = terms["per"]
    kept = {name: value for name, value in terms.items() if name != "per"}
    return kept | {"per_id": None if per is None else products[per].id}


def format_term(name: str, value: Any, product: Product) -> Any:
    """A term or quantity as the log tells it."""
    if name in ("reserve", "cap", "burst", "quantity", "each"):
        return "none" if value is None else product.said(value)
    return value
