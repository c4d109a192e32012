"""Statements, for whoever may see them."""

from __future__ import annotations

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import invalid, not_found
from fair_ladle.app.statements import closing, totals
from fair_ladle.app.statements.billing import BillingPeriod, parse_month
from fair_ladle.app.statements.ledger import Ledger, Statement


def statements(tx: Transaction, actor: Actor, buyer: str, month: str) -> tuple[Ledger, tuple[Statement, ...]]:
    """A buyer's statements of a month, one a currency, for whoever runs the buyer or an account above it. What a former
    seller goes on adjusting is told only to whoever runs that seller, or an account above it."""
    first, _ = parse_month(month)
    ledger = Ledger(tx, [buyer])
    period = ledger.period(first)
    row = accounts_service.row_in_scope(period.accounts, actor, buyer)
    if row == 0:
        raise invalid(f"{buyer} is the operator; it has no seller and so no statement.", "buyer")
    known, present = accounts_service.known(tx), period.seller_of(buyer)
    found = [
        each
        for each in ledger.statements(buyer, first)
        if each.seller == present or accounts_service.is_in_scope(known, actor, each.seller)
    ]
    return ledger, tuple(found)


def may_see_cost(period: BillingPeriod, actor: Actor, buyer: str) -> bool:
    """Costs are the seller's: only who runs the seller sees them."""
    seller = period.seller_of(buyer)
    if seller is None:
        return False
    tree, top = period.accounts.tree, accounts_service.top_row(period.accounts, actor)
    return top in tree.path_up(tree.row(seller))


def seller_as_seen(accounts: Accounts, actor: Actor, seller: str) -> str:
    """A seller by its code, or, where it is the account above the actor's branch, by its name: nothing more of it is
    said."""
    if accounts_service.is_in_scope(accounts, actor, seller) or seller not in accounts.tree:
        return seller
    return accounts.name(accounts.tree.row(seller))


def verify(tx: Transaction, actor: Actor) -> list[tuple[str, str, str, str]]:
    """What is kept of months and does not agree with the facts, and closed statements that do not with themselves."""
    if actor.scope is not None:
        raise not_found("installation", actor.scope)
    return [*totals.differences(tx), *closing.differences(tx)]
