"""Shapes of accounts, taken from one that is there or kept as a template, that new accounts are made after.

A shape is the departments below an account, what is allocated to each, the rates written for it, and its contacts.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from pydantic import BaseModel

from fair_ladle.app.account_admin import store
from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.allocations import service as allocations
from fair_ladle.app.drafts.change_types import RateTerms, Terms
from fair_ladle.app.drafts.reversing import terms_of
from fair_ladle.app.log import service as log_service
from fair_ladle.app.plumbing.actor import Actor, changes_rules
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import invalid, not_found
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.statements import rate_cards


class ShapeAccount(BaseModel):
    """An account of a shape; the first has no parent within it."""

    code: str
    name: str
    parent: str | None
    kind: Literal["reseller", "client", "sub-account"]
    unallocated: Literal["free", "none"] = "free"


class ShapeTerms(BaseModel):
    """What is allocated to an account of a shape."""

    account: str
    product: str
    terms: Terms


class ShapeRate(RateTerms):
    """How its seller prices a product for the shape's first account alone."""

    product: str


class Shape(BaseModel):
    """What a new account can be made after; accounts stand parents first."""

    accounts: list[ShapeAccount]
    terms: list[ShapeTerms]
    rates: list[ShapeRate]
    admin_email: str | None
    billing_email: str | None


@dataclass(frozen=True)
class Template:
    """A shape kept under a name."""

    name: str
    shape: Shape
    made_by: str


MOST_ACCOUNTS = 500


def shape_of(tx: Transaction, actor: Actor, code: str) -> Shape:
    """The shape of an account of the branch as it is today; pools that its own branch owns stay behind."""
    accounts = accounts_service.known(tx)
    row = accounts_service.row_in_scope(accounts, actor, code)
    if row == 0:
        raise invalid("The operator is no model for an account below it.", "account")
    tree, day = accounts.tree, accounts_service.today(tx)
    rows = [each for each in tree.branch(row).tolist() if accounts.status(each) != "closed"]
    if len(rows) > MOST_ACCOUNTS:
        raise invalid(f"{accounts.name(row)} has {len(rows)} accounts; a shape has at most {MOST_ACCOUNTS}.", "account")
    products = pools_service.products(tx)
    by_id = {each.id: each for each in products}
    owners = {pool.owner_id for pool in pools_service.pools(tx, products)}
    inside = {int(accounts.ids[each]): each for each in rows if int(accounts.ids[each]) not in owners}
    there = allocations.in_force(tx, list(by_id), list(inside), day)
    return Shape(
        accounts=[
            ShapeAccount(
                code=tree.codes[each],
                name=accounts.name(each),
                parent=None if each == row else tree.codes[int(tree.parent[each])],
                kind=accounts.facts[each].kind,
                unallocated=accounts.facts[each].unallocated,
            )
            for each in rows
        ],
        terms=[
            ShapeTerms(account=tree.codes[inside[account]], product=by_id[product].code, terms=terms)
            for (account, product), version in sorted(there.items())
            if (terms := terms_of(version))
        ],
        rates=[] if row == accounts_service.top_row(accounts, actor) else _rates_of(tx, accounts, row),
        admin_email=None,
        billing_email=None,
    )


def _rates_of(tx: Transaction, accounts: accounts_service.Accounts, row: int) -> list[ShapeRate]:
    """The newest rate of every product that its seller wrote for this buyer alone."""
    buyer, seller = accounts.tree.codes[row], accounts.tree.codes[int(accounts.tree.parent[row])]
    newest = {}
    for rate in rate_cards.RateCards(tx, accounts).rates:
        if rate.buyer == buyer and rate.seller == seller and rate.first_day <= accounts_service.today(tx):
            newest[rate.product] = rate
    return [
        ShapeRate.model_validate(
            {
                "product": rate.product,
                "basis": rate.basis.value,
                "aggregate": rate.aggregate.value,
                "tier_mode": rate.tier_mode.value,
                "included": rate.included,
                "overage_price": rate.overage_price,
                "minimum": rate.minimum,
                "fixed_fee": rate.fixed_fee,
                "currency": rate.currency,
                "committed": rate.committed,
                "fees": rate.fees.value,
                "markup": rate.markup,
                "tiers": [{"from_quantity": tier.from_quantity, "unit_price": tier.unit_price} for tier in rate.tiers],
            }
        )
        for rate in newest.values()
    ]


def templates(tx: Transaction, actor: Actor) -> list[Template]:
    """The templates of the branch, by name."""
    return [
        Template(row.name, Shape.model_validate(row.shape), row.made_by)
        for row in store.templates(tx.connection, _branch(tx, actor))
    ]


def keep(
    tx: Transaction, actor: Actor, name: str, account: str, admin_email: str | None, billing_email: str | None
) -> Template:
    """Keep an account's shape as a template, with contacts for those that have none of their own yet."""
    changes_rules(actor)
    name = name.strip()
    if not name:
        raise invalid("A template has a name.", "name")
    shape = shape_of(tx, actor, account).model_copy(update={"admin_email": admin_email, "billing_email": billing_email})
    branch = _branch(tx, actor)
    store.put(
        tx.connection,
        {
            "branch_id": branch,
            "name": name,
            "shape": shape.model_dump(mode="json"),
            "made_by": actor.name,
            "made_at": tx.now,
        },
    )
    log_service.write(tx, actor, None, [log_service.Entry("template kept", name, branch, None, {"after": account})])
    return Template(name, shape, actor.name)


def forget(tx: Transaction, actor: Actor, name: str) -> None:
    """Put a template away; accounts made after it stay as they are."""
    changes_rules(actor)
    branch = _branch(tx, actor)
    if not store.forget(tx.connection, branch, name):
        raise not_found("template", name)
    log_service.write(tx, actor, None, [log_service.Entry("template put away", name, branch)])


def _branch(tx: Transaction, actor: Actor) -> int:
    accounts = accounts_service.known(tx)
    return int(accounts.ids[accounts_service.top_row(accounts, actor)])
