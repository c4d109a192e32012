"""How people come in: added by an admin, invited by mail, and by accepting."""

from __future__ import annotations

import hashlib
import re
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.log import service as log_service
from fair_ladle.app.people import service as people_service
from fair_ladle.app.people_admin import store
from fair_ladle.app.people_admin.acting import send_invitations
from fair_ladle.app.people_admin.listing import found_in_scope
from fair_ladle.app.people_admin.service import usernames_for
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.addresses import email as an_email
from fair_ladle.app.plumbing.addresses import name as a_name
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import Problem, Refused, conflict, invalid
from fair_ladle.app.sign_in import delegating
from fair_ladle.core.calendar import day_name

USERNAME = re.compile(r"^[A-Za-z0-9][A-Za-z0-9._@+-]{0,127}$")

MEMBER = "member"


@dataclass(frozen=True)
class NewPerson:
    """Somebody to add; without a username one is made from the name."""

    account: str
    display_name: str
    email: str | None = None
    username: str | None = None
    title: str | None = None
    department: str | None = None
    invite: bool = True
    link: bool = False
    """Whether an address known in another account of the branch is the same person, who joins here too."""
    role: str = MEMBER
    """Any other than a member's: they run the account besides, in a ready-made role (its key) or a composed one (its
    number)."""


def add(tx: Transaction, actor: Actor, new: NewPerson) -> str:
    """A new person of an account of the branch; their username. Invited by mail, or active at once."""
    accounts = accounts_service.known(tx)
    row = accounts_service.row_in_scope(accounts, actor, new.account)
    if accounts.status(row) != "active":
        raise conflict(f"{accounts.name(row)} is {accounts.status(row)}; no one new can join it.")
    name = a_name(new.display_name, "display_name")
    email = an_email(new.email, "email")
    if new.invite and not email:
        raise invalid("An invitation needs an e-mail address.", "email")
    joined = _refuse_known_email(tx, actor, accounts, email, link_to=int(accounts.ids[row]) if new.link else None)
    invite = new.invite and not joined
    username = (new.username or "").strip() or usernames_for(tx, [name])[0]
    if not USERNAME.fullmatch(username):
        raise invalid(
            f"{username[:80]!r} is no username; letters, digits and . _ @ + - after the first, 128 at most.", "username"
        )
    if store.one(tx.connection, username) is not None:
        raise invalid(f"The username {username} is taken.", "username")
    added = people_service.add(
        tx,
        [
            {
                "account_id": int(accounts.ids[row]),
                "username": username,
                "display_name": name,
                "email": email,
                "status": "invited" if invite else "active",
                "invited_at": tx.now if invite else None,
                "title": _text(new.title),
                "department": _text(new.department),
                "protected": False,
            }
        ],
    )
    log_service.write(
        tx,
        actor,
        None,
        [
            log_service.Entry(
                "added",
                username,
                int(accounts.ids[row]),
                None,
                {"name": name, "status": "invited" if invite else "active"},
            )
        ],
    )
    if new.role != MEMBER:
        delegating.let_run(tx, actor, email or "", name, int(accounts.ids[row]), new.role)
    if invite:
        send_invitations(tx, actor, accounts, [added[username]])
    return username


def _text(text: str | None) -> str | None:
    return (text or "").strip() or None


def _refuse_known_email(
    tx: Transaction,
    actor: Actor,
    accounts: accounts_service.Accounts,
    email: str | None,
    but_not: int | None = None,
    link_to: int | None = None,
) -> bool:
    """One address is one person, who may be linked to several accounts. Whoever is out of sight does not matter here,
    so that nobody learns of them.

    Whether somebody who joined already is linked."""
    joined = False
    for each in people_service.by_email(tx, {email}).get(email, []) if email else []:
        if (
            each.id == but_not
            or each.status == "removed"
            or not accounts_service.sees(accounts, actor, each.account_id)
        ):
            continue
        if link_to is not None and each.account_id != link_to:
            joined = joined or each.status == "active"
            continue
        raise conflict(
            f"{email} is {each.display_name} of {accounts.name(accounts.row_of_id[each.account_id])} already; link or "
            "move that person, or give another address.",
            username=each.username,
            name=each.display_name,
        )
    return joined


@dataclass(frozen=True)
class PersonDetails:
    """What can be changed of a person."""

    display_name: str
    email: str | None
    title: str | None
    department: str | None


def edit(tx: Transaction, actor: Actor, username: str, facts: PersonDetails) -> None:
    """Another name, address, title or department."""
    accounts, found = found_in_scope(tx, actor, username)
    if found.source != "here":
        raise conflict(f"{found.display_name} is kept by {found.source}; change it there.")
    values = {
        "display_name": a_name(facts.display_name, "display_name"),
        "email": an_email(facts.email, "email"),
        "title": _text(facts.title),
        "department": _text(facts.department),
    }
    if values["email"] != (found.email or "").lower():
        _refuse_known_email(tx, actor, accounts, values["email"], found.id)
    before = {name: getattr(found, name) for name, value in values.items() if getattr(found, name) != value}
    if before:
        people_service.change(tx, [found.id], values)
        log_service.write(
            tx,
            actor,
            None,
            [log_service.Entry("changed", username, found.account_id, before, {name: values[name] for name in before})],
        )


@dataclass(frozen=True)
class Invitation:
    """An invitation as whoever has its link may see it."""

    name: str
    account: str
    until: datetime


def invitation(tx: Transaction, token: str) -> Invitation:
    """An open invitation by its token; refused with the reason where it is used, late or withdrawn."""
    row, account = _open_invitation(tx, token)
    return Invitation(row.display_name, account, row.expires_at)


def accept(tx: Transaction, token: str) -> Invitation:
    """Join: once, and in time."""
    row, account = _open_invitation(tx, token)
    people_service.use_invitation(tx, row.id)
    people_service.change(tx, [row.person_id], {"status": "active", "last_seen_at": tx.now})
    log_service.write(
        tx, Actor(row.display_name, "", None), None, [log_service.Entry("joined", row.username, row.account_id)]
    )
    return Invitation(row.display_name, account, row.expires_at)


def _open_invitation(tx: Transaction, token: str) -> tuple[Any, str]:
    row = people_service.invitation(tx, hashlib.sha256(token.encode()).hexdigest())
    if row is None:
        raise Refused(
            Problem(
                "not-found",
                "No such invitation",
                404,
                "This invitation does not exist. Ask your administrator for a new one.",
            )
        )
    if row.used_at is not None:
        raise conflict("This invitation was accepted already; there is nothing more to do.")
    if row.withdrawn_at is not None or row.status != "invited":
        raise conflict(
            "This invitation is no longer valid: a newer one was sent, or it was revoked. Ask your administrator."
        )
    if tx.now > row.expires_at:
        raise conflict(f"This invitation ended on {day_name(row.expires_at)}; ask your administrator for a new one.")
    accounts = accounts_service.known(tx)
    return row, accounts.name(accounts.row_of_id[row.account_id])
