"""One account's page over HTTP."""

from __future__ import annotations

from datetime import date
from typing import Any

from pydantic import BaseModel, Field

from fair_ladle.app.account_admin import templates as shapes
from fair_ladle.app.account_admin import usecases
from fair_ladle.app.account_admin.templates import Shape
from fair_ladle.app.accounts.service import Accounts, top_row
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.http import Db, Who
from fair_ladle.app.plumbing.routing import Router

routes = Router("/api/accounts", "accounts", sees="accounts.see", changes="accounts.change")


class SubAccount(BaseModel):
    """An account directly below."""

    account: str
    name: str
    kind: str
    status: str


class AccountBody(BaseModel):
    """One account's own facts; those of the account above only where that is in sight."""

    account: str
    name: str
    kind: str
    parent: str | None
    parent_name: str | None
    currency: str | None
    admin_email: str | None
    billing_email: str | None
    status: str
    """active, suspended or closed; where an account above it is suspended or closed, that counts."""
    own_status: str
    status_since: date | None
    charged: bool
    warnings: list[str]
    below: list[SubAccount]
    people: dict[str, int]
    """How many the branch has, by status."""


class TemplateBody(BaseModel):
    """A shape kept under a name."""

    name: str
    shape: Shape
    made_by: str


class KeepTemplate(BaseModel):
    """The account whose shape to keep, and contacts for accounts made after it."""

    name: str = Field(min_length=1, max_length=200)
    account: str = Field(max_length=64)
    admin_email: str | None = Field(default=None, max_length=254)
    billing_email: str | None = Field(default=None, max_length=254)


class AccountEdit(BaseModel):
    """What can be changed of an account."""

    name: str = Field(min_length=1, max_length=200)
    admin_email: str | None = Field(default=None, max_length=254)
    billing_email: str | None = Field(default=None, max_length=254)


class SettingBody(BaseModel):
    """How long something lasts for an account: ``in_force`` there, ``own`` set by it (null = as the account above). One
    with ``choices`` has the place of one of them."""

    name: str
    words: str
    unit: str
    in_force: int
    own: int | None
    least: int
    most: int
    choices: list[str]


class SettingEdit(BaseModel):
    """Another value; null = as the account above."""

    value: int | None


def _body(tx: Transaction, who: Actor, accounts: Accounts, row: int) -> AccountBody:
    facts, tree, top = accounts.facts[row], accounts.tree, top_row(accounts, who)
    parent = int(tree.parent[row]) if row != top else -1
    below = [each for each in tree.branch(row).tolist() if int(tree.parent[each]) == row and each != row]
    return AccountBody(
        account=facts.code,
        name=facts.name,
        kind=facts.kind,
        parent=tree.codes[parent] if parent >= 0 else None,
        parent_name=accounts.name(parent) if parent >= 0 else None,
        currency=accounts.inherited(row, "currency"),
        admin_email=facts.admin_email,
        billing_email=facts.billing_email,
        warnings=usecases.missing_contacts(facts),
        status=accounts.status(row),
        own_status=facts.status or "active",
        status_since=facts.status_since,
        charged=not accounts.uncharged[row],
        people=usecases.people_of(tx, who, facts.code),
        below=[
            SubAccount(
                account=tree.codes[each],
                name=accounts.name(each),
                kind=accounts.facts[each].kind,
                status=accounts.status(each),
            )
            for each in below
        ],
    )


@routes.get("/templates", response_model=list[TemplateBody])
def templates(db: Db, who: Who) -> Any:
    """The templates of one's branch."""
    return [
        TemplateBody(name=each.name, shape=each.shape, made_by=each.made_by) for each in db.run(shapes.templates, who)
    ]


@routes.put("/templates", response_model=TemplateBody)
def keep_template(body: KeepTemplate, db: Db, who: Who) -> Any:
    """Keep an account's shape as a template, in the place of one of the same name."""
    kept = db.run(shapes.keep, who, body.name, body.account, body.admin_email, body.billing_email)
    return TemplateBody(name=kept.name, shape=kept.shape, made_by=kept.made_by)


@routes.delete("/templates/{name}", status_code=204)
def forget_template(name: str, db: Db, who: Who) -> None:
    """Put a template away."""
    db.run(shapes.forget, who, name)


@routes.get("/{account}/shape", response_model=Shape)
def shape(account: str, db: Db, who: Who) -> Any:
    """What a new account could be made after: the departments, allocations and own rates of this one."""
    return db.run(shapes.shape_of, who, account)


@routes.get("/{account}/settings", response_model=list[SettingBody])
def settings(account: str, db: Db, who: Who) -> Any:
    """How long things last for an account."""
    return [
        SettingBody(
            name=each.name,
            words=each.setting.words,
            unit=each.setting.unit,
            in_force=each.in_force,
            own=each.own,
            least=each.setting.least,
            most=each.setting.most,
            choices=list(each.setting.choices),
        )
        for each in db.snapshot(usecases.settings, who, account)
    ]


@routes.put("/{account}/settings/{name}", status_code=204)
def set_setting(account: str, name: str, body: SettingEdit, db: Db, who: Who) -> None:
    """Set how long something lasts for an account and those below."""
    db.run(usecases.set_setting, who, account, name, body.value)


@routes.get("/{account}", response_model=AccountBody)
def account(account: str, db: Db, who: Who) -> Any:
    """One account of one's branch."""
    return db.run(lambda tx: _body(tx, who, *usecases.one(tx, who, account)))


@routes.put("/{account}", response_model=AccountBody)
def edit(account: str, body: AccountEdit, db: Db, who: Who) -> Any:
    """Rename an account or change its contacts; the code stays."""
    return db.run(
        lambda tx: _body(tx, who, *usecases.edit(tx, who, account, body.name, body.admin_email, body.billing_email))
    )
