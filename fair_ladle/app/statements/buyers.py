"""All buyers of a month at a glance: some of them in an order, and what they come to together."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from datetime import date
from decimal import Decimal
from typing import Any, Literal

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.plumbing import generations
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.cache import Cache
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.statements import closed_store
from fair_ladle.app.statements.billing import parse_month
from fair_ladle.app.statements.months_ledger import MonthsLedger
from fair_ladle.app.statements.totals import made_of_facts, refuse_unless_kept
from fair_ladle.app.statements.usecases import seller_as_seen
from fair_ladle.core.calendar import month_before, month_of

Sort = Literal["name", "seller", "number", "amount", "change", "cost", "margin", "percent", "share"]


@dataclass(frozen=True)
class BuyerRow:
    """One buyer's month at a glance, in one currency; amounts before tax. ``cost`` None where the actor may not see it
    or it is not known, ``number`` None while the month is open; ``of`` is what the seller charges all its buyers in
    that currency."""

    seller: str
    seller_name: str
    buyer: str
    name: str
    kind: str
    amount: Decimal
    before: Decimal
    cost: Decimal | None
    currency: str
    unpriced: int
    number: str | None
    of: Decimal = Decimal(0)

    @property
    def margin(self) -> Decimal | None:
        """What the seller keeps."""
        return None if self.cost is None else self.amount - self.cost


@dataclass(frozen=True)
class Overview:
    """All buyers of a month in tree order, and how far the month is read."""

    first: date
    last: date
    days_read: int
    buyers: tuple[BuyerRow, ...]
    own: str
    """The code of the account at the top of the actor's branch."""
    closed: Any
    """Where that account has closed the month: closed_at, closed_by, reason."""


@dataclass(frozen=True)
class CurrencySum:
    """What so many buyers come to together in a currency; ``cost`` of those whose cost is known, which are charged
    ``costed``."""

    currency: str
    buyers: int
    amount: Decimal
    before: Decimal
    cost: Decimal
    costed: Decimal


_overviews: Cache[Overview] = Cache(64, megabytes=48, at_once=1)


def overview(tx: Transaction, actor: Actor, month: str) -> Overview:
    """Every buyer of the actor's branch with its amount; departments that buy nothing by themselves are left out."""
    first, last = parse_month(month)
    accounts = accounts_service.on_day(tx, min(first, accounts_service.today(tx)))
    top = accounts_service.top_row(accounts, actor)
    for each in (first, month_before(first)):
        refuse_unless_kept(tx, accounts, each, sees_all=top == 0)
    facts = [
        made_of_facts(tx, product, day, month_of(f"{day:%Y-%m}")[1])
        for product in pools_service.products(tx)
        for day in (first, month_before(first))
    ]
    if None in facts:
        return _worked_out(tx, actor, first, last)
    numbers = generations.numbers(tx, "structure", "places", "rates", "closings", "past")
    key = (tx.installation, actor.scope, first, numbers, *facts)
    return _overviews.get(key, lambda: _worked_out(tx, actor, first, last))


def _worked_out(tx: Transaction, actor: Actor, first: date, last: date) -> Overview:
    ledger = MonthsLedger(tx)
    accounts = ledger.period(first).accounts
    tree, top = accounts.tree, accounts_service.top_row(accounts, actor)
    now, rows = ledger.totals(first), []
    using = set[str]().union(*(each.amounts for each in now), *(each.unpriced for each in now))
    special = {*ledger.closed, *ledger.period(first).sellers_with_terms}
    for row in tree.branch(top).tolist():
        buyer, seller = tree.codes[row], tree.codes[int(tree.parent[row])]
        if row == 0 or (buyer not in using and seller not in special):
            continue
        nets = ledger.nets(seller, buyer, first)
        unpriced = sum(buyer in each.unpriced for each in now)
        before = {currency: net for currency, net, _ in ledger.nets(seller, buyer, month_before(first))} if nets else {}
        for currency, net, number in nets or ([("", Decimal(0), None)] if unpriced else []):
            costs = [each.costs[buyer] for each in now if each.amounts.get(buyer, (None, None))[1] == currency]
            known = [cost for cost in costs if cost is not None] if top in tree.path_up(row)[1:] else []
            rows.append(
                BuyerRow(
                    seller_as_seen(accounts, actor, seller),
                    accounts.name(int(tree.parent[row])),
                    buyer,
                    accounts.name(row),
                    str(accounts.facts[row].kind),
                    net,
                    before.get(currency, Decimal(0)),
                    sum(known, Decimal(0)) if len(known) == len(costs) and top in tree.path_up(row)[1:] else None,
                    currency,
                    unpriced,
                    number,
                )
            )
    own = tree.codes[top]
    is_closed = first in ledger.closed.get(own, {})
    closed = closed_store.closing_of(tx.connection, int(accounts.ids[top]), first) if is_closed else None
    return Overview(first, last, now[0].days if now else 0, _with_wholes(rows), own, closed)


def _with_wholes(rows: list[BuyerRow]) -> tuple[BuyerRow, ...]:
    wholes: dict[tuple[str, str], Decimal] = {}
    for row in rows:
        key = (row.seller, row.currency)
        wholes[key] = wholes.get(key, Decimal(0)) + row.amount
    return tuple(replace(row, of=wholes[row.seller, row.currency]) for row in rows)


def found(every: Overview, find: str) -> list[BuyerRow]:
    """The buyers whose name or code has all of these words, in tree order."""
    words = find.casefold().split()
    return [row for row in every.buyers if all(word in f"{row.name} {row.buyer}".casefold() for word in words)]


def _part(part: Decimal | None, whole: Decimal) -> Decimal | None:
    return None if part is None or whole == 0 else part / whole


SORTS: dict[Sort, Callable[[BuyerRow], Any]] = {
    "name": lambda row: row.name.casefold(),
    "seller": lambda row: row.seller_name.casefold(),
    "number": lambda row: row.number,
    "amount": lambda row: row.amount,
    "change": lambda row: row.amount - row.before,
    "cost": lambda row: row.cost,
    "margin": lambda row: row.margin,
    "percent": lambda row: _part(row.margin, row.amount),
    "share": lambda row: _part(row.amount, row.of),
}
"""What a list of buyers can be sorted by."""


def in_order(rows: list[BuyerRow], sort: Sort | None, down: bool) -> list[BuyerRow]:
    """Buyers by something of theirs, as they come where it is the same; those that have nothing of it last."""
    if sort is None:
        return rows
    key = SORTS[sort]
    known = sorted((row for row in rows if key(row) is not None), key=key, reverse=down)
    return known + [row for row in rows if key(row) is None]


def sums(every: Overview, rows: Iterable[BuyerRow]) -> list[CurrencySum]:
    """What buyers come to by currency. What resellers charge on is theirs: where there are several sellers, it is of
    what one sells oneself."""
    several = len({row.seller for row in every.buyers}) > 1
    by_currency: dict[str, list[BuyerRow]] = {}
    for row in rows:
        if row.currency and (not several or row.seller == every.own):
            by_currency.setdefault(row.currency, []).append(row)
    return [
        CurrencySum(
            currency,
            len(mine),
            sum((row.amount for row in mine), Decimal(0)),
            sum((row.before for row in mine), Decimal(0)),
            sum((row.cost for row in mine if row.cost is not None), Decimal(0)),
            sum((row.amount for row in mine if row.cost is not None), Decimal(0)),
        )
        for currency, mine in sorted(by_currency.items())
    ]
