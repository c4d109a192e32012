"""What a month comes to for every buyer: worked out a product at a time and kept by a job until something of it
changes, so that neither a list of statements nor the cost of one reads everybody's month."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import date
from decimal import Decimal
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.allocations import service as allocations
from fair_ladle.app.plumbing import generations
from fair_ladle.app.plumbing.cache import Cache
from fair_ladle.app.plumbing.database import Database, Transaction
from fair_ladle.app.plumbing.problems import Problem, Refused
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.statements import store
from fair_ladle.app.statements.corrected import AccountNumbers, corrected, kept_totals, packed_weights
from fair_ladle.app.statements.kept_readings import CORRECTIONS, AccountDays
from fair_ladle.app.statements.month_totals import ProductTotals, read_and_worked_out, worked_out
from fair_ladle.app.statements.months import is_settled
from fair_ladle.core.calendar import month_before, month_of

LARGE = 5_000
"""So many accounts, and a month of all buyers is worked out by the job alone."""
MONTHS_KEPT = 13
"""The one under way and those before it."""

_totals: Cache[ProductTotals] = Cache(128, megabytes=48, at_once=1)


def product_totals(tx: Transaction, product: Product, first: date, last: date) -> ProductTotals:
    """One product's totals of a month: as they are kept, or worked out anew where they are others by now."""
    made_of = made_of_facts(tx, product, first, last)
    if made_of is None:
        return worked_out(tx, product, first, last)
    key = (tx.installation, product, first, made_of)
    return _totals.get(key, lambda: kept_totals(tx, product, first, made_of) or worked_out(tx, product, first, last))


def costs_of(
    tx: Transaction, products: Sequence[Product], first: date, last: date, buyer: str, waits: bool = True
) -> tuple[dict[str, Decimal | None], bool]:
    """What a buyer's lines of a month cost its seller, by product's code; left out where there is no line. Where that
    has to be worked out of everybody's month, and ``waits`` is not said, nothing; and whether that is so."""
    there = store.kept_months(tx.connection, first)
    kept = [each for each in products if there.get(each.id) == made_of_facts(tx, each, first, last)]
    if len(kept) < len(products) and not waits:
        return {}, True
    account_id = accounts_service.ids_by_code(tx, [buyer]).get(buyer)
    rows = {} if account_id is None else store.kept_costs(tx.connection, first, account_id)
    found = {each.code: rows[each.id] for each in kept if each.id in rows}
    for each in products:
        costs = {} if each in kept else product_totals(tx, each, first, last).costs
        if buyer in costs:
            found[each.code] = costs[buyer]
    return found, False


def is_large(accounts: Accounts) -> bool:
    """Whether there are so many accounts that a month of all buyers is worked out by the job alone."""
    return len(accounts.tree) >= LARGE


def refuse_unless_kept(tx: Transaction, accounts: Accounts, first: date, sees_all: bool) -> None:
    """Refused while a month of a large installation is not kept for all products, which a job does: to work it out
    takes minutes, and everybody who asks would do it again. Months older than those it keeps are worked out.

    ``sees_all``: it is said of how many products it is kept; who does not see all is told of no number.
    """
    today = accounts_service.today(tx)
    if not is_large(accounts) or (today.year - first.year) * 12 + today.month - first.month >= MONTHS_KEPT:
        return
    last = month_of(f"{first:%Y-%m}")[1]
    there, products = store.kept_months(tx.connection, first), pools_service.products(tx)
    ready = sum(there.get(each.id) == made_of_facts(tx, each, first, last) for each in products)
    if ready < len(products):
        how_far = f" ({ready} of {len(products)} products are done)" if sees_all else ""
        said = f"The figures of {first:%B %Y} are still being calculated{how_far}. Ask again in a minute."
        raise Refused(Problem("busy", "Not ready yet", 503, said))


def made_of_facts(tx: Transaction, product: Product, first: date, last: date) -> str | None:
    """What a product's totals of a month are made of, as far as it changes; None where it is too early to keep them.

    Of a month that is over only late facts change them, and rates; in the one under way also lots and places.
    """
    today = accounts_service.today(tx)
    if not is_settled(tx, first, last):
        return None
    rates, places = generations.numbers(tx, "rates", "places")
    numbers = f"{rates:x} {places if last >= today else 0:x} {product.spreads_idle:d}"
    return f"{min(last, today)} {accounts_service.zone(tx)} {allocations.past(tx, product, last)} {numbers}"


def forget_old_readings(tx: Transaction) -> None:
    """Keep no more what was read of every account for months that are not kept up any more; what they came to stays."""
    begin = accounts_service.today(tx).replace(day=1)
    for _ in range(MONTHS_KEPT - 1):
        begin = month_before(begin)
    store.drop_readings(tx.connection, [each.id for each in pools_service.products(tx)], begin)


def outdated(tx: Transaction) -> Iterator[tuple[Product, date, date]]:
    """The months of products that are not kept as they are now, the newest first."""
    first = accounts_service.today(tx).replace(day=1)
    products = pools_service.products(tx)
    for _ in range(MONTHS_KEPT):
        last = month_of(f"{first:%Y-%m}")[1]
        there = store.kept_months(tx.connection, first)
        for product in products:
            made_of = made_of_facts(tx, product, first, last)
            if made_of is not None and there.get(product.id) != made_of:
                yield product, first, last
        first = month_before(first)


def keep_again(database: Database, product: Product, first: date, last: date) -> None:
    """Work out a product's month as of one instant, or correct what is kept of it where late facts are of few accounts,
    and keep it in place of that.

    Locks its own rows alone, the month's before the others. What they are made of says whether they still hold, so that
    nothing that changes them waits for this; a correction of what another has kept anew meanwhile is put aside.
    """
    keep = database.snapshot(_now, product, first, last)
    if keep is not None:
        database.run(keep)


def _now(tx: Transaction, product: Product, first: date, last: date) -> Callable[[Transaction], None] | None:
    """What is to be kept, as something that keeps it; None while it is too early."""
    made_of = made_of_facts(tx, product, first, last)
    if made_of is None:
        return None
    correction = corrected(tx, product, first, last, made_of)
    late: str | None = json.dumps(generations.late(tx, product.id, last))
    if correction is None:
        month, found = read_and_worked_out(tx, product, first, last)
        readings: Mapping[int, bytes] = {}
        if not month.segments or allocations.has_caps_that_follow(tx, product):
            late = None
        else:
            readings = AccountDays.of(month).packed_by_block()
        of = None
    else:
        found, readings, of = correction.totals, {CORRECTIONS: correction.readings}, correction.of
    today, begins = accounts_service.today(tx), [begin for begin, _ in accounts_service.segments(tx, first, last)]
    number = AccountNumbers([accounts_service.on_day(tx, min(each, today)) for each in (first, *begins)]).number
    rows, pools = _rows(found, number)
    values = {"made_of": made_of, "days": found.days, "late": late}
    there = None if correction is None else correction.there

    def keep(tx: Transaction) -> None:
        if of is None or store.holds(tx.connection, of):
            store.keep_month(tx.connection, product.id, first, values, rows, pools, readings, there)

    return keep


Row = dict[str, Any]


def _rows(found: ProductTotals, number: Callable[[str], int]) -> tuple[list[Row], list[Row]]:
    """The rows that keep what buyers are charged, and what pools cost."""
    rows: list[Row] = [
        {"account_id": number(buyer), "amount": str(amount), "currency": currency}
        | {"cost": None if found.costs[buyer] is None else str(found.costs[buyer])}
        for buyer, (amount, currency) in found.amounts.items()
    ]
    nothing = {"amount": None, "currency": None, "cost": None}
    rows += [{"account_id": number(buyer), **nothing} for buyer in found.unpriced]
    pools = [
        {"owner_id": number(each.owner), "currency": each.currency, "cost": str(each.cost), "own": str(each.own)}
        | {"idle": str(each.idle), "weights": None if each.weights is None else packed_weights(each.weights, number)}
        for each in found.pools
    ]
    return rows, pools


def differences(tx: Transaction) -> list[tuple[str, str, str, str]]:
    """Of every product the newest month that is kept and over, where it is not what its facts come to: (what, where,
    found, evidence)."""
    found = []
    first = month_before(accounts_service.today(tx).replace(day=1))
    last = month_of(f"{first:%Y-%m}")[1]
    for product in pools_service.products(tx):
        made_of = made_of_facts(tx, product, first, last)
        mine = None if made_of is None else kept_totals(tx, product, first, made_of)
        if mine is None:
            continue
        facts = worked_out(tx, product, first, last)
        for buyer in sorted(mine.amounts.keys() | facts.amounts.keys() | mine.unpriced | facts.unpriced):
            kept, worked = (
                f"{each.amounts.get(buyer)} {each.costs.get(buyer)} {buyer in each.unpriced}" for each in (mine, facts)
            )
            if kept != worked:
                found.append(("kept month", f"{first:%Y-%m} {product.code} {buyer}", kept, worked))
        there, then = ({(each.owner, each.currency): each for each in of.pools} for of in (mine, facts))
        for owner, currency in sorted(there.keys() | then.keys()):
            if there.get((owner, currency)) != then.get((owner, currency)):
                where = f"{first:%Y-%m} {product.code} pool of {owner}, {currency}"
                kept, worked = (str(of.get((owner, currency))) for of in (there, then))
                found.append(("kept month", where, kept, worked))
    return found
