"""Queries over rate cards, and over what months are kept to come to."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from datetime import date
from decimal import Decimal
from typing import Any

import sqlalchemy as sa
from sqlalchemy.dialects import mysql

from fair_ladle.app.accounts.tables import accounts
from fair_ladle.app.plumbing.database import batched, fetch, fetch_first
from fair_ladle.app.pools.tables import products
from fair_ladle.app.statements import tables as t
from fair_ladle.app.statements.rows import (
    BillingDetails,
    ChargeRecord,
    CreditRecord,
    DiscountRecord,
    ExchangeRateRecord,
    KeptCharge,
    KeptMonth,
    KeptPool,
    RateRecord,
    TaxRateRecord,
    TierRecord,
)
from fair_ladle.app.statements.tables import kept_charges, kept_pools, rate_tiers, rates
from fair_ladle.app.statements.tables import kept_months as months

__all__ = ["all_rates", "all_tiers", "rate_tiers", "rates", "replace_tiers"]


def all_rates(connection: sa.Connection) -> list[RateRecord]:
    """Every rate, by first day."""
    return fetch(connection, sa.select(rates).order_by(rates.c.first_day, rates.c.id), RateRecord)


def all_tiers(connection: sa.Connection) -> list[TierRecord]:
    """Every tier, ascending within its rate."""
    return fetch(
        connection, sa.select(rate_tiers).order_by(rate_tiers.c.rate_id, rate_tiers.c.from_quantity), TierRecord
    )


def drop_rate(
    connection: sa.Connection, seller_id: int, buyer_id: int | None, product_id: int, first_day: date
) -> None:
    """Take a rate out, with its tiers."""
    r = rates.c
    found = connection.scalars(
        sa.select(r.id).where(
            r.seller_id == seller_id,
            r.buyer_id.is_not_distinct_from(buyer_id),
            r.product_id == product_id,
            r.first_day == first_day,
        )
    ).all()
    connection.execute(sa.delete(rate_tiers).where(rate_tiers.c.rate_id.in_(found)))
    connection.execute(sa.delete(rates).where(r.id.in_(found)))


def _with_buyer(table: sa.Table, *more: Any) -> sa.Select[Any]:
    return sa.select(table, accounts.c.code.label("buyer"), *more).join(accounts, accounts.c.id == table.c.buyer_id)


def charges(connection: sa.Connection) -> list[ChargeRecord]:
    """What sellers charge by itself, with the buyer's code."""
    return fetch(connection, _with_buyer(t.charges), ChargeRecord)


def discounts(connection: sa.Connection) -> list[DiscountRecord]:
    """What sellers take off, with the buyer's and the product's code."""
    wanted = _with_buyer(t.discounts, products.c.code.label("product"))
    return fetch(connection, wanted.outerjoin(products, products.c.id == t.discounts.c.product_id), DiscountRecord)


def credits(connection: sa.Connection) -> list[CreditRecord]:
    """What sellers credit, with the buyer's code."""
    return fetch(connection, _with_buyer(t.credits), CreditRecord)


def tax_rates(connection: sa.Connection) -> list[TaxRateRecord]:
    """The percentages of every seller."""
    return fetch(connection, sa.select(t.tax_rates), TaxRateRecord)


def exchange_rates(connection: sa.Connection) -> list[ExchangeRateRecord]:
    """Every exchange rate."""
    return fetch(connection, sa.select(t.exchange_rates), ExchangeRateRecord)


def billing_details(connection: sa.Connection, account_ids: list[int]) -> dict[int, BillingDetails]:
    """What stands on documents about these accounts, by id."""
    a = accounts.c
    columns = (
        *(a.id, a.code, a.name, a.street, a.postcode, a.city, a.country, a.tax_number, a.payment_days, a.iban),
        *(a.buyer_reference, a.exemption_reason, a.billing_email, a.tax, a.cost_centre),
    )
    return {row.id: row for row in fetch(connection, sa.select(*columns).where(a.id.in_(account_ids)), BillingDetails)}


def cost_centres(connection: sa.Connection) -> dict[str, str]:
    """The cost centres of the accounts that have one, by code."""
    a = accounts.c
    found = connection.execute(sa.select(a.code, a.cost_centre).where(a.cost_centre.is_not(None)))
    return {row.code: row.cost_centre for row in found}


def replace_tiers(connection: sa.Connection, rate_ids: list[int], rows: list[dict[str, Any]]) -> None:
    """Give these rates other tiers."""
    connection.execute(sa.delete(rate_tiers).where(rate_tiers.c.rate_id.in_(rate_ids)))
    connection.execute(sa.insert(rate_tiers), rows)


def kept_months(connection: sa.Connection, first: date) -> dict[int, str]:
    """What the totals of a month that are kept are made of, by product."""
    wanted = sa.select(months.c.product_id, months.c.made_of).where(months.c.first_day == first)
    return {row.product_id: row.made_of for row in connection.execute(wanted)}


def kept_charges_of(connection: sa.Connection, product_id: int, first: date) -> list[KeptCharge]:
    """Code, amount, currency and cost of every buyer of a product in a month that is kept."""
    k = kept_charges
    wanted = (
        sa.select(accounts.c.code, k.c.amount, k.c.currency, k.c.cost)
        .join(accounts, accounts.c.id == k.c.account_id)
        .where(k.c.first_day == first, k.c.product_id == product_id)
    )
    return fetch(connection, wanted, KeptCharge)


KeptFigures = dict[tuple[Any, ...], tuple[Any, ...]]
"""Rows that are kept of a product's month, their figures by their keys."""


def kept_figures_of(
    connection: sa.Connection, product_id: int, first: date, account_ids: Collection[int] | None = None
) -> KeptFigures:
    """Amount, currency and cost of every buyer (number) of a product in a month that is kept, or of some."""
    return _kept(connection, product_id, first, kept_charges, account_ids)


def kept_readings(connection: sa.Connection, product_id: int, first: date, blocks: Collection[int]) -> dict[int, bytes]:
    """What is kept of some blocks of accounts that were read for a product's month, packed."""
    k = t.kept_readings.c
    wanted = sa.select(k.block, k.figures).where(k.product_id == product_id, k.first_day == first, k.block.in_(blocks))
    return {row.block: row.figures for row in connection.execute(wanted)}


def kept_costs(connection: sa.Connection, first: date, account_id: int) -> dict[int, Decimal | None]:
    """What a buyer's lines of a month cost, by product, as far as that is kept."""
    k = kept_charges
    wanted = sa.select(k.c.product_id, k.c.cost).where(
        k.c.account_id == account_id, k.c.first_day == first, k.c.amount.is_not(None)
    )
    return {row.product_id: None if row.cost is None else Decimal(row.cost) for row in connection.execute(wanted)}


def kept_pools_of(connection: sa.Connection, product_id: int, first: date) -> list[KeptPool]:
    """What the pools of a product cost in a month that is kept: owner (code), currency, cost, own and idle."""
    columns = [each for each in kept_pools.c if each is not kept_pools.c.weights]
    wanted = sa.select(accounts.c.code.label("owner"), *columns).join(accounts, accounts.c.id == kept_pools.c.owner_id)
    mine = wanted.where(kept_pools.c.first_day == first, kept_pools.c.product_id == product_id)
    return fetch(connection, mine.order_by(accounts.c.code, kept_pools.c.currency), KeptPool)


def kept_idle(
    connection: sa.Connection, owner_ids: list[int], first: date, last: date
) -> dict[tuple[date, str, str, str], Decimal]:
    """What was idle of the pools of some owners in the months that are kept, from one (its first day) to another: by
    first day, product (code), owner (code) and currency."""
    k = kept_pools.c
    wanted = (
        sa.select(k.first_day, products.c.code.label("product"), accounts.c.code.label("owner"), k.currency, k.idle)
        .join(accounts, accounts.c.id == k.owner_id)
        .join(products, products.c.id == k.product_id)
        .where(k.owner_id.in_(owner_ids), k.first_day >= first, k.first_day <= last)
    )
    return {
        (row.first_day, row.product, row.owner, row.currency): Decimal(row.idle) for row in connection.execute(wanted)
    }


def kept_month(connection: sa.Connection, product_id: int, first: date) -> KeptMonth | None:
    """What a product's month that is kept is made of."""
    wanted = sa.select(months).where(months.c.product_id == product_id, months.c.first_day == first)
    return fetch_first(connection, wanted, KeptMonth)


def kept_weights(connection: sa.Connection, product_id: int, first: date, owner_id: int) -> bytes | None:
    """By what an owner's pool of a product was shared in a month, packed."""
    k = kept_pools.c
    mine = [k.first_day == first, k.product_id == product_id, k.owner_id == owner_id]
    # The same whatever it was bought in.
    found: bytes | None = connection.scalar(sa.select(k.weights).where(*mine, k.weights.is_not(None)).limit(1))
    return found


def drop_readings(connection: sa.Connection, product_ids: list[int], before: date) -> None:
    """Drop what was read for months of these products before a day."""
    k = t.kept_readings
    connection.execute(sa.delete(k).where(k.c.product_id.in_(product_ids), k.c.first_day < before))


def holds(connection: sa.Connection, kept: KeptMonth) -> bool:
    """Whether a month that is kept is this one still; it stays so until the transaction ends."""
    m = months.c
    mine = sa.select(m.made_of, m.late).where(m.product_id == kept.product_id, m.first_day == kept.first_day)
    row = connection.execute(mine.with_for_update()).first()
    return row is not None and (row.made_of, row.late) == (kept.made_of, kept.late)


_KEYS = {kept_charges: ("account_id",), kept_pools: ("owner_id", "currency")}
_FIGURES = {kept_charges: ("amount", "currency", "cost"), kept_pools: ("cost", "own", "idle", "weights")}


def keep_month(
    connection: sa.Connection,
    product_id: int,
    first: date,
    values: dict[str, Any],
    rows: list[dict[str, Any]],
    pools: list[dict[str, Any]],
    readings: Mapping[int, bytes],
    of: KeptFigures | None = None,
) -> None:
    """Keep what a product's month comes to for its buyers and its pools, and what was read (by block), in place of what
    was kept of it. With ``of``, rows that are kept of some buyers, it is said of these, of new ones, and of these pools
    and blocks alone."""
    new = mysql.insert(months).values(product_id=product_id, first_day=first, **values)
    connection.execute(new.on_duplicate_key_update(**values))
    mine = connection, product_id, first
    _replace(*mine, kept_charges, rows, _kept(*mine, kept_charges) if of is None else of)
    _replace(*mine, kept_pools, pools, _kept(*mine, kept_pools, None if of is None else {r["owner_id"] for r in pools}))
    k = t.kept_readings
    others = sa.delete(k).where(k.c.product_id == product_id, k.c.first_day == first)
    connection.execute(others if of is None else others.where(k.c.block.in_(readings)))
    blocks = [{"block": block, "figures": packed} for block, packed in readings.items()]
    for some in batched(blocks):
        connection.execute(sa.insert(k), [row | {"product_id": product_id, "first_day": first} for row in some])


def _kept(
    connection: sa.Connection, product_id: int, first: date, table: sa.Table, of: Collection[int] | None = None
) -> KeptFigures:
    """What a table has of a product's month, or of some of it, by the key's first column."""
    key, figures = _KEYS[table], _FIGURES[table]
    wanted = sa.select(*(table.c[name] for name in (*key, *figures)))
    wanted = wanted.where(table.c.first_day == first, table.c.product_id == product_id)
    parts = [wanted] if of is None else [wanted.where(table.c[key[0]].in_(part)) for part in batched(of)]
    rows = (tuple(row) for part in parts for row in connection.execute(part))
    return {row[: len(key)]: row[len(key) :] for row in rows}


def _replace(
    connection: sa.Connection,
    product_id: int,
    first: date,
    table: sa.Table,
    rows: list[dict[str, Any]],
    there: KeptFigures,
) -> None:
    """Let these rows be there of a product's month in place of others."""
    key, figures = _KEYS[table], _FIGURES[table]
    wanted = {tuple(row[name] for name in key): row for row in rows}
    mine = [table.c.first_day == first, table.c.product_id == product_id]
    for part in batched(there.keys() - wanted.keys()):
        gone = sa.tuple_(*(table.c[name] for name in key)).in_(part)
        connection.execute(sa.delete(table).where(*mine, gone))
    other = [row for each, row in wanted.items() if there.get(each) != tuple(row[name] for name in figures)]
    put = mysql.insert(table)
    statement = put.on_duplicate_key_update({name: put.inserted[name] for name in figures})
    for some in batched(other):
        connection.execute(statement, [row | {"product_id": product_id, "first_day": first} for row in some])
