"""Signing in and out, and the actor behind a session.

Passwords are kept as argon2id hashes, sessions as the SHA-256 of a random token. Tries are throttled
by address and by origin.
"""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Collection
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError

from fair_ladle.app.accounts import usecases as accounts_usecases
from fair_ladle.app.log import usecases as log
from fair_ladle.app.plumbing import schedule
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import Problem, invalid, not_found
from fair_ladle.app.sign_in import store

hasher = PasswordHasher()
NOBODY = hasher.hash("nobody has this password")
THROTTLED_FOR = timedelta(minutes=15)
MOST_FAILURES, MOST_FROM_ORIGIN = 5, 30
IDLE, LONGEST = timedelta(hours=12), timedelta(days=7)
TOUCH_EVERY = timedelta(minutes=1)
SHORTEST_PASSWORD = 12


@dataclass(frozen=True)
class Session:
    """A session's secret token (for the cookie only) and its token against forged requests."""

    token: str
    csrf_token: str


@dataclass(frozen=True)
class SignedIn:
    """Who a session belongs to and what they may run; ``actor`` runs one of these branches."""

    actor: Actor
    csrf_token: str
    delegations: list[Any]
    token_hash: str


def _hash(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def sign_in(tx: Transaction, email: str, password: str, origin: str) -> Session | Problem:
    """A new session; or why not. Not raised, so that the failed try is kept."""
    email = email.strip().lower()
    now = tx.now
    by_email, by_origin = store.failures(tx.connection, email, origin, now - THROTTLED_FOR)
    if by_email >= MOST_FAILURES or by_origin >= MOST_FROM_ORIGIN:
        return Problem(
            "too-many-tries", "Too many tries", 429, "Too many tries failed; try again in a quarter of an hour."
        )
    found = store.by_email(tx.connection, email)
    try:
        hasher.verify(found.password_hash if found else NOBODY, password)
    except (VerificationError, InvalidHashError):
        found = None
    if found is None:
        store.note_failure(tx.connection, email, origin, now)
        return Problem(
            "wrong-sign-in", "Not signed in", 401, "The e-mail address and the password do not belong together."
        )
    store.clear_failures(tx.connection, email, now - THROTTLED_FOR)
    store.end_old_sessions(tx.connection, now - IDLE, now - LONGEST)
    if hasher.check_needs_rehash(found.password_hash):
        store.set_password(tx.connection, found.id, hasher.hash(password))
    session = Session(secrets.token_urlsafe(32), secrets.token_urlsafe(24))
    store.begin_session(
        tx.connection,
        {
            "token_hash": _hash(session.token),
            "sign_in_id": found.id,
            "csrf_token": session.csrf_token,
            "began": now,
            "last_used": now,
        },
    )
    return session


def sign_out(tx: Transaction, token: str) -> None:
    """End a session."""
    store.end_session(tx.connection, _hash(token))


def signed_in(tx: Transaction, token: str, running: str | None = None) -> SignedIn | None:
    """Who is behind a session's token; None where it is unknown, too old, or may run nothing today.

    ``running`` names the branch to act in where there are several.
    """
    token_hash = _hash(token)
    session = store.session(tx.connection, token_hash)
    now = tx.now
    if session is None or now - session.last_used > IDLE or now - session.began > LONGEST:
        return None
    delegations = store.delegations_of(tx.connection, session.sign_in_id, accounts_usecases.today(tx))
    chosen = next((each for each in delegations if each.code == running), delegations[0] if delegations else None)
    if chosen is None:
        return None
    if now - session.last_used > TOUCH_EVERY:
        store.touch_session(tx.connection, token_hash, now)
    actor = Actor(session.name, session.email, chosen.code, session.sign_in_id, chosen.role)
    return SignedIn(actor, session.csrf_token, delegations, token_hash)


def give_sign_in(tx: Transaction, actor: Actor, email: str, name: str, account: str, password: str) -> None:
    """Let somebody sign in and run an account; a known address gets the account beside what it has, and this
    password."""
    if actor.scope is not None:
        raise not_found("installation", actor.scope)
    email = email.strip().lower()
    if "@" not in email:
        raise invalid(f"{email!r} is no e-mail address.", "email")
    if len(password) < SHORTEST_PASSWORD:
        raise invalid(f"A password has at least {SHORTEST_PASSWORD} characters.", "password")
    account_id = accounts_usecases.ids_by_code(tx).get(account)
    if account_id is None:
        raise not_found("account", account)
    found = store.by_email(tx.connection, email)
    if found is None:
        sign_in_id = store.add(tx.connection, email, name, hasher.hash(password))
    else:
        sign_in_id = found.id
        store.set_password(tx.connection, sign_in_id, hasher.hash(password))
    there = store.delegations_of(tx.connection, sign_in_id, accounts_usecases.today(tx))
    if account not in {each.code for each in there}:
        store.delegate(tx.connection, sign_in_id, account_id, "admin")
    log.write(tx, actor, None, [log.Entry("sign-in given", email, account_id, None, {"name": name, "role": "admin"})])


def let_run(tx: Transaction, actor: Actor, email: str, account_id: int) -> None:
    """Let somebody who has a sign-in run an account too. Whether the actor may say so is the caller's to check."""
    found = store.by_email(tx.connection, email)
    if found is None:
        raise invalid(
            f"{email or 'Who has no address'} has no sign-in yet; link them as a member, or give a "
            "sign-in first (`fair-ladle sign-in`).",
            "role",
        )
    if any(
        each.account_id == account_id
        for each in store.delegations_of(tx.connection, found.id, accounts_usecases.today(tx))
    ):
        return
    store.delegate(tx.connection, found.id, account_id, "admin")
    log.write(
        tx, actor, None, [log.Entry("may run it", email, account_id, None, {"name": found.name, "role": "admin"})]
    )


def actor_for(tx: Transaction, sign_in_id: int, account: str) -> Actor | None:
    """Somebody running a branch without being there; None where they may not run it any more."""
    there = store.delegations_of(tx.connection, sign_in_id, accounts_usecases.today(tx))
    who = store.by_id(tx.connection, sign_in_id)
    role = next((each.role for each in there if each.code == account), None)
    return None if role is None or who is None else Actor(who.name, who.email, account, sign_in_id, role)


def find_by_email(tx: Transaction, email: str) -> Any | None:
    """A sign-in by its address; None where nobody has it."""
    return store.by_email(tx.connection, email.strip().lower())


def admins_of(tx: Transaction, account_ids: Collection[int]) -> dict[int, list[Any]]:
    """Who runs these accounts themselves today (sign_in_id, name, email), by the account's id."""
    found: dict[int, list[Any]] = {}
    for row in store.running(tx.connection, account_ids, accounts_usecases.today(tx)) if account_ids else []:
        found.setdefault(row.account_id, []).append(row)
    return found


def start_demo_clock(tx: Transaction, earliest: datetime) -> datetime:
    """Let the demo's time run on from its start, or from the newest thing that was done in it: never back, or what the
    schedule does next would wait until the time is there again."""
    demo_at = max([earliest, *(at for at in (log.newest_instant(tx), schedule.newest_run(tx)) if at is not None)])
    store.set_demo_clock(tx.connection, demo_at, datetime.now(UTC))
    return demo_at
