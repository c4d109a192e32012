"""What is one's own: password, sessions and second factor."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from argon2.exceptions import InvalidHashError, VerificationError

from fair_ladle.app.log import service as log_service
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Database, Transaction
from fair_ladle.app.plumbing.problems import KeptRefusal, Problem, Refused, not_found
from fair_ladle.app.plumbing.slots import AllTaken, slot
from fair_ladle.app.sign_in import second, store, usecases
from fair_ladle.app.sign_in.service import IDLE, LONGEST, hash_of

NAMED_BY = 12
"""So many characters of a token's hash name a session."""


@dataclass(frozen=True)
class OwnSession:
    """A session of one's own."""

    name: str
    began: datetime
    last_used: datetime
    origin: str
    agent: str
    here: bool


def sessions(tx: Transaction, actor: Actor, token: str) -> list[OwnSession]:
    """The actor's sessions that can still be used, the last used first; ``token`` is that of the one they ask in."""
    now, here = tx.now, hash_of(token)
    return [
        OwnSession(
            each.token_hash[:NAMED_BY],
            each.began,
            each.last_used,
            each.origin or "",
            each.agent or "",
            each.token_hash == here,
        )
        for each in store.sessions_of(tx.connection, actor.sign_in_id or 0)
        if now - each.last_used <= IDLE and now - each.began <= LONGEST
    ]


def end_sessions(tx: Transaction, actor: Actor, token: str, name: str | None) -> None:
    """End one of the actor's sessions by its name, or all but the one they ask in."""
    here, mine = hash_of(token), [each.token_hash for each in store.sessions_of(tx.connection, actor.sign_in_id or 0)]
    ended = [each for each in mine if (each.startswith(name) if name else each != here)]
    if name and (len(name) != NAMED_BY or not ended):
        raise not_found("session", name)
    store.end_sessions_named(tx.connection, ended)
    said = {"sessions": len(ended)}
    log_service.write(tx, actor, None, [log_service.Entry("sessions ended", actor.email, None, None, said)])


def _verified(database: Database, actor: Actor, password: str, origin: str) -> Any:
    """The actor's sign-in, by their password; refused where it is another, and throttled as signing in is."""
    found = database.run(usecases.count_try, actor.email, origin)
    try:
        with slot("verifying", usecases.AT_A_TIME, usecases.WAITS_SECONDS):
            usecases.hasher.verify(found.password_hash if found else usecases.NOBODY, password)
    except AllTaken:
        raise Refused(usecases.BUSY, {"Retry-After": "5"}) from None
    except (VerificationError, InvalidHashError):
        raise Refused(
            Problem("invalid", "Not valid", 422, "That is not your password now.", {"where": "current"})
        ) from None
    database.run(_forget_tries, actor, origin)
    return found


def _forget_tries(tx: Transaction, actor: Actor, origin: str) -> None:
    store.clear_tries(tx.connection, actor.email, origin, tx.now - usecases.THROTTLED_FOR)


def show_password(database: Database, actor: Actor, password: str, origin: str) -> None:
    """Refused unless the actor shows the password there is: before what would outlast a session left open."""
    _verified(database, actor, password, origin)


def change_password(database: Database, actor: Actor, token: str, current: str, password: str, origin: str) -> None:
    """Another password for the actor, who shows the one there is; their other sessions end."""
    found = _verified(database, actor, current, origin)
    usecases.judge_password(password, actor.email, actor.name)
    database.run(_change_password, actor, token, found.password_hash, usecases.hashed(password))


def _change_password(tx: Transaction, actor: Actor, token: str, before: str, password_hash: str) -> None:
    there = store.by_id(tx.connection, actor.sign_in_id or 0)
    if there is None or there.password_hash != before:
        raise KeptRefusal(Problem("conflict", "Changed meanwhile", 409, "Your password was changed at this moment."))
    store.rehash(tx.connection, there.id, password_hash)
    others = [
        each.token_hash for each in store.sessions_of(tx.connection, there.id) if each.token_hash != hash_of(token)
    ]
    store.end_sessions_named(tx.connection, others)
    log_service.write(tx, actor, None, [log_service.Entry("password changed", actor.email)])


def drop_second_factor(database: Database, actor: Actor, password: str, origin: str) -> None:
    """Take the actor's second factor away, by their password."""
    _verified(database, actor, password, origin)
    database.run(second.drop, actor)
