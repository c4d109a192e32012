"""Signing in and out, and the actor behind a session.

Passwords are kept as argon2id hashes, sessions as the SHA-256 of a random token. Tries are throttled
by address and by origin.
"""

from __future__ import annotations

import re
import secrets
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

import zxcvbn
from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.log import service as log_service
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Database, Transaction
from fair_ladle.app.plumbing.problems import KeptRefusal, Problem, Refused, conflict, invalid, not_found
from fair_ladle.app.plumbing.slots import AllTaken, slot
from fair_ladle.app.sign_in import delegation_store, history, links, second, store
from fair_ladle.app.sign_in.service import IDLE, LONGEST, hash_of

hasher = PasswordHasher()
NOBODY = hasher.hash("nobody has this password")
THROTTLED_FOR = timedelta(minutes=15)
MOST_FAILURES, MOST_FROM_ORIGIN, MOST_FOR_ADDRESS = 5, 100, 30
EVERYWHERE = "*"
"""Where tries at an address are counted wherever they come from. Beyond the most of them it is open only from where its
owner is signed in; another password by a mailed link opens it at once, so that nobody locks somebody else out."""
AT_A_TIME, WAITS_SECONDS = 2, 3.0
"""Passwords verified at a time on this machine, each of which takes 64 MB and a core for a third of a second."""
SHORTEST_PASSWORD, LONGEST_JUDGED, WEAKEST = 12, 72, 2
"""Characters a password has at least, how many are looked at to judge it, and how hard to guess it has to be (0 to
4)."""


BUSY = Problem("busy", "Too many at once", 503, "Too many sign in at this moment; try again in a few seconds.")
TOO_MANY = Problem("too-many-tries", "Too many tries", 429, "Too many tries failed; try again in a quarter of an hour.")


@dataclass(frozen=True)
class Session:
    """A session's secret token (for the cookie only) and its token against forged requests."""

    token: str
    csrf_token: str


def sign_in(
    database: Database, email: str, password: str, origin: str, code: str | None = None, agent: str = ""
) -> Session:
    """A new session. Refused where the two do not belong together, or the second factor is asked for and ``code`` is
    none of its, or too many tries failed (429), or too many are verified at once (503).

    A try is counted before it is verified; verifying, which is dear on purpose, is done a few at a time and outside any
    transaction.
    """
    email = email.strip().lower()
    found = database.run(count_try, email, origin)
    try:
        with slot("verifying", AT_A_TIME, WAITS_SECONDS):
            found = found if found and found.password_hash else None  # who was only invited has no password yet
            hasher.verify(found.password_hash if found else NOBODY, password)
            anew = hasher.hash(password) if found and hasher.check_needs_rehash(found.password_hash) else None
    except AllTaken:
        raise Refused(BUSY, {"Retry-After": "5"}) from None
    except (VerificationError, InvalidHashError):
        found = None
    if found is None:
        database.run(_log_refused, email, origin)
        raise Refused(
            Problem(
                "wrong-sign-in", "Not signed in", 401, "The e-mail address and the password do not belong together."
            )
        )
    try:
        return database.run(_begin_session, found.id, found.password_hash, anew, email, origin, agent, code, True)
    except Refused as refused:
        if refused.problem is second.WRONG:
            database.run(_log_refused, email, origin)
        raise


def count_try(tx: Transaction, email: str, origin: str) -> Any | None:
    """Count a try, before it is verified; the sign-in of the address. Refused where too many failed."""
    now = tx.now
    tries = store.count_try(tx.connection, email, origin, now, now - THROTTLED_FOR)
    of_origin = store.count_try(tx.connection, "", origin, now, now - THROTTLED_FOR)
    too_many = KeptRefusal(TOO_MANY, {"Retry-After": str(int(THROTTLED_FOR.total_seconds()))})
    if tries > MOST_FAILURES or of_origin > MOST_FROM_ORIGIN:
        raise too_many
    of_address = store.count_try(tx.connection, email, EVERYWHERE, now, now - THROTTLED_FOR)
    found = store.by_email(tx.connection, email)
    if of_address > MOST_FOR_ADDRESS and not (found and store.has_session_from(tx.connection, found.id, origin)):
        raise too_many
    return found


def _begin_session(
    tx: Transaction,
    sign_in_id: int,
    password_hash: str,
    anew: str | None,
    email: str,
    origin: str,
    agent: str = "",
    code: str | None = None,
    asks_second: bool = False,
) -> Session:
    now, there = tx.now, store.by_id(tx.connection, sign_in_id)
    if there is None or there.password_hash != password_hash:
        raise conflict("The password was changed at this moment; sign in with the new one.")
    if asks_second:
        second.judge(tx, sign_in_id, code)
    store.clear_tries(tx.connection, email, origin, now - THROTTLED_FOR)
    store.clear_tries(tx.connection, "", origin, now - THROTTLED_FOR)
    store.end_old_sessions(tx.connection, now - IDLE, now - LONGEST)
    if anew is not None:
        store.rehash(tx.connection, sign_in_id, anew)
    session = Session(secrets.token_urlsafe(32), secrets.token_urlsafe(24))
    store.begin_session(
        tx.connection,
        {
            "token_hash": hash_of(session.token),
            "sign_in_id": sign_in_id,
            "csrf_token": session.csrf_token,
            "began": now,
            "last_used": now,
            "origin": origin[:64],
            "agent": agent[:200],
        },
    )
    links.log_sign_in(tx, "signed in", there, origin)
    return session


def _log_refused(tx: Transaction, email: str, origin: str) -> None:
    found = store.by_email(tx.connection, email)
    if found is not None:
        links.log_sign_in(tx, "sign-in refused", found, origin)


def sign_out(tx: Transaction, token: str) -> None:
    """End a session."""
    store.end_session(tx.connection, hash_of(token))


def give_sign_in(tx: Transaction, actor: Actor, email: str, name: str, account: str, password: str) -> None:
    """Let somebody sign in and run an account; a known address gets the account beside what it has, and this
    password."""
    if actor.scope is not None:
        raise not_found("installation", actor.scope)
    email = email.strip().lower()
    if "@" not in email:
        raise invalid(f"{email!r} is no e-mail address.", "email")
    judge_password(password, email, name)
    account_id = accounts_service.ids_by_code(tx).get(account)
    if account_id is None:
        raise not_found("account", account)
    found = store.by_email(tx.connection, email)
    if found is None:
        sign_in_id = store.add(tx.connection, email, name, hasher.hash(password))
    else:
        sign_in_id = found.id
        store.set_password(tx.connection, sign_in_id, hasher.hash(password))
    there = delegation_store.delegations_of(tx.connection, sign_in_id, accounts_service.today(tx))
    if account not in {each.code for each in there}:
        history.remember(tx, [delegation_store.delegate(tx.connection, sign_in_id, account_id, "admin")])
    log_service.write(
        tx, actor, None, [log_service.Entry("sign-in given", email, account_id, None, {"name": name, "role": "admin"})]
    )


def judge_password(password: str, *about: str) -> None:
    """Refused where a password is too short, or easy to guess for who knows these words about its owner."""
    if len(password) < SHORTEST_PASSWORD:
        raise invalid(f"A password has at least {SHORTEST_PASSWORD} characters.", "password")
    words = [part for each in about for part in (each, *re.findall(r"\w+", each))]
    found = zxcvbn.zxcvbn(password[:LONGEST_JUDGED], [*words, "fair ladle", "fairladle"])
    if found["score"] < WEAKEST:
        why = found["feedback"]["warning"] or "it is among the first that are tried"
        raise invalid(f"That password is easy to guess: {why.rstrip('.').lower()}. Take a longer one.", "password")


def hashed(password: str) -> str:
    """A password as it is kept, a few at a time on this machine; 503 where too many are at it."""
    try:
        with slot("verifying", AT_A_TIME, WAITS_SECONDS):
            return hasher.hash(password)
    except AllTaken:
        raise Refused(BUSY, {"Retry-After": "5"}) from None


@dataclass(frozen=True)
class PasswordLink:
    """Whose password a link sets, and whether it is their first."""

    name: str
    email: str
    is_first: bool


def password_link(tx: Transaction, token: str) -> PasswordLink:
    """What a link to set a password is for; refused where it does not work (any more)."""
    found = store.by_id(tx.connection, links.look_up(tx, "password", token).sign_in_id)
    assert found is not None
    return PasswordLink(found.name, found.email, not found.password_hash)


def set_password(database: Database, token: str, password: str, origin: str) -> None:
    """Set the password that a link is for. Every session ends, and the link works no more.

    Locks the link by its key, and judges under the lock whether it is open: of two who use it at once one is refused.
    """
    with links.noted_where_refused(database, token, origin):
        whose = database.run(password_link, token)
        judge_password(password, whose.email, whose.name)
        database.run(_set_password, token, hashed(password))


def _set_password(tx: Transaction, token: str, password_hash: str) -> None:
    found = links.look_up(tx, "password", token, takes=True)
    links.use(tx, found)
    who = store.by_id(tx.connection, found.sign_in_id)
    assert who is not None
    store.set_password(tx.connection, who.id, password_hash)
    store.clear_tries(tx.connection, who.email, EVERYWHERE, tx.now - THROTTLED_FOR)
    log_service.write(
        tx, Actor(who.name, who.email, None, who.id), None, [log_service.Entry("password set", who.email)]
    )


def forgotten(tx: Transaction, email: str, token_origin: str) -> None:
    """Mail a link to set another password. The answer is the same whether somebody signs in with the address."""
    now = tx.now
    if store.count_try(tx.connection, "", token_origin, now, now - THROTTLED_FOR) > MOST_FROM_ORIGIN:
        raise KeptRefusal(TOO_MANY, {"Retry-After": str(int(THROTTLED_FOR.total_seconds()))})
    links.send_reset(tx, email)


def first_admin(tx: Transaction, email: str, name: str, account_id: int, password_hash: str) -> int:
    """Who runs an installation that was just set up; the number of their sign-in."""
    sign_in_id = store.add(tx.connection, email, name, password_hash)
    history.remember(tx, [delegation_store.delegate(tx.connection, sign_in_id, account_id, "admin")])
    return sign_in_id


def begin_session(tx: Transaction, sign_in_id: int, password_hash: str, email: str, origin: str) -> Session:
    """A session for somebody whose password was just set here."""
    return _begin_session(tx, sign_in_id, password_hash, None, email, origin)
