"""Links that are mailed or printed, work once and not for long: to set a password, and to set an installation up.

Only the SHA-256 of a link's token is kept.
"""

from __future__ import annotations

import secrets
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import timedelta
from typing import Any, Literal

from cachetools import TTLCache

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.log import service as log_service
from fair_ladle.app.plumbing import outbox
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.addresses import greeting, in_a_mail
from fair_ladle.app.plumbing.database import Database, Transaction
from fair_ladle.app.plumbing.problems import Problem, Refused, conflict
from fair_ladle.app.sign_in import delegation_store, store
from fair_ladle.app.sign_in.rows import LinkRecord
from fair_ladle.app.sign_in.service import hash_of

Kind = Literal["setup", "password"]
LASTS = {"setup": timedelta(days=1), "first password": timedelta(days=3), "password": timedelta(hours=1)}
NOT_AGAIN_WITHIN = timedelta(minutes=2)
"""Nobody fills somebody's mailbox by asking again and again."""
just_noted: TTLCache[tuple[str, str], bool] = TTLCache(maxsize=10_000, ttl=60)
"""Nor the log: a link that is refused is noted once a minute and address."""


def make(tx: Transaction, kind: Kind, lasts: timedelta, sign_in_id: int | None = None) -> str:
    """A new link's token; earlier ones of the kind (for the same sign-in) stop working."""
    token = secrets.token_urlsafe(32)
    store.drop_links(tx.connection, kind, sign_in_id)
    store.add_link(
        tx.connection,
        {
            "token_hash": hash_of(token),
            "kind": kind,
            "sign_in_id": sign_in_id,
            "made_at": tx.now,
            "expires_at": tx.now + lasts,
        },
    )
    return token


def look_up(tx: Transaction, kind: Kind, token: str, takes: bool = False) -> Any:
    """An open link; with ``takes`` locked, by its key. Refused where there is none, or it was used, or is late."""
    found = store.link(tx.connection, hash_of(token), takes)
    if found is None or found.kind != kind:
        raise Refused(
            Problem(
                "not-found", "No such link", 404, "This link does not work; a newer one may have been made. Ask again."
            )
        )
    if found.used_at is not None:
        raise conflict("This link was used already.")
    if tx.now > found.expires_at:
        raise conflict("This link has expired; ask for a new one.")
    return found


@contextmanager
def noted_where_refused(database: Database, token: str, origin: str) -> Iterator[None]:
    """Where a link that was made is refused within, because it was used or is late, that is noted in the log."""
    try:
        yield
    except Refused as refused:
        again = hash_of(token), origin
        if refused.problem.kind == "conflict" and again not in just_noted:
            just_noted[again] = True
            database.run(_note_refused, token, origin, refused.problem)
        raise


def _note_refused(tx: Transaction, token: str, origin: str, problem: Problem) -> None:
    found = store.link(tx.connection, hash_of(token), False)
    who = None if found is None or found.sign_in_id is None else store.by_id(tx.connection, found.sign_in_id)
    if who is not None:
        log_sign_in(tx, "link refused", who, origin, why=problem.detail)
    elif found is not None and accounts_service.is_set_up(tx):
        after = {"from": origin, "why": problem.detail}
        entry = log_service.Entry("link refused", "set-up", accounts_service.operator(tx).id, None, after)
        log_service.write(tx, Actor("link of the set-up", "", None), None, [entry])


def log_sign_in(tx: Transaction, what: str, who: Any, origin: str, **more: str) -> None:
    """In the log of an account that they run, so that who runs it sees it as well."""
    runs = delegation_store.delegations_of(tx.connection, who.id, accounts_service.today(tx))
    account_id = runs[0].account_id if runs else None
    entry = log_service.Entry(what, who.email, account_id, None, {"from": origin, **more})
    log_service.write(tx, Actor(who.name, who.email, None, who.id), None, [entry])


def use(tx: Transaction, found: LinkRecord) -> None:
    """Note that a link that was looked up to be taken is used."""
    store.use_link(tx.connection, found.token_hash, tx.now)


def invite_to_run(tx: Transaction, by: str, sign_in: Any, account: str) -> None:
    """Tell somebody by mail that they run an account (its name): with a link to set a password where they have none
    yet."""
    name, of = in_a_mail(by, "An administrator"), in_a_mail(account, "an account")
    if sign_in.password_hash:
        way = f"Sign in as you do:\n\n{tx.settings.address}/"
    else:
        token = make(tx, "password", LASTS["first password"], sign_in.id)
        way = (
            f"Set a password within {LASTS['first password'].days} days, and sign in:\n\n"
            f"{tx.settings.address}/password/{token}"
        )
    body = f"{greeting(sign_in.name)}\n\n{name} lets you run {of}. {way}\n\nFair Ladle\n"
    outbox.write(tx, sign_in.email, f"You run {of}", body)


def send_reset(tx: Transaction, email: str) -> None:
    """Mail a link to set another password; nothing where nobody signs in with that address, or one was just sent."""
    found = store.by_email(tx.connection, email.strip().lower())
    if found is None or store.linked_since(tx.connection, "password", found.id, tx.now - NOT_AGAIN_WITHIN):
        return
    token = make(tx, "password", LASTS["password"], found.id)
    outbox.write(
        tx,
        found.email,
        "Set a new password",
        f"{greeting(found.name)}\n\nSomeone asked for a new password for this address. Set one within an hour:\n\n"
        f"{tx.settings.address}/password/{token}\n\nIf it was not you, do nothing: the old one stays.\n\nFair Ladle\n",
    )
