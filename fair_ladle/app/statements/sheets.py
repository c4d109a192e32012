"""A statement as rows of a table, as the command line prints them and files have them."""

from __future__ import annotations

from decimal import Decimal

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.statements.ledger import Statement
from fair_ladle.app.statements.usecases import seller_as_seen, statements
from fair_ladle.connectors.sheets_out import Cell
from fair_ladle.core.statement_lines import Kind

COLUMNS = (
    *("seller", "buyer", "product", "account", "basis", "quantity", "overage_quantity", "amount", "currency", "kind"),
    "number",
)


def statement_rows(statement: Statement, seller: str) -> list[list[Cell]]:
    """Every line with its accounts' parts, then the other kinds, under COLUMNS; ``seller`` as its reader may see it."""
    tail: list[Cell] = [statement.currency]
    rows: list[list[Cell]] = []
    for line in statement.lines:
        shared: list[Cell] = [seller, statement.buyer, line.product.code]
        figures: list[Cell] = [line.charge.quantity, line.charge.overage_quantity, line.charge.amount]
        rows.append([*shared, None, line.rate.basis, *figures, *tail, Kind.USAGE.value, statement.number])
        for part in line.shares:
            parts: list[Cell] = [part.quantity, None, part.amount]
            rows.append([*shared, part.account, line.rate.basis, *parts, *tail, Kind.USAGE.value, statement.number])
    quantities = {each.reference: each.quantity for each in statement.charges}
    for kind, reference, by_percent in statement.amounts():
        if kind is not Kind.USAGE:
            quantity = quantities.get(reference) if kind is Kind.CHARGE else None
            amount = sum(by_percent.values(), Decimal(0))
            other: list[Cell] = [reference, None, None, quantity, None, amount, *tail, kind.value, statement.number]
            rows.append([seller, statement.buyer, *other])
    return rows


def table(tx: Transaction, actor: Actor, buyer: str, month: str) -> list[list[Cell]]:
    """A buyer's statements of a month under COLUMNS, for whoever runs the buyer or an account above it."""
    accounts, (_, found) = accounts_service.known(tx), statements(tx, actor, buyer, month)
    return [row for each in found for row in statement_rows(each, seller_as_seen(accounts, actor, each.seller))]
