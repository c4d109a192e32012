"""E-mail domains that are an account's: whoever proves an address there joins at once, or waits to be let in."""

from __future__ import annotations

import hashlib
import re
import secrets
from dataclasses import dataclass
from datetime import timedelta
from typing import Any, Literal

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.log import service as log_service
from fair_ladle.app.people import service as people_service
from fair_ladle.app.people_admin import store
from fair_ladle.app.people_admin.rows import JoinRecord
from fair_ladle.app.people_admin.service import usernames_for
from fair_ladle.app.plumbing import outbox
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.addresses import email as an_email
from fair_ladle.app.plumbing.addresses import greeting, in_a_mail
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import Problem, Refused, conflict, invalid, not_allowed, not_found

Joining = Literal["at once", "approved"]
DOMAIN = re.compile(r"^(?=.{4,253}$)([a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?\.)+[a-z][a-z0-9-]{0,61}[a-z0-9]$")
LINK_HOLDS = timedelta(days=1)
MOST_ASKED = 3
"""Mails to one address within the time a link holds; more are not sent."""
MOST_OF_A_DOMAIN = 200


@dataclass(frozen=True)
class WaitingToJoin:
    """Somebody who proved their address and waits to be let in."""

    id: int
    name: str
    email: str
    account: str
    account_name: str
    since: Any


@dataclass(frozen=True)
class JoinWish:
    """What a link in the mail is about: who, into which account, and what has become of it."""

    name: str
    account: str
    state: Literal["open", "waits", "joined", "refused"]
    at_once: bool


def domains(tx: Transaction, actor: Actor) -> tuple[Accounts, list[Any]]:
    """The domains of the branch: domain, account_id, joining and approved_at, by name."""
    accounts = accounts_service.known(tx)
    return accounts, [
        row for row in store.domains(tx.connection) if accounts_service.sees(accounts, actor, row.account_id)
    ]


def waiting_for_approval(tx: Transaction, actor: Actor) -> list[tuple[str, str]]:
    """Domains that an account wants and the actor can approve, with the account's name: only the operator's."""
    accounts = accounts_service.known(tx)
    if accounts_service.top_row(accounts, actor) != 0:
        return []
    return [
        (row.domain, accounts.name(accounts.row_of_id[row.account_id]))
        for row in store.domains(tx.connection)
        if row.approved_at is None
    ]


def put_domain(tx: Transaction, actor: Actor, domain: str, account: str, joining: Joining) -> None:
    """Let an account of the branch have a domain.

    Anybody can write down a domain that is not theirs, and people would join there: so it counts once the operator has
    approved it. The answer is the same whether others have or want it. Who has it already keeps it, whatever else
    changes.
    """
    accounts = accounts_service.known(tx)
    row = accounts_service.row_in_scope(accounts, actor, account)
    domain = domain.strip().lower().removeprefix("@")
    if not DOMAIN.fullmatch(domain):
        raise invalid(f"{domain[:80]!r} is no domain; one looks like client.example.", "domain")
    account_id = int(accounts.ids[row])
    mine = [
        each
        for each in store.lock_domain(tx.connection, domain)
        if accounts_service.sees(accounts, actor, each.account_id)
    ]
    there = next((each for each in mine if each.approved_at), None) or next(
        (each for each in mine if each.account_id == account_id), None
    )
    approved_at = there.approved_at if there is not None else None
    if approved_at is None and accounts_service.top_row(accounts, actor) == 0:
        approved_at = tx.now
    if there is not None:
        store.forget_domain(tx.connection, domain, there.account_id)
    store.put_domain(
        tx.connection, {"domain": domain, "account_id": account_id, "joining": joining, "approved_at": approved_at}
    )
    before = (
        None
        if there is None
        else {"joining": there.joining, "account": accounts.name(accounts.row_of_id[there.account_id])}
    )
    what = "domain set" if approved_at else "domain asked for"
    log_service.write(
        tx,
        actor,
        None,
        [log_service.Entry(what, domain, account_id, before, {"joining": joining, "account": accounts.name(row)})],
    )


def approve(tx: Transaction, actor: Actor, domain: str, account: str) -> None:
    """The operator agrees that a domain is an account's; one account has it."""
    accounts = accounts_service.known(tx)
    row = accounts_service.row_in_scope(accounts, actor, account)
    if accounts_service.top_row(accounts, actor) != 0:
        raise not_allowed("The operator approves who has a domain.")
    rows = store.lock_domain(tx.connection, domain)
    wanted = next((each for each in rows if each.account_id == int(accounts.ids[row])), None)
    if wanted is None:
        raise not_found("domain", domain)
    has = next((each for each in rows if each.approved_at), None)
    if has is wanted:
        return
    if has is not None:
        raise conflict(
            f"{domain} belongs to {accounts.name(accounts.row_of_id[has.account_id])} "
            "already; take it away there first."
        )
    store.put_domain(
        tx.connection,
        {"domain": domain, "account_id": wanted.account_id, "joining": wanted.joining, "approved_at": tx.now},
    )
    log_service.write(
        tx, actor, None, [log_service.Entry("domain set", domain, wanted.account_id, None, {"joining": wanted.joining})]
    )


def forget_domain(tx: Transaction, actor: Actor, domain: str, account: str) -> None:
    """An account no longer has a domain, or no longer wants it; who joined by it stays."""
    accounts = accounts_service.known(tx)
    account_id = int(accounts.ids[accounts_service.row_in_scope(accounts, actor, account)])
    there = next((each for each in store.lock_domain(tx.connection, domain) if each.account_id == account_id), None)
    if there is None:
        raise not_found("domain", domain)
    store.forget_domain(tx.connection, domain, account_id)
    log_service.write(
        tx, actor, None, [log_service.Entry("domain taken away", domain, account_id, {"joining": there.joining})]
    )


def ask(tx: Transaction, email: str, name: str) -> None:
    """Somebody asks to join by their address. The answer is the same whether the domain is known or not; a link goes to
    the address where it is."""
    address = an_email(email, "email")
    if not address:
        raise invalid("Give your e-mail address.", "email")
    name = " ".join(name.split())
    if not name or len(name) > 200 or in_a_mail(name, "") != name:
        # It stands in the mail to the address, so nobody can write an address of their own there.
        raise invalid("Give your name, at most 200 characters, without < > / : @ and without an address in it.", "name")
    domain = store.domain(tx.connection, address.rpartition("@")[2])
    now = tx.now
    if domain is None:
        return
    asked, of_domain = store.asked_since(tx.connection, address, domain.account_id, now - LINK_HOLDS)
    if asked >= MOST_ASKED or of_domain >= MOST_OF_A_DOMAIN:
        return
    accounts = accounts_service.known(tx)
    account = in_a_mail(accounts.name(accounts.row_of_id[domain.account_id]), "an account")
    token = secrets.token_urlsafe(32)
    store.add_join_request(
        tx.connection,
        {"account_id": domain.account_id, "email": address, "name": name, "token_hash": _hash(token), "asked_at": now},
    )
    if _is_there(tx, accounts, address, domain.account_id):
        # It counts as asked, so that nobody is written to without end; the link is sent to nobody.
        outbox.write(
            tx,
            address,
            f"You are at {account} already",
            f"{greeting(name)}\n\nsomeone asked to join {account} with this address. You are known "
            "already; there is nothing to do.\n\nFair Ladle\n",
        )
        return
    outbox.write(
        tx,
        address,
        f"Join {account}",
        f"{greeting(name)}\n\nfollow this link within a day to join {account}; it proves that the address is "
        f"yours:\n\n{tx.settings.address}/joining/{token}\n\nIf you did not ask "
        "for it, do nothing.\n\nFair Ladle\n",
    )


def _is_there(tx: Transaction, accounts: Accounts, address: str, account_id: int) -> bool:
    """Whether the address is somebody's of the account's branch; who is elsewhere is nobody's business there."""
    top = accounts.row_of_id[account_id]
    return any(
        each.status != "removed" and accounts.tree.is_inside(accounts.row_of_id[each.account_id], top)
        for each in people_service.by_email(tx, {address}).get(address, [])
    )


def _hash(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def asked(tx: Transaction, token: str) -> JoinWish:
    """What a link is about; refused where there is none or it is too old."""
    row = store.join_request(tx.connection, token_hash=_hash(token))
    if row is None:
        raise Refused(
            Problem("not-found", "No such link", 404, "There is nothing at this address; ask to join once more.")
        )
    if row.proven_at is None and tx.now > row.asked_at + LINK_HOLDS:
        raise conflict("This link held for a day and is over; ask to join once more.")
    accounts = accounts_service.known(tx)
    domain = store.domain(tx.connection, row.email.rpartition("@")[2])
    if row.proven_at is None and (domain is None or domain.account_id != row.account_id):
        raise conflict("People with this address no longer join by themselves; ask your administrator.")
    state: Literal["open", "waits", "joined", "refused"] = (
        "open"
        if row.proven_at is None
        else "waits"
        if row.decided_at is None
        else "joined"
        if row.username
        else "refused"
    )
    return JoinWish(
        row.name,
        accounts.name(accounts.row_of_id[row.account_id]),
        state,
        domain is not None and domain.joining == "at once",
    )


def prove(tx: Transaction, token: str) -> JoinWish:
    """The link was followed: they join at once, or wait for approval. Following it twice does nothing twice."""
    row = store.join_request(tx.connection, token_hash=_hash(token), lock=True)
    found = asked(tx, token)
    if row is None or found.state != "open":
        return found
    store.change_join_request(tx.connection, row.id, {"proven_at": tx.now})
    if found.at_once:
        _let_in(tx, Actor(row.name, row.email, None), row)
    else:
        log_service.write(
            tx,
            Actor(row.name, row.email, None),
            None,
            [log_service.Entry("asks to join", row.email, row.account_id, None, {"name": row.name})],
        )
    return asked(tx, token)


def _let_in(tx: Transaction, actor: Actor, row: JoinRecord) -> str:
    accounts = accounts_service.known(tx)
    place = accounts.row_of_id[row.account_id]
    if accounts.status(place) != "active":
        raise conflict(f"{accounts.name(place)} is {accounts.status(place)}; no one new can join it.")
    if _is_there(tx, accounts, row.email, row.account_id):
        raise conflict(f"{row.email} has come in otherwise meanwhile.")
    username = usernames_for(tx, [row.name])[0]
    people_service.add(
        tx,
        [
            {
                "account_id": row.account_id,
                "username": username,
                "display_name": row.name,
                "email": row.email,
                "status": "active",
                "invited_at": None,
                "title": None,
                "department": None,
                "protected": False,
            }
        ],
    )
    store.change_join_request(
        tx.connection, row.id, {"decided_at": tx.now, "decided_by": actor.name, "username": username}
    )
    log_service.write(
        tx,
        actor,
        None,
        [
            log_service.Entry(
                "joined",
                username,
                row.account_id,
                None,
                {"name": row.name, "by": f"the domain {row.email.rpartition('@')[2]}"},
            )
        ],
    )
    return username


def waiting(tx: Transaction, actor: Actor) -> list[WaitingToJoin]:
    """Who waits to be let into an account of the branch, the longest first."""
    accounts = accounts_service.known(tx)
    return [
        WaitingToJoin(
            row.id,
            row.name,
            row.email,
            accounts.tree.codes[accounts.row_of_id[row.account_id]],
            accounts.name(accounts.row_of_id[row.account_id]),
            row.proven_at,
        )
        for row in store.waiting_to_join(tx.connection)
        if accounts_service.sees(accounts, actor, row.account_id)
    ]


def decide(tx: Transaction, actor: Actor, request_id: int, let_in: bool) -> str | None:
    """Let somebody in who waits (their username), or do not; they are told by mail."""
    accounts = accounts_service.known(tx)
    row = store.join_request(tx.connection, request_id=request_id, lock=True)
    if row is None or row.proven_at is None or not accounts_service.sees(accounts, actor, row.account_id):
        raise not_found("request to join", str(request_id))
    if row.decided_at is not None:
        raise conflict(f"{row.decided_by} has decided that already.")
    account = in_a_mail(accounts.name(accounts.row_of_id[row.account_id]), "an account")
    if let_in:
        username = _let_in(tx, actor, row)
        outbox.write(
            tx,
            row.email,
            f"You have joined {account}",
            f"{greeting(row.name)}\n\nyou are at {account} now.\n\nFair Ladle\n",
        )
        return username
    store.change_join_request(tx.connection, row.id, {"decided_at": tx.now, "decided_by": actor.name})
    log_service.write(
        tx, actor, None, [log_service.Entry("sign-up declined", row.email, row.account_id, None, {"name": row.name})]
    )
    outbox.write(
        tx,
        row.email,
        f"You have not joined {account}",
        f"{greeting(row.name)}\n\nyour wish to join {account} was not granted. Ask your administrator.\n\nFair Ladle\n",
    )
    return None
