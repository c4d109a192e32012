"""One account's own facts: looking at them and changing them. The code is given once and stays."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts import settings as settings_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.log import service as log_service
from fair_ladle.app.people import service as people_service
from fair_ladle.app.plumbing.actor import Actor, changes_rules
from fair_ladle.app.plumbing.addresses import email as an_email
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import invalid, not_found


def one(tx: Transaction, actor: Actor, code: str) -> tuple[Accounts, int]:
    """An account of the actor's branch, with the tree it stands in."""
    accounts = accounts_service.known(tx)
    return accounts, accounts_service.row_in_scope(accounts, actor, code)


def people_of(tx: Transaction, actor: Actor, code: str) -> dict[str, int]:
    """How many people an account's branch has, by status."""
    accounts = accounts_service.known(tx)
    row = accounts_service.row_in_scope(accounts, actor, code)
    return people_service.counts(tx, [int(each) for each in accounts.ids[accounts.tree.branch(row)]])


def missing_contacts(facts: Any) -> list[str]:
    """Which contacts a client or reseller lacks: every one has an admin and a billing contact at least."""
    if facts.kind not in ("client", "reseller"):
        return []
    lacking = [
        name for name, value in (("admin", facts.admin_email), ("billing contact", facts.billing_email)) if not value
    ]
    return [
        f"{facts.name} has no {name}: "
        f"{'no one is notified of requests and deadlines' if name == 'admin' else 'no one receives its statements'}."
        for name in lacking
    ]


def edit(
    tx: Transaction, actor: Actor, code: str, name: str, admin_email: str | None, billing_email: str | None
) -> tuple[Accounts, int]:
    """Another name or other contacts."""
    accounts, row = one(tx, actor, code)
    facts = accounts.facts[row]
    name = name.strip()
    if not name:
        raise invalid("An account has a name.", "name")
    values = {
        "name": name,
        "admin_email": an_email(admin_email, "admin_email"),
        "billing_email": an_email(billing_email, "billing_email"),
    }
    before = {field: getattr(facts, field) for field, value in values.items() if getattr(facts, field) != value}
    if before:
        accounts_service.change(tx, int(accounts.ids[row]), values)
        after = {field: values[field] for field in before}
        log_service.write(tx, actor, None, [log_service.Entry("account changed", facts.code, facts.id, before, after)])
    return one(tx, actor, code)


@dataclass(frozen=True)
class SettingHere:
    """A setting of an account: what is in force, and what the account has set itself (None = as the account above)."""

    name: str
    setting: settings_service.Setting
    in_force: int
    own: int | None


def settings(tx: Transaction, actor: Actor, code: str) -> list[SettingHere]:
    """How long things last for an account of the actor's branch."""
    accounts, row = one(tx, actor, code)
    own, here = settings_service.own(tx, accounts, {row}), settings_service.in_force(tx, accounts, [row])[row]
    return [
        SettingHere(name, each, here[name], own.get((row, name))) for name, each in settings_service.SETTINGS.items()
    ]


def set_setting(tx: Transaction, actor: Actor, code: str, name: str, amount: int | None) -> None:
    """Set how long something lasts for an account and those below; None = as the account above."""
    changes_rules(actor)
    accounts, row = one(tx, actor, code)
    setting = settings_service.SETTINGS.get(name)
    if setting is None:
        raise not_found("setting", name)
    if amount is not None and not setting.least <= amount <= setting.most:
        most = " or ".join(setting.choices) or f"{setting.least} to {setting.most} {setting.unit}"
        raise invalid(f"{setting.words} {most}.", name)
    before = settings_service.own(tx, accounts, {row}).get((row, name))
    if before == amount:
        return
    settings_service.put(tx, int(accounts.ids[row]), name, amount)

    def said(value: int | None) -> str:
        return "as the parent account" if value is None else setting.said(value)

    entry = log_service.Entry(
        "setting changed", setting.words, int(accounts.ids[row]), {"value": said(before)}, {"value": said(amount)}
    )
    log_service.write(tx, actor, None, [entry])
