"""What a draft does, in words: for those concerned, and as its own name."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from fair_ladle.app.accounts.service import Accounts
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
)
from fair_ladle.app.pools.service import Product
from fair_ladle.app.storage.folders import WAITING
from fair_ladle.core.calendar import day_name
from fair_ladle.core.quantities import plain

DEFAULT_NAME = "Draft of "
NAMED_PARTS = 3
STATUS_SAID = {
    "suspended": "The account is suspended: people keep what they have, nothing new is assigned.",
    "closed": "The account is closed: everything is released and its allocations have ended.",
    "active": "The account is active again.",
}
FOLDER_SAID = {
    "open": "is open again",
    "archived": "is archived; nothing more is written to it",
    "deleted": f"is deleted after {WAITING.days} days, unless it is opened before",
}
AT_CAP_SAID = {
    "block": "at the cap nothing more can be assigned",
    "grace": "above the cap a grace period begins",
    "overage": "use above the cap is charged as overage",
}


def lines_by_account(
    changes: Sequence[Change], products: Mapping[str, Product], groups: Mapping[tuple[str, str], str] | None = None
) -> dict[str, list[str]]:
    """What changes for each account, by its code, with what was before; ``groups`` are what groups are called, by
    account and code.

    Those told know nothing of the rest of the draft: neither its name nor where a moved account stands is told.
    """
    found: dict[str, list[str]] = {}
    for change in changes:
        said = _line(change, products, groups or {})
        if said is not None:
            found.setdefault(change.concerns, []).append(said)
    return found


def _line(change: Change, products: Mapping[str, Product], groups: Mapping[tuple[str, str], str]) -> str | None:
    if isinstance(change, AllocationChange):
        return _allocation(products[change.product], change.terms, change.was) + _until(change)
    if isinstance(change, NewLot):
        product = products[change.product]
        return (
            f"{product.name}: {product.said(change.quantity)} bought from {day_name(change.first_day)} "
            f"(order {change.reference})."
        )
    if isinstance(change, LotEnd):
        until = "stays open" if change.last_day is None else f"ends on {day_name(change.last_day)}"
        return f"{products[change.product].name}: order {change.reference} {until}."
    if isinstance(change, Move):
        return "The account was moved, with everything it holds."
    if isinstance(change, StatusChange):
        return STATUS_SAID[change.status]
    if isinstance(change, UnitsChange):
        product, count = products[change.product], len(change.subjects)
        others = f" and {count - 5} more" if count > 5 else ""
        way = "assigned to" if change.give else "released from"
        return f"{product.name}: {product.said(count)} {way} {', '.join(change.subjects[:5])}{others}."
    if isinstance(change, PersonLimit):
        product = products[change.product]
        group = change.group and groups.get((change.account, change.group), change.group)
        whom = f"each person of group {group}" if group else "each person"
        before = "no limit" if change.was is None else product.said(change.was.grains)
        if change.terms is None:
            return f"{product.name}: no limit for {whom} any more ({before} before)."
        then = {"stop": "; beyond it new writes are stopped", "tell": ""}.get(
            change.terms.at_limit, f"; beyond it new writes are stopped after {change.terms.grace_days} days"
        )
        return f"{product.name}: {whom} can store {product.said(change.terms.grains)} ({before} before){then}."
    if isinstance(change, FolderChange):
        return f"{products[change.product].name}: shared folder {change.folder} {FOLDER_SAID[change.state]}."
    if isinstance(change, NewAccount):
        return "The account was created."
    if isinstance(change, RateChange) and change.buyer:
        product, day = products[change.product], day_name(change.first_day)
        if change.gone:
            return f"{product.name}: the price announced for {day} is cancelled."
        return f"{product.name}: from {day} {price_said(change)}."
    return None


def price_said(terms: RateTerms) -> str:
    """A price in a few words; of a markup only that it is one."""
    if terms.markup is not None:
        return "priced at a markup"
    steps = [
        plain(each.unit_price) + (f" from {plain(each.from_quantity)} on" if each.from_quantity else "")
        for each in terms.tiers
    ]
    parts = [
        f"{', '.join(steps)} {terms.currency or ''}".strip() + f" a unit and month, {terms.aggregate} {terms.basis}",
        f"{plain(terms.included)} included" if terms.included else None,
        f"{plain(terms.committed)} committed" if terms.committed else None,
        f"{plain(terms.overage_price)} past the cap" if terms.overage_price is not None else None,
        f"at least {plain(terms.minimum)}" if terms.minimum else None,
        f"plus {plain(terms.fixed_fee)}" if terms.fixed_fee else None,
        "fees by day" if terms.fees == "by_day" and (terms.minimum or terms.fixed_fee) else None,
    ]
    return ", ".join(each for each in parts if each)


def _allocation(product: Product, terms: Terms | None, was: Terms | None) -> str:
    def cap(of: Terms | None) -> str:
        if of is not None and of.per is not None:
            return f"{product.said(of.cap or 0)} and {product.said(of.each or 0)} for each seat of {of.per}"
        return "no cap" if of is None or of.cap is None else product.said(of.cap)

    def limited(of: Terms) -> bool:
        return of.cap is not None or of.per is not None

    if terms is None:
        return f"{product.name}: the allocation has ended ({cap(was)} before)."
    before = f" ({cap(was)} before)" if was is not None and cap(was) != cap(terms) else ""
    use = f"you can use up to {cap(terms)}" if limited(terms) else "you can use any number"
    said = [f"{use}{before}"]
    if terms.reserve or (was is not None and was.reserve):
        changed = was is not None and was.reserve != terms.reserve
        said.append(
            f"{product.said(terms.reserve)} reserved" + (f" ({product.said(was.reserve)} before)" if changed else "")  # type: ignore[union-attr]
        )
    if limited(terms) and (was is None or was.at_cap != terms.at_cap):
        said.append(AT_CAP_SAID[terms.at_cap])
    return f"{product.name}: {'; '.join(said)}."


def _until(change: AllocationChange) -> str:
    if change.until is None or change.terms is None:
        return ""
    return (
        " It has no last day."
        if change.until.last_day is None
        else f" It applies until {day_name(change.until.last_day)}."
    )


def name_of(changes: Sequence[Change], accounts: Accounts, products: Mapping[str, Product]) -> str:
    """A name made of what a draft changes, to tell it by."""

    def account(code: str) -> str:
        return accounts.name(accounts.tree.row(code)) if code in accounts.tree else code

    parts: list[str] = []
    by_product: dict[str, list[AllocationChange]] = {}
    for change in changes:
        if isinstance(change, AllocationChange):
            by_product.setdefault(change.product, []).append(change)
        elif isinstance(change, NewLot):
            parts.append(f"{products[change.product].name} {change.reference}")
        elif isinstance(change, LotEnd):
            parts.append(f"{change.reference} ends")
        elif isinstance(change, NewAccount):
            parts.append(f"new {change.name}")
        elif isinstance(change, Move):
            parts.append(f"move {account(change.account)}")
        elif isinstance(change, RateChange):
            whose = account(change.buyer) if change.buyer else "all buyers"
            parts.append(f"price of {products[change.product].name} for {whose}")
        elif isinstance(change, StatusChange):
            parts.append(f"{account(change.account)} {change.status}")
        elif isinstance(change, PersonLimit):
            parts.append(f"{products[change.product].name} per person of {account(change.account)}")
        elif isinstance(change, FolderChange):
            parts.append(f"folder {change.folder} {change.state}")
        else:
            parts.append(f"{change.kind} {account(change.concerns)}")
    for code, mine in by_product.items():
        whose = account(mine[0].account) if len(mine) == 1 else f"{len(mine)} accounts"
        parts.append(f"{products[code].name}: {whose}")
    more = f" and {len(parts) - NAMED_PARTS} more" if len(parts) > NAMED_PARTS else ""
    return (", ".join(parts[:NAMED_PARTS]) + more)[:200]
