"""Rate cards as the engine needs them, and bringing them in."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from copy import copy
from dataclasses import dataclass, replace
from datetime import date
from decimal import Decimal
from functools import cache, cached_property
from typing import Any

from iso4217 import Currency

from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.plumbing import generations
from fair_ladle.app.plumbing.cache import Cache
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.merge import Merged, merge
from fair_ladle.app.plumbing.problems import invalid
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.statements import store
from fair_ladle.core.pricing import Aggregate, Basis, Fees, Rate, Tier, TierMode, rate_for, tier_slices
from fair_ladle.core.quantities import half_up, short


@dataclass(frozen=True)
class _RateRow:
    """A rate by the ids it names, its terms as the engine has them."""

    seller_id: int
    buyer_id: int | None
    product_id: int
    terms: tuple[Any, ...]


_rows: Cache[list[_RateRow]] = Cache(4, megabytes=16)


def _read(tx: Transaction) -> list[_RateRow]:
    tiers: dict[int, list[Tier]] = defaultdict(list)
    for row in store.all_tiers(tx.connection):
        tiers[row.rate_id].append(Tier(short(row.from_quantity), short(row.unit_price)))
    return [
        _RateRow(
            row.seller_id,
            row.buyer_id,
            row.product_id,
            (
                row.first_day,
                Basis(row.basis),
                Aggregate(row.aggregate),
                TierMode(row.tier_mode),
                tuple(tiers.get(row.id, ())),
                short(row.included or Decimal(0)),
                _or_none(row.overage_price),
                _or_none(row.minimum),
                _or_none(row.fixed_fee),
                row.currency,
                _or_none(row.committed),
                Fees(row.fees),
                _or_none(row.markup),
            ),
        )
        for row in store.all_rates(tx.connection)
    ]


def rates(tx: Transaction, code_of: dict[int, str], product_code: dict[int, str]) -> list[Rate]:
    """Every rate with its tiers; its rows are kept in this process while no rate changes."""
    key = (tx.installation, generations.numbers(tx, "rates"))
    return [
        Rate(
            code_of[row.seller_id],
            None if row.buyer_id is None else code_of[row.buyer_id],
            product_code[row.product_id],
            *row.terms,
        )
        for row in (_read(tx) if tx.is_rehearsal else _rows.get(key, lambda: _read(tx)))
        if row.seller_id in code_of and (row.buyer_id is None or row.buyer_id in code_of)
    ]


def _or_none(number: Decimal | None) -> Decimal | None:
    return None if number is None else short(number)


@cache
def decimals_of(currency: str) -> int:
    """How many decimals the currency's minor unit has (ISO 4217); ValueError where it is no currency."""
    return Currency(currency).exponent or 0


def is_currency(code: str) -> bool:
    """Whether it is the code of a currency with a minor unit."""
    try:
        return Currency(code).exponent is not None
    except ValueError:
        return False


def drop(tx: Transaction, seller_id: int, buyer_id: int | None, product_id: int, first_day: date) -> None:
    """Take a rate out, with its tiers."""
    generations.renew(tx, "rates")
    store.drop_rate(tx.connection, seller_id, buyer_id, product_id, first_day)


def _by_whom(rates: Sequence[Rate]) -> Mapping[tuple[str, str, str | None], list[Rate]]:
    found: dict[tuple[str, str, str | None], list[Rate]] = defaultdict(list)
    for each in rates:
        found[each.seller, each.product, each.buyer].append(each)
    return found


class RateCards:
    """Every rate, over the tree of a day: who prices what for whom, and in which currency."""

    def __init__(self, tx: Transaction, accounts: Accounts):
        codes = dict(zip(accounts.ids.tolist(), accounts.tree.codes, strict=True))
        self.accounts = accounts
        self.rates = rates(tx, codes, {each.id: each.code for each in pools_service.products(tx)})
        self.sellers = {rate.seller for rate in self.rates}
        self._rates_of = _by_whom(self.rates)
        self._general: dict[tuple[str, str, date], Rate | None] = {}

    def over(self, accounts: Accounts, more: Sequence[Rate]) -> RateCards:
        """The same rates and some more over another tree: what a plan would be charged."""
        if accounts is self.accounts and not more:
            return self
        found = copy(self)
        found.__dict__.pop("first_days", None)
        found.accounts = accounts
        found.rates = [*self.rates, *more]
        found.sellers = self.sellers | {rate.seller for rate in more}
        found._rates_of = _by_whom(found.rates)
        found._general = {}
        return found

    def kept(self, books: Mapping[str, Sequence[Rate]]) -> RateCards:
        """The same, but for these sellers (codes) with the rates that a month was closed with, and no others."""
        if not books:
            return self
        found = copy(self)
        found.__dict__.pop("first_days", None)
        found.rates = [each for each in self.rates if each.seller not in books]
        found.rates += [each for kept in books.values() for each in kept]
        found.sellers = {each.seller for each in found.rates}
        found._rates_of = _by_whom(found.rates)
        found._general = {}
        return found

    @cached_property
    def first_days(self) -> dict[str, date]:
        """The day on which each seller's first rate begins."""
        found: dict[str, date] = {}
        for each in self.rates:
            found[each.seller] = min(each.first_day, found.get(each.seller, each.first_day))
        return found

    def of_seller(self, seller: str) -> list[Rate]:
        """A seller's rates, each with its currency said."""
        return [replace(each, currency=self.currency(each)) for each in self.rates if each.seller == seller]

    def seller_of(self, buyer: str) -> str | None:
        """The buyer's parent; None for the root."""
        parent = int(self.accounts.tree.parent[self.accounts.tree.row(buyer)])
        return None if parent < 0 else self.accounts.tree.codes[parent]

    def rate(self, buyer: str, product: str, first: date) -> Rate | None:
        """The rate that prices a product for a buyer in a period that begins on a day."""
        seller = self.seller_of(buyer)
        if seller is None:
            return None
        special, general = (self._rates_of.get((seller, product, whom), []) for whom in (buyer, None))
        if special:
            return rate_for([*special, *general], seller, buyer, product, first)
        if (seller, product, first) not in self._general:
            self._general[seller, product, first] = rate_for(general, seller, buyer, product, first)
        return self._general[seller, product, first]

    def currency(self, rate: Rate) -> str:
        """The rate's currency, or the seller's, or the nearest above it that has one."""
        found = rate.currency or self.accounts.inherited(self.accounts.tree.row(rate.seller), "currency")
        if not found:
            raise invalid(f"Neither the rate of {rate.seller} for {rate.product} nor any account above has a currency.")
        return str(found)


KEY = ("seller_id", "buyer_id", "product_id", "first_day")


def keys(tx: Transaction) -> list[Any]:
    """Every rate's row."""
    return store.all_rates(tx.connection)


def load(tx: Transaction, rows: list[dict[str, Any]], tiers: list[dict[str, Any]]) -> tuple[Merged, Merged]:
    """Create and change rates by seller, buyer, product and first day; tiers come as a rate's whole set.

    Tiers carry the key of their rate beside from_quantity and unit_price.
    """
    generations.renew(tx, "rates")
    merged = merge(tx.connection, store.rates, KEY, rows)
    ids = {tuple(getattr(row, name) for name in KEY): row.id for row in store.all_rates(tx.connection)}
    there: dict[int, dict[Decimal, Decimal]] = defaultdict(dict)
    for row in store.all_tiers(tx.connection):
        there[row.rate_id][row.from_quantity] = row.unit_price
    wanted: dict[int, dict[Decimal, Decimal]] = defaultdict(dict)
    for tier in tiers:
        wanted[ids[tuple(tier[name] for name in KEY)]][tier["from_quantity"]] = tier["unit_price"]
    merged_tiers = Merged()
    other = []
    for rate_id, new in wanted.items():
        old = there.get(rate_id, {})
        if old == new:
            merged_tiers.left += len(new)
            continue
        other.append(rate_id)
        for quantity, price in new.items():
            same = old.get(quantity)
            if same is None:
                merged_tiers.created += 1
            elif same == price:
                merged_tiers.left += 1
            else:
                merged_tiers.changed += 1
        if old:
            merged_tiers.changes.append(((rate_id,), {"tiers": _told(old)}, {"tiers": _told(new)}))
    if other:
        store.replace_tiers(
            tx.connection,
            other,
            [
                {"rate_id": rate_id, "from_quantity": quantity, "unit_price": price}
                for rate_id in other
                for quantity, price in wanted[rate_id].items()
            ],
        )
    return merged, merged_tiers


def _told(tiers: dict[Decimal, Decimal]) -> str:
    return "; ".join(f"from {short(quantity):f}: {short(price):f}" for quantity, price in sorted(tiers.items()))


def what_more_costs(rate: Rate, quantity: Decimal, more: Decimal, currency: str) -> Decimal | None:
    """What a full month would cost more or less at a quantity that is larger (or, below 0, smaller) by so much; None
    for a markup, which has no price of its own."""
    if rate.markup is not None:
        return None

    def amount(of: Decimal) -> Decimal:
        chargeable = max(Decimal(0), of - rate.included, rate.committed or Decimal(0))
        slices = sum((each.amount for each in tier_slices(rate.tiers, rate.tier_mode, chargeable)), Decimal(0))
        return max(slices, rate.minimum or Decimal(0))

    return half_up(amount(max(Decimal(0), quantity + more)) - amount(quantity), decimals_of(currency))
