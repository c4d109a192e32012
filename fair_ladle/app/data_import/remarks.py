"""What of an intake is right, and yet does nothing as things stand, or not all that one may expect of it."""

from __future__ import annotations

from datetime import date, timedelta

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.data_import.reading import Intake
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.pools import service as pools
from fair_ladle.app.statements.kept_books import closed_months, kept_books
from fair_ladle.app.statements.rate_cards import RateCards
from fair_ladle.connectors.sheets_in import Fault
from fair_ladle.core.calendar import day_name, month_after
from fair_ladle.core.pricing import Rate


def remarks(tx: Transaction, intake: Intake) -> list[Fault]:
    """What is remarked of an intake once it is loaded, each with its place."""
    return [*_undrawn(tx, intake), *_in_closed_months(tx, intake)]


def _undrawn(tx: Transaction, intake: Intake) -> list[Fault]:
    """Rates that charge nobody: their product has no pool at the seller or above it, so that no buyer can draw it."""
    accounts, found = accounts_service.known(tx), []
    product_ids = {each.code: each.id for each in pools.products(tx)}
    rates, tree = intake.table("rates"), accounts.tree
    drawn = pools.drawn_below(tx, accounts, {tree.row(seller) for _, seller in rates.values("seller")})
    for number, (seller, product) in rates.values("seller", "product"):
        if product_ids[product] not in drawn[tree.row(seller)]:
            said = f"a pool at {seller} or above it; without one no buyer can draw it, and nobody is charged"
            found.append(Fault("rates.csv", number, "product", product, said))
    return found


Key = tuple[str, str | None, str, date]


def _in_closed_months(tx: Transaction, intake: Intake) -> list[Fault]:
    """Rates that begin before a seller's last closed month has ended, and that it was not closed with: they change
    nothing of what is closed."""
    accounts = accounts_service.known(tx)
    closed: dict[str, date] = {}
    for each in closed_months(tx):
        code = accounts.tree.codes[accounts.row_of_id[each.seller_id]]
        closed[code] = max(each.first_day, closed.get(code, date.min))
    rates: dict[Key, tuple[str, int]] = {}
    for table in ("rates", "rate_tiers"):
        for number, key in intake.table(table).values("seller", "buyer", "product", "first_day"):
            if key[0] in closed and key[3] < month_after(closed[key[0]]):
                rates.setdefault((key[0], key[1] or None, *key[2:]), (table, number))
    if not rates:
        return []
    cards, sellers = RateCards(tx, accounts), {seller for seller, *_ in rates}
    present = {_key(each): each for seller in sellers for each in cards.of_seller(seller)}
    part = accounts.part([accounts.tree.row(each) for each in sellers])
    kept = {
        _key(rate): rate
        for first in {closed[each] for each in sellers}
        for seller, book in kept_books(tx, part, first).items()
        if closed.get(seller) == first
        for rate in book.rates
    }
    found = []
    for key, (table, number) in rates.items():
        if present.get(key) != kept.get(key):
            opens = month_after(closed[key[0]])
            said = (
                f"a day after {day_name(opens - timedelta(days=1))}, until when {key[0]} has closed its months; what "
                f"is closed stays as it was charged, and this is charged from {opens:%B %Y} on"
            )
            found.append(Fault(f"{table}.csv", number, "first_day", key[3].isoformat(), said))
    return found


def _key(rate: Rate) -> Key:
    return rate.seller, rate.buyer, rate.product, rate.first_day
