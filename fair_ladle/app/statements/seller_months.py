"""All statements of one seller's month: as they were closed, or as they come out now."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.plumbing.database import Transaction, batched
from fair_ladle.app.plumbing.problems import not_found
from fair_ladle.app.statements import closed_store
from fair_ladle.app.statements.billing import BillingPeriod
from fair_ladle.app.statements.kept_books import unpacked
from fair_ladle.app.statements.ledger import Ledger, Statement, Wholes, statement_adapter

AT_ONCE = 200


def buyers_of(tx: Transaction, ledger: Ledger, period: BillingPeriod, seller: str) -> list[str]:
    """Who may get a statement, in tree order: who stands below the seller on the month's first day, and who has one of
    a closed month."""
    tree, accounts = period.accounts.tree, period.accounts
    seller_row = tree.row(seller)
    rows = {
        row for row in tree.branch(seller_row).tolist() if int(tree.parent[row]) == seller_row and row != seller_row
    }
    if seller in ledger.closed:
        former = closed_store.buyers_of(tx.connection, int(accounts.ids[seller_row]))
        rows |= {accounts.row_of_id[each] for each in former if each in accounts.row_of_id}
    return [tree.codes[row] for row in sorted(rows, key=lambda row: int(tree.depth_first[row]))]


def is_closed(tx: Transaction, seller: str, first: date) -> bool:
    """Whether a seller has closed the month that begins on a day."""
    seller_id = accounts_service.ids_by_code(tx, {seller})[seller]
    return closed_store.closing_of(tx.connection, seller_id, first) is not None


def closed_statements(tx: Transaction, seller: str, first: date) -> Iterator[tuple[int, Statement]]:
    """The statements (with their numbers in the database) of a closed month, in the order they were numbered, some at a
    time. Trusted: the caller has judged scope."""
    seller_id, after = accounts_service.ids_by_code(tx, {seller})[seller], 0
    while rows := closed_store.of_month(tx.connection, seller_id, first, after, AT_ONCE):
        for row in rows:
            yield row.id, statement_adapter.validate_json(unpacked(row.document)[0])
        after = rows[-1].id


def open_statements(tx: Transaction, seller: str, first: date) -> Iterator[Statement]:
    """The statements of a month that is not closed, in tree order, as they come out now. Trusted: the caller has judged
    scope."""
    every = Ledger(tx)
    period = every.period(first)
    if seller not in period.accounts.tree:
        raise not_found("seller in that month", seller)
    # Some at a time, read from their own branches: all of them at once do not fit beside anything else.
    wholes: Wholes = {}
    for part in batched(buyers_of(tx, every, period, seller), AT_ONCE):
        ledger = Ledger(tx, part, wholes)
        for buyer in part:
            yield from ledger.of_seller(seller, buyer, first)


def statements_of(tx: Transaction, seller: str, first: date) -> Iterator[Statement]:
    """Either. Trusted: the caller has judged scope."""
    if is_closed(tx, seller, first):
        yield from (statement for _, statement in closed_statements(tx, seller, first))
    else:
        yield from open_statements(tx, seller, first)
