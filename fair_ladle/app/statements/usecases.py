"""Statements, for whoever may see them."""

from __future__ import annotations

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import invalid, not_found
from fair_ladle.app.statements import closing, totals
from fair_ladle.app.statements.billing import BillingPeriod, parse_month
from fair_ladle.app.statements.ledger import Ledger, Statement


def statements(tx: Transaction, actor: Actor, buyer: str, month: str) -> tuple[Ledger, tuple[Statement, ...]]:
    """A buyer's statements of a month, one a currency, for whoever runs the buyer or an account above it."""
    first, _ = parse_month(month)
    ledger = Ledger(tx, [buyer])
    row = accounts_service.row_in_scope(ledger.period(first).accounts, actor, buyer)
    if row == 0:
        raise invalid(f"{buyer} is the operator; it has no seller and so no statement.", "buyer")
    return ledger, ledger.statements(buyer, first)


def may_see_cost(period: BillingPeriod, actor: Actor, buyer: str) -> bool:
    """Costs are the seller's: only who runs the seller sees them."""
    seller = period.seller_of(buyer)
    if seller is None:
        return False
    tree, top = period.accounts.tree, accounts_service.top_row(period.accounts, actor)
    return top in tree.path_up(tree.row(seller))


def verify(tx: Transaction, actor: Actor) -> list[tuple[str, str, str, str]]:
    """What is kept of months and does not agree with the facts, and closed statements that do not with themselves."""
    if actor.scope is not None:
        raise not_found("installation", actor.scope)
    return [*totals.differences(tx), *closing.differences(tx)]
