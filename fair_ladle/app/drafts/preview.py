"""Changes looked at as a whole, and applied as a whole: what they do, what speaks against them, and who hears of it."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.allocations import present
from fair_ladle.app.allocations import service as allocations
from fair_ladle.app.allocations.ahead import loads_ahead
from fair_ladle.app.allocations.positions import Snapshot, snapshot_at
from fair_ladle.app.allocations.present import HeldBeside
from fair_ladle.app.allocations.snapshots import chosen_products, present_snapshot
from fair_ladle.app.assignments import service as assignments
from fair_ladle.app.drafts import storage
from fair_ladle.app.drafts.apply import AppliedChange, write_changes
from fair_ladle.app.drafts.ceilings import above_ceiling
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
    UnitsChange,
    Until,
)
from fair_ladle.app.drafts.evaluate import DraftEvaluation, DraftFault, InUse
from fair_ladle.app.drafts.impact import Impact, refusal
from fair_ladle.app.drafts.reversing import terms_of
from fair_ladle.app.enforcement import service as enforcement
from fair_ladle.app.log import service as log_service
from fair_ladle.app.people import service as people
from fair_ladle.app.plumbing import generations
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.cache import Cache
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import Problem, Refused, conflict, invalid, not_found
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.sign_in import service as sign_in_service
from fair_ladle.app.statements.rate_cards import RateCards
from fair_ladle.app.usage import service as usage

_rate_cards: Cache[RateCards] = Cache(16, megabytes=16)


@dataclass(frozen=True)
class Clash:
    """An allocation of the draft that somebody changed meanwhile; ``there`` is its version now, None = nothing."""

    change: AllocationChange
    there: Any | None
    by: str | None


@dataclass(frozen=True)
class Recipient:
    """Somebody who will hear of it, and about which account."""

    name: str
    account: str


@dataclass(frozen=True)
class Preview:
    """What a draft would do, what is wrong with it (that part is left out of the effect), and what has changed
    meanwhile."""

    impact: Impact | None
    rate_cards: RateCards | None
    faults: list[DraftFault] = field(default_factory=list)
    clashes: list[Clash] = field(default_factory=list)
    recipients: list[Recipient] = field(default_factory=list)
    freed: Mapping[tuple[str, str], int] = field(default_factory=dict)
    """How many units come off hold, by account and product for whose excess they are."""
    above: Problem | None = None
    """Why the actor's own delegation does not let them apply it."""


def preview(
    tx: Transaction,
    actor: Actor,
    changes: Sequence[Change],
    on: date | None = None,
    shown: Collection[str] | None = None,
) -> Preview:
    """What changes would do to their pools now, or on a day ahead; nothing is kept.

    ``shown``: the accounts (codes) whose figures are wanted besides those of what is changed; None = of all.
    """
    if not changes:
        return Preview(None, None)
    tx = replace(tx, kept={})  # it only reads
    products = _products(tx, changes)
    today = accounts_service.today(tx)
    beside: HeldBeside = {}
    if on is not None and on > today:
        snapshot = snapshot_at(tx, products, accounts_service.start_of(tx, on))
        whole = snapshot.accounts
    elif shown is not None and (part := _along(tx, products, changes, shown)) is not None:
        snapshot, whole = part, accounts_service.known(tx)
        beside = present.held_beside(tx, part, accounts_service.top_row(part.accounts, actor))
    else:
        snapshot = present_snapshot(tx, products)
        whole = snapshot.accounts
    evaluation = DraftEvaluation(snapshot, actor, changes, _in_use(tx, actor, snapshot, changes))
    evaluation.faults.extend(storage.faults(tx, actor, changes))
    clashes = _clashes(tx, actor, snapshot, changes)
    rate_cards = _rate_cards.get(
        (tx.installation, snapshot.day, generations.numbers(tx, "rates", "structure")), lambda: RateCards(tx, whole)
    )
    impact = Impact(evaluation, beside, lambda *pool: _held_ahead(tx, on, *pool))
    above = None if evaluation.faults else above_ceiling(impact, actor, changes)
    _ = impact.breaches  # reads what is held ahead, in this transaction
    return Preview(
        impact,
        rate_cards,
        evaluation.faults,
        clashes,
        _recipients(tx, actor, evaluation, changes),
        _freed(tx, impact) if on is None else {},
        None if above is None else above.problem,
    )


def _held_ahead(
    tx: Transaction, on: date | None, owner: str, product: Product, days: Sequence[date]
) -> dict[date, tuple[int, int]]:
    """How much more a pool's owner holds, and uses, on days ahead than today, or than on a day ahead."""
    known = accounts_service.known(tx)
    if owner not in known.tree:
        return {}
    held = loads_ahead(tx, product, known.tree.row(owner), [*days, *([on] if on else [])], max(days))
    found = {day: (load, used) for day, load, used in held}
    load, used = found.get(on, found[held[0][0]]) if on else found[held[0][0]]
    return {day: (found[day][0] - load, found[day][1] - used) for day in days if day in found}


def _freed(tx: Transaction, impact: Impact) -> dict[tuple[str, str], int]:
    """On hold is what is used past the cap: of what is now the rest comes free."""
    accounts, snapshot = accounts_service.known(tx), impact.after.snapshot
    columns = {each.id: column for column, each in enumerate(snapshot.products)}
    less = {
        int(accounts.ids[accounts.tree.row(each.account)])
        for each in impact.breaches
        if each.account is not None and each.day is None and each.after < each.before and each.account in accounts.tree
    }
    used, freed = impact.after.used(), {}
    for (account_id, product_id), count in enforcement.on_hold_for(tx, less).items():
        code = accounts.tree.codes[accounts.row_of_id[account_id]]
        if product_id in columns:
            at = snapshot.accounts.tree.row(code), columns[product_id]
            freed[code, snapshot.products[at[1]].code] = count - max(0, int(used[at] - snapshot.grid.cap[at]))
    return freed


def apply_changes(
    tx: Transaction, actor: Actor, changes: Sequence[Change], through: str
) -> tuple[Impact, list[AppliedChange]]:
    """Check changes under locks and write them; what each of them was before comes back with the effect.

    ``through`` stands in the log for what made them, and is read by whoever runs an account they touch. Locks: shared
    folders, people, then the counters of what is changed and of all above it, pool by pool and the deeper first; where
    the tree, lots or units change as well, every counter of the products and the pools' own rows; then limits per
    person.
    """
    if not changes:
        raise invalid("The draft holds nothing.", "changes")
    products = _products(tx, changes)
    storage.lock(tx, actor, changes)
    _lock_people(tx, changes)
    snapshot = _locked_along(tx, products, changes)
    if snapshot is None:
        assignments.lock(tx, products)
        assignments.rebuild_stale(tx, products)
        snapshot = present_snapshot(tx, products)
    evaluation = DraftEvaluation(snapshot, actor, changes, _in_use(tx, actor, snapshot, changes))
    evaluation.faults.extend(storage.faults(tx, actor, changes))
    if evaluation.faults:
        raise Refused(
            Problem(
                "invalid",
                "Not valid",
                422,
                evaluation.faults[0].detail,
                {"faults": [{"kind": f.kind, "key": f.key, "detail": f.detail} for f in evaluation.faults]},
            )
        )
    clashes = _clashes(tx, actor, snapshot, changes)
    if clashes:
        names = ", ".join(_cell_name(snapshot, clash.change) for clash in clashes)
        raise conflict(
            f"Changed by someone else meanwhile: {names}. Keep yours or take theirs; nothing was applied.",
            changed=[{"account": each.change.account, "product": each.change.product} for each in clashes],
        )
    impact = Impact(evaluation)
    refused = refusal(impact, actor) or above_ceiling(impact, actor, changes)
    if refused is not None:
        raise refused
    before = write_changes(tx, actor, evaluation, changes, through)
    if all(isinstance(each, AllocationChange | RateChange | PersonLimit | FolderChange) for each in changes):
        assignments.follow(tx, impact.present, impact.after)
    else:
        assignments.rebuild_locked(tx, products)
    return impact, before


def _cell_name(snapshot: Snapshot, change: AllocationChange) -> str:
    accounts, product = snapshot.accounts, next(each for each in snapshot.products if each.code == change.product)
    return f"{product.name} of {accounts.name(accounts.tree.row(change.account))}"


def _along(
    tx: Transaction, products: Sequence[Product], changes: Sequence[Change], shown: Collection[str] = ()
) -> Snapshot | None:
    """The present of the accounts whose allocations change, of those shown and of all above them; None where other
    things change that move figures, caps follow seats, or the counters do not tell."""
    if not all(isinstance(each, AllocationChange | PersonLimit | FolderChange) for each in changes):
        return None
    if _follow_each_other(tx, products, changes):
        return None
    tree = accounts_service.known(tx).tree
    codes = {each.concerns for each in changes} | set(shown)
    return present.part(tx, products, [tree.row(code) for code in codes if code in tree], use=True)


def _locked_along(tx: Transaction, products: Sequence[Product], changes: Sequence[Change]) -> Snapshot | None:
    """The same, with its counters locked."""
    if not all(isinstance(each, AllocationChange | PersonLimit | FolderChange) for each in changes):
        return None
    if _follow_each_other(tx, products, changes):
        return None
    if not present.are_current(tx, pools_service.pools(tx, products)):
        return None
    accounts = accounts_service.known(tx)
    by_product: dict[str, list[int]] = {}
    for each in changes:
        if isinstance(each, AllocationChange) and each.account in accounts.tree:
            by_product.setdefault(each.product, []).append(accounts.tree.row(each.account))
    assignments.lock_ways(tx, accounts, {product: by_product.get(product.code, []) for product in products})
    return _along(tx, products, changes)


def _lock_people(tx: Transaction, changes: Sequence[Change]) -> None:
    """Lock, before any counter, the people to whom units are given or from whom they are taken, and those with units in
    accounts that are closed."""
    accounts = accounts_service.known(tx)
    usernames = {subject for each in changes if isinstance(each, UnitsChange) for subject in each.subjects}
    for each in changes:
        if isinstance(each, StatusChange) and each.status == "closed" and each.account in accounts.tree:
            ids = accounts.ids[accounts.tree.branch(accounts.tree.row(each.account))].tolist()
            usernames |= {row.subject for row in usage.open_of_accounts(tx, ids, tx.now)}
    people.lock_by_username(tx, usernames)


def _products(tx: Transaction, changes: Sequence[Change]) -> list[Product]:
    """The products a draft touches: every pooled one where it changes the tree."""
    every = {each.code: each for each in pools_service.products(tx)}
    named = {
        each.product
        for each in changes
        if isinstance(each, AllocationChange | NewLot | LotEnd | RateChange | UnitsChange | PersonLimit | FolderChange)
    }
    for code in sorted(named):
        if code not in every:
            raise not_found("product", code)
    if any(isinstance(each, Move | NewAccount | StatusChange) for each in changes):
        named |= {each.code for each in chosen_products(tx, None)}
    named |= {
        each.terms.per
        for each in changes
        if isinstance(each, AllocationChange) and each.terms and each.terms.per in every
    }
    # Caps that follow seats are settled with them, whichever of the two is changed.
    by_id = {each.id: each.code for each in every.values()}
    pairs = [(by_id[product_id], by_id[per_id]) for product_id, per_id in allocations.following(tx)]
    named |= {product for product, per in pairs if per in named}
    named |= {per for product, per in pairs if product in named}
    return [every[code] for code in sorted(named)]


def _follow_each_other(tx: Transaction, products: Sequence[Product], changes: Sequence[Change]) -> bool:
    """Whether caps of some of these products follow seats, or shall."""
    ids = {each.id for each in products}
    shall = any(isinstance(each, AllocationChange) and each.terms and each.terms.per for each in changes)
    return shall or any(product_id in ids for product_id, _ in allocations.following(tx))


def _in_use(tx: Transaction, actor: Actor, snapshot: Snapshot, changes: Sequence[Change]) -> InUse:
    """Who has, now, what the draft gives out or takes back; of other branches nothing."""
    named = [each for each in changes if isinstance(each, UnitsChange)]
    if not named:
        return InUse()
    accounts = snapshot.accounts
    products = {each.id: each for each in snapshot.products if each.code in {change.product for change in named}}
    subjects = [subject for each in named for subject in each.subjects]
    holding: dict[tuple[str, str], set[str]] = {}
    for row in usage.open_assignments(tx, list(products.values()), subjects, tx.now):
        if accounts_service.sees(accounts, actor, row.account_id):
            code = accounts.tree.codes[accounts.row_of_id[row.account_id]]
            holding.setdefault((products[row.product_id].code, row.subject), set()).add(code)
    known = people.by_username(tx, subjects).values()
    return InUse(
        holding,
        {
            each.username: accounts.tree.codes[accounts.row_of_id[each.account_id]]
            for each in known
            if each.account_id in accounts.row_of_id
        },
    )


def _clashes(tx: Transaction, actor: Actor, snapshot: Snapshot, changes: Sequence[Change]) -> list[Clash]:
    """Allocations of the actor's branch that were changed since; others do not exist for the actor."""
    column = {each.code: each for each in snapshot.products}
    wanted = [
        (int(snapshot.accounts.ids[snapshot.accounts.tree.row(each.account)]), column[each.product].id, each)
        for each in changes
        if isinstance(each, AllocationChange)
        and accounts_service.is_in_scope(snapshot.accounts, actor, each.account)
        and each.product in column
    ]
    there = allocations.in_force(
        tx, {product for _, product, _ in wanted}, {account for account, _, _ in wanted}, snapshot.day
    )
    found = []
    for account_id, product_id, change in wanted:
        now = there.get((account_id, product_id))
        # A version changed on its first day keeps its number: what it was is compared too.
        day_is_other = change.until is not None and change.was_until != Until(last_day=now.last_day if now else None)
        if (now.id if now else None) != change.seen or terms_of(now) != change.was or day_is_other:
            entry = log_service.last(tx, actor, account_id, "allocation changed", change.product)
            found.append(Clash(change, now, entry.actor if entry else None))
    return found


def _recipients(
    tx: Transaction, actor: Actor, evaluation: DraftEvaluation, changes: Sequence[Change]
) -> list[Recipient]:
    """The admins of the accounts a draft changes, and of those above them within the branch; not the actor."""
    accounts = evaluation.before.accounts
    rows: dict[int, None] = {}
    for change in changes:
        if change.concerns in accounts.tree:
            row = accounts.tree.row(change.concerns)
            rows[row] = None
            if int(accounts.tree.parent[row]) >= 0:
                rows[int(accounts.tree.parent[row])] = None
    top = accounts_service.top_row(accounts, actor)
    inside = [row for row in rows if top in accounts.tree.path_up(row)]
    running = sign_in_service.admins_of(tx, [int(accounts.ids[row]) for row in inside])
    found: dict[str, Recipient] = {}
    for row in inside:
        people = [(each.name, each.email) for each in running.get(int(accounts.ids[row]), [])]
        email = accounts.facts[row].admin_email
        for name, address in people or ([(email, email)] if email else []):
            if address != actor.email:
                found.setdefault(address, Recipient(name, accounts.name(row)))
    return list(found.values())
