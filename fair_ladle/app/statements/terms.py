"""What is charged and given off besides rates, what is taxed, and what currencies were worth: as the engine needs it,
and bringing it in."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import date
from decimal import Decimal
from fractions import Fraction
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.plumbing import generations
from fair_ladle.app.plumbing.cache import Cache
from fair_ladle.app.plumbing.database import Transaction, metadata
from fair_ladle.app.plumbing.merge import Merged, merge
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.statements import store
from fair_ladle.core.exchange import ExchangeRate, exchange_rate
from fair_ladle.core.pricing import Fees
from fair_ladle.core.quantities import short
from fair_ladle.core.statement_lines import ChargeTerms, CreditTerms, DiscountTerms, Every

KEYS = {
    **dict.fromkeys(("charges", "discounts", "credits"), ("seller_id", "buyer_id", "reference")),
    "tax_rates": ("seller_id", "tax_class", "first_day"),
    "exchange_rates": ("day", "of", "into"),
}
"""The tables of terms, each with what names a row."""


def load(tx: Transaction, table: str, rows: list[dict[str, Any]]) -> Merged:
    """Create and change the rows of a table of terms by its key."""
    merged = merge(tx.connection, metadata.tables[table], KEYS[table], rows)
    if merged.created or merged.changed:
        generations.renew(tx, "rates")
    return merged


SAID = ("reference", "description", "tax_class", "currency", "of", "into")
"""What of a row is looked through for words, besides its buyer and product."""


@dataclass(frozen=True)
class TermsAsked:
    """Rows of a table of terms: a seller's (all, of a table without sellers) in which each of some words stands. What
    buyers are called is looked through below ``top`` (a row) alone: one that was moved away may be called something
    else by now."""

    table: str
    seller_id: int | None
    accounts: Accounts
    top: int
    words: Sequence[str] = ()


def _asked(asked: TermsAsked) -> tuple[sa.Table, sa.FromClause, list[Any]]:
    named, seller_id, words = metadata.tables[asked.table], asked.seller_id, asked.words
    source: sa.FromClause = named
    said: list[sa.ColumnElement[Any]] = [named.c[name] for name in SAID if name in named.c]
    buyers, products = metadata.tables["accounts"], metadata.tables["products"]
    if words and "buyer_id" in named.c:
        source = source.outerjoin(buyers, buyers.c.id == named.c.buyer_id)
        inside = accounts_service.in_branch(asked.accounts, asked.top, buyers.c.id)
        said += [buyers.c.code, sa.case((inside, buyers.c.name), else_="")]
    if words and "product_id" in named.c:
        source = source.outerjoin(products, products.c.id == named.c.product_id)
        said += [products.c.code, products.c.name]
    wanted: list[Any] = [] if seller_id is None else [named.c.seller_id == seller_id]
    # Codes are told apart by their case, and looked for without it.
    said = [each.collate("utf8mb4_unicode_ci") for each in said]
    wanted += [sa.or_(*(each.contains(word, autoescape=True) for each in said)) for word in words]
    return named, source, wanted


def count(tx: Transaction, asked: TermsAsked) -> int:
    """How many of these rows there are."""
    _, source, wanted = _asked(asked)
    return int(tx.connection.scalar(sa.select(sa.func.count()).select_from(source).where(*wanted)) or 0)


def rows_of(tx: Transaction, asked: TermsAsked, offset: int, limit: int) -> list[Any]:
    """A window of these rows, by their key; the newest days first where that is of days."""
    named, source, wanted = _asked(asked)
    day = named.c.get("day", named.c.get("first_day"))
    assert day is not None
    found = sa.select(named).select_from(source).where(*wanted).order_by(day.desc(), *named.primary_key)
    return list(tx.connection.execute(found.offset(offset).limit(limit)))


def drop(tx: Transaction, table: str, key: dict[str, Any]) -> bool:
    """Take a row out by its key; whether it was there."""
    named = metadata.tables[table]
    where = [named.c[name] == value for name, value in key.items()]
    gone = tx.connection.execute(sa.delete(named).where(*where)).rowcount > 0
    if gone:
        generations.renew(tx, "rates")
    return gone


@dataclass(frozen=True)
class Terms:
    """The terms of one seller beside its rates: by buyer (code) what is charged and given off; its tax; and exchange
    rates, which are everybody's."""

    charges: dict[str, list[ChargeTerms]] = field(default_factory=lambda: defaultdict(list))
    discounts: dict[str, list[DiscountTerms]] = field(default_factory=lambda: defaultdict(list))
    credits: dict[str, list[CreditTerms]] = field(default_factory=lambda: defaultdict(list))
    tax_rates: tuple[tuple[str, date, Decimal], ...] = ()
    """Class, first day, percent."""
    exchange_rates: tuple[ExchangeRate, ...] = ()
    tax_classes: dict[str, str] = field(default_factory=dict)
    """By product (code)."""

    def percent(self, tax_class: str | None, last: date) -> Decimal | None:
        """What a class is taxed in a period that ends on a day: by the newest percentage; None = not at all."""
        fitting = [(day, percent) for name, day, percent in self.tax_rates if name == tax_class and day <= last]
        return max(fitting)[1] if fitting else None

    def worth(self, of: str, into: str, last: date) -> Fraction | None:
        """What 1 of a currency is in another one in a period that ends on a day."""
        return exchange_rate(self.exchange_rates, of, into, last)


BySeller = dict[int, list[Any]]


@dataclass(frozen=True)
class _Rows:
    """The rows that terms are made of, by seller (id)."""

    charges: BySeller
    discounts: BySeller
    credits: BySeller
    tax_rates: BySeller
    exchange_rates: tuple[ExchangeRate, ...]

    @staticmethod
    def read(tx: Transaction) -> _Rows:
        """All of them."""

        def by_seller(rows: list[Any]) -> BySeller:
            found: BySeller = defaultdict(list)
            for row in rows:
                found[row.seller_id].append(row)
            return dict(found)

        connection = tx.connection
        return _Rows(
            by_seller(store.charges(connection)),
            by_seller(store.discounts(connection)),
            by_seller(store.credits(connection)),
            by_seller(store.tax_rates(connection)),
            tuple(ExchangeRate(row.day, row.of, row.into, short(row.rate)) for row in store.exchange_rates(connection)),
        )


_kept: Cache[_Rows] = Cache(4, megabytes=16)


def _of(rows: BySeller, sellers: Iterable[int]) -> Iterator[Any]:
    return (row for seller in sellers for row in rows.get(seller, ()))


def of_sellers(tx: Transaction, accounts: Accounts) -> tuple[dict[str, Terms], Terms]:
    """The terms of the sellers (codes) that have any of their own, and what is everybody else's; what they are read
    from is kept in this process while no terms change."""
    key = (tx.installation, generations.numbers(tx, "rates", "structure"))
    read = _Rows.read(tx) if tx.is_rehearsal else _kept.get(key, lambda: _Rows.read(tx))
    code_of = {
        each: accounts.tree.codes[accounts.row_of_id[each]]
        for each in {*read.charges, *read.discounts, *read.credits, *read.tax_rates}
        if each in accounts.row_of_id
    }
    currency_of = {code: accounts.inherited(accounts.tree.row(code), "currency") or "" for code in code_of.values()}
    classes = {each.code: each.tax_class for each in pools_service.products(tx) if each.tax_class}
    taxes: dict[str, list[tuple[str, date, Decimal]]] = defaultdict(list)
    for row in _of(read.tax_rates, code_of):
        taxes[code_of[row.seller_id]].append((row.tax_class, row.first_day, short(row.percent)))
    found = {
        code: Terms(tax_rates=tuple(taxes[code]), exchange_rates=read.exchange_rates, tax_classes=classes)
        for code in code_of.values()
    }
    for row in _of(read.charges, code_of):
        seller = code_of[row.seller_id]
        found[seller].charges[row.buyer].append(
            ChargeTerms(
                row.reference,
                row.description or "",
                row.tax_class,
                short(row.quantity),
                short(row.unit_price),
                row.currency or currency_of[seller],
                row.first_day,
                row.last_day,
                Every(row.every),
                Fees(row.fees),
            )
        )
    for row in _of(read.discounts, code_of):
        seller = code_of[row.seller_id]
        currency = row.currency if row.currency or row.ceiling is None else currency_of[seller]
        ceiling = None if row.ceiling is None else short(row.ceiling)
        found[seller].discounts[row.buyer].append(
            DiscountTerms(
                row.reference, row.product, short(row.percent), row.first_day, row.last_day, ceiling, currency
            )
        )
    for row in _of(read.credits, code_of):
        seller = code_of[row.seller_id]
        found[seller].credits[row.buyer].append(
            CreditTerms(
                row.reference, short(row.amount), row.currency or currency_of[seller], row.first_day, row.last_day
            )
        )
    return found, Terms(exchange_rates=read.exchange_rates, tax_classes=classes)
