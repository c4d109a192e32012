"""A seller's month as entries of a journal, each document balanced; and what its books call things."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal

import sqlalchemy as sa

from fair_ladle.app.accounting.tables import journal_accounts
from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.log import service as log_service
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import invalid, not_found
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.statements import closed_store, store
from fair_ladle.app.statements.billing import BillingPeriod, parse_month
from fair_ladle.app.statements.documents import with_particulars
from fair_ladle.app.statements.ledger import Statement
from fair_ladle.app.statements.seller_months import closed_statements, is_closed, open_statements, statements_of
from fair_ladle.core.costing import currencies_of
from fair_ladle.core.statement_lines import Kind, TaxStatus

ROLES: dict[str, str] = {
    "receivable": "What buyers owe for closed months",
    "accrual": "What an open month comes to so far",
    "revenue": "Usage, charges and adjustments",
    "reductions": "Discounts and credits",
    "tax": "Tax owed",
    "cost": "What pools cost",
    "purchases": "What is owed for pools",
}
"""What entries are for; each has an account in the seller's books."""
BY_PRODUCT, BY_PERCENT = ("revenue", "cost"), ("tax",)
MOST = 500
Accounts = Mapping[tuple[str, str], str]
"""The account of a role, and of a product or percentage of it ('' = all others)."""


@dataclass(frozen=True)
class Entry:
    """A row of the journal: one side of a document. ``of``: the product, or the percentage of tax."""

    day: date
    document: str
    role: str
    of: str
    account: str
    buyer: str
    cost_centre: str | None
    text: str
    debit: Decimal
    credit: Decimal
    currency: str


def accounts_of(tx: Transaction, actor: Actor, seller: str) -> dict[tuple[str, str], str]:
    """What a seller's books call things, for whoever runs it or an account above it. A role without an account has its
    own name."""
    known = accounts_service.known(tx)
    seller_id = int(known.ids[accounts_service.row_in_scope(known, actor, seller)])
    rows = tx.connection.execute(sa.select(journal_accounts).where(journal_accounts.c.seller_id == seller_id))
    found = {(role, ""): role for role in ROLES} | {(row.role, row.of): row.account for row in rows}
    order = list(ROLES)
    return dict(sorted(found.items(), key=lambda each: (order.index(each[0][0]), each[0][1])))


def set_accounts(tx: Transaction, actor: Actor, seller: str, wanted: Sequence[tuple[str, str, str]]) -> None:
    """Say what a seller's books call things: role, product or percentage ('' = all others), account.

    Replaces the seller's rows; the last one who says it counts.
    """
    known = accounts_service.known(tx)
    seller_id = int(known.ids[accounts_service.row_in_scope(known, actor, seller)])
    products = {each.code for each in pools_service.products(tx)}
    rows: dict[tuple[str, str], str] = {}
    if len(wanted) > MOST:
        raise invalid(f"At most {MOST} accounts.", "accounts")
    for place, (role, of, account) in enumerate(wanted):
        where = f"accounts.{place}"
        if role not in ROLES:
            raise invalid(f"One of {', '.join(ROLES)}.", f"{where}.role")
        if of and role not in (*BY_PRODUCT, *BY_PERCENT):
            raise invalid(f"{role} has one account.", f"{where}.of")
        if of and role in BY_PRODUCT and of not in products:
            raise invalid(f"There is no product {of}.", f"{where}.of")
        if not account.strip() or len(account) > 64 or not account.isprintable():
            raise invalid("An account's number or name, at most 64 characters.", f"{where}.account")
        if (role, of) in rows:
            raise invalid(f"{role} {of}".strip() + " is there twice.", f"{where}.of")
        rows[role, of] = account.strip()
    table = journal_accounts
    tx.connection.execute(sa.delete(table).where(table.c.seller_id == seller_id))
    values = [
        {"seller_id": seller_id, "role": role, "of": of, "account": account} for (role, of), account in rows.items()
    ]
    if values:
        tx.connection.execute(sa.insert(table), values)
    entry = log_service.Entry("journal accounts", seller, seller_id, None, {"accounts": str(len(values))})
    log_service.write(tx, actor, seller_id, [entry])


def journal(tx: Transaction, actor: Actor, seller: str, month: str) -> Iterator[Entry]:
    """The entries of a seller's month, document by document: its statements, owed where the month is closed and accrued
    without tax where not; and what its pools cost, by the facts as they are now."""
    accounts, (first, last) = accounts_of(tx, actor, seller), parse_month(month)
    centres = _cost_centres(tx)
    if is_closed(tx, seller, first):
        for _, statement in closed_statements(tx, seller, first):
            yield from of_statement(tx, statement, accounts, centres)
    else:
        for statement in open_statements(tx, seller, first):
            yield from of_statement(tx, statement, accounts, centres)
    yield from _of_costs(tx, seller, first, last, accounts, centres)


def _cost_centres(tx: Transaction) -> dict[str, str]:
    return store.cost_centres(tx.connection)


def _named(accounts: Accounts, role: str, of: str) -> str:
    return accounts.get((role, of)) or accounts[role, ""]


def of_statement(tx: Transaction, statement: Statement, accounts: Accounts, centres: Mapping[str, str]) -> list[Entry]:
    """The entries of one statement; both sides come to the same."""
    document = statement.number or f"open {statement.first:%Y-%m}"
    issued = with_particulars(tx, statement).issued if statement.number else None

    def entry(role: str, of: str, text: str, debit: Decimal) -> Entry:
        nothing = Decimal(0).scaleb(int(debit.as_tuple().exponent))
        return Entry(
            issued or statement.last,
            document,
            role,
            of,
            _named(accounts, role, of),
            statement.buyer,
            centres.get(statement.buyer),
            text,
            debit if debit > 0 else nothing,
            -debit if debit < 0 else nothing,
            statement.currency,
        )

    names = {line.product.code: line.product.name for line in statement.lines}
    texts = {each.reference: each.description for each in statement.charges}
    owed = statement.total if statement.number else statement.composed.net
    found = [entry("receivable" if statement.number else "accrual", "", f"{statement.first:%B %Y}", owed)]
    for kind, reference, by_percent in statement.amounts():
        amount = sum(by_percent.values(), Decimal(0))
        if kind is Kind.TAX:
            if statement.number and statement.tax is TaxStatus.NORMAL:
                found.append(entry("tax", reference, f"Tax {reference} %", -amount))
            continue
        role = "reductions" if kind in (Kind.DISCOUNT, Kind.CREDIT) else "revenue"
        product = reference if kind is Kind.USAGE else ""
        found.append(entry(role, product, names.get(reference) or texts.get(reference) or reference, -amount))
    return [each for each in found if each.debit or each.credit]


def _of_costs(
    tx: Transaction, seller: str, first: date, last: date, accounts: Accounts, centres: Mapping[str, str]
) -> Iterator[Entry]:
    """What each pool of a seller cost in a month, by who bears it, against what is owed for it."""
    period = BillingPeriod(tx, first, last)
    for product in period.products:
        month = period.month(product.code)
        for pool in month.pools:
            if period.accounts.tree.codes[period.accounts.row_of_id[pool.owner_id]] != seller:
                continue
            for currency in currencies_of(pool.lots):
                total = Decimal(0)
                for bearer in period.bearers(month, pool, currency, product.spreads_idle):
                    if not bearer.cost:
                        continue
                    total += bearer.cost
                    who = bearer.account or seller
                    yield Entry(
                        last,
                        f"cost {first:%Y-%m} {product.code} {currency}",
                        "cost",
                        product.code,
                        _named(accounts, "cost", product.code),
                        who,
                        centres.get(who),
                        product.name if bearer.account else f"{product.name}, idle",
                        bearer.cost,
                        bearer.cost * 0,
                        currency,
                    )
                if total:
                    yield Entry(
                        last,
                        f"cost {first:%Y-%m} {product.code} {currency}",
                        "purchases",
                        "",
                        _named(accounts, "purchases", ""),
                        seller,
                        centres.get(seller),
                        product.name,
                        total * 0,
                        total,
                        currency,
                    )


@dataclass(frozen=True)
class TaxRow:
    """What closed statements of some months come to under one rate or status, in a currency."""

    currency: str
    tax: str
    base: Decimal
    amount: Decimal
    statements: int


def tax_summary(tx: Transaction, actor: Actor, seller: str, since: str, until: str) -> list[TaxRow]:
    """The tax of a seller's closed months from one to another; what is not taxed is a row without a name."""
    known = accounts_service.known(tx)
    accounts_service.row_in_scope(known, actor, seller)
    (first, _), (last, _) = parse_month(since), parse_month(until)
    found: dict[tuple[str, str], list[Decimal]] = {}

    def add(currency: str, name: str, base: Decimal, amount: Decimal) -> None:
        mine = found.setdefault((currency, name), [Decimal(0), Decimal(0), Decimal(0)])
        mine[0], mine[1], mine[2] = mine[0] + base, mine[1] + amount, mine[2] + 1

    for month in closed_store.months_of(tx.connection, int(known.ids[known.tree.row(seller)]), first, last):
        for _, statement in closed_statements(tx, seller, month):
            rest = statement.composed.net
            for tax in statement.composed.taxes:
                add(statement.currency, tax.name, tax.base, tax.amount)
                rest -= tax.base
            if rest:
                add(statement.currency, "", rest, rest * 0)
    return [TaxRow(*key, base, amount, int(count)) for key, (base, amount, count) in sorted(found.items())]


def differences(tx: Transaction, actor: Actor) -> list[tuple[str, str, str, str]]:
    """Closed months whose journal does not come to what their statements come to, or does not balance."""
    if actor.scope is not None:
        raise not_found("installation", actor.scope)
    wrong = []
    known, plain = accounts_service.known(tx), {(role, ""): role for role in ROLES}
    for row in closed_store.closed_months(tx.connection):
        seller = known.tree.codes[known.row_of_id[row.seller_id]]
        owed = closed_store.sum_of(tx.connection, row.seller_id, row.first_day)
        booked: dict[str, Decimal] = {}
        for statement in statements_of(tx, seller, row.first_day):
            entries = of_statement(tx, statement, plain, {})
            where = f"{seller} {statement.number}"
            debit, credit = sum(each.debit for each in entries), sum(each.credit for each in entries)
            if debit != credit:
                wrong.append(("journal", where, f"{debit:f}", f"{credit:f}"))
            for each in entries:
                if each.role == "receivable":
                    booked[each.currency] = booked.get(each.currency, Decimal(0)) + each.debit - each.credit
        for currency, total in owed.items():
            if booked.get(currency, Decimal(0)) != total:
                where = f"{seller} {row.first_day:%Y-%m} {currency}"
                wrong.append(("journal", where, f"{booked.get(currency, Decimal(0)):f}", f"{total:f}"))
    return wrong
