"""The second factor: codes by time (RFC 6238), each taken once, and recovery codes in their place."""

from __future__ import annotations

import hashlib
import secrets
from dataclasses import dataclass

import pyotp

from fair_ladle.app.log import service as log_service
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import Problem, Refused, conflict, invalid
from fair_ladle.app.plumbing.sealing import seal, sealed, unseal
from fair_ladle.app.sign_in import second_store

ISSUER = "Fair Ladle"
STEP_SECONDS, WINDOW = 30, 1
"""A code holds for a step, and the one before and after it are taken as well: clocks differ."""
RECOVERY_CODES, LETTERS = 10, "abcdefghjkmnpqrstuvwxyz23456789"
ASKS = {"code": True}
ASKED = Problem("second-factor", "One more step", 401, "Give the code that your authenticator shows now.", ASKS)
WRONG = Problem("second-factor", "Not signed in", 401, "That code is not right, or was used already.", ASKS)


@dataclass(frozen=True)
class NewFactor:
    """What an authenticator takes up: a secret in base 32, and the same as an address."""

    secret: str
    address: str


def judge(tx: Transaction, sign_in_id: int, code: str | None) -> None:
    """Refused where somebody has a second factor and the code is none of its. Locks the factor, so that of two who
    show one code at once one is refused."""
    found = second_store.second_factor(tx.connection, sign_in_id, locked=True)
    if found is None or found.confirmed_at is None:
        return
    if not code:
        raise Refused(ASKED)
    step = _step_of(tx, found.secret, code, found.last_step)
    if step is not None:
        kept = sealed(tx.settings, found.secret)
        second_store.put_second_factor(tx.connection, sign_in_id, {"secret": kept, "last_step": step})
    elif not second_store.take_recovery_code(tx.connection, sign_in_id, _hash(code)):
        raise Refused(WRONG)


def _step_of(tx: Transaction, kept: str, code: str, after: int) -> int | None:
    """The step of a code that holds now and is newer than the last one taken; None where it does not."""
    secret = unseal(tx.settings, kept)
    if secret is None:
        return None
    digits = "".join(each for each in code if not each.isspace())
    now, codes = int(tx.now.timestamp()) // STEP_SECONDS, pyotp.TOTP(secret)
    for step in range(now - WINDOW, now + WINDOW + 1):
        if step > after and secrets.compare_digest(codes.generate_otp(step).encode(), digits.encode()):
            return step
    return None


def _hash(code: str) -> str:
    plain = "".join(each for each in code.lower() if each.isalnum())
    return hashlib.sha256(plain.encode()).hexdigest()


def state(tx: Transaction, actor: Actor) -> int | None:
    """How many recovery codes the actor has left; None where they have no second factor."""
    found = second_store.second_factor(tx.connection, actor.sign_in_id or 0)
    has = found is not None and found.confirmed_at is not None
    return second_store.recovery_codes_left(tx.connection, actor.sign_in_id or 0) if has else None


def begin(tx: Transaction, actor: Actor) -> NewFactor:
    """A new secret for the actor's authenticator; it counts once a code of it was shown."""
    if state(tx, actor) is not None:
        raise conflict("You have a second factor already; take it away first.")
    secret = pyotp.random_base32()
    kept = {"secret": seal(tx.settings, secret), "confirmed_at": None, "last_step": 0}
    second_store.put_second_factor(tx.connection, actor.sign_in_id or 0, kept)
    return NewFactor(secret, pyotp.TOTP(secret, name=actor.email, issuer=ISSUER).provisioning_uri())


def confirm(tx: Transaction, actor: Actor, code: str) -> list[str]:
    """Let the actor's second factor count from now on, by a code of it; their recovery codes, which are shown once."""
    found = second_store.second_factor(tx.connection, actor.sign_in_id or 0, locked=True)
    if found is None or found.confirmed_at is not None:
        raise conflict("There is nothing to confirm; begin again.")
    step = _step_of(tx, found.secret, code, 0)
    if step is None:
        raise invalid("That is not the code it shows now. Is the clock of your device right?", "code")
    second_store.put_second_factor(
        tx.connection, actor.sign_in_id or 0, {"secret": found.secret, "confirmed_at": tx.now, "last_step": step}
    )
    codes = ["".join(secrets.choice(LETTERS) for _ in range(10)) for _ in range(RECOVERY_CODES)]
    second_store.put_recovery_codes(tx.connection, actor.sign_in_id or 0, [_hash(each) for each in codes])
    log_service.write(tx, actor, None, [log_service.Entry("second factor set up", actor.email)])
    return [f"{each[:5]}-{each[5:]}" for each in codes]


def drop(tx: Transaction, actor: Actor) -> None:
    """Take the actor's second factor away; whoever asks has shown the password. Refused where one is required of
    them."""
    if second_store.is_second_factor_required(tx.connection, actor.sign_in_id or 0):
        raise conflict("An account you run requires a second factor; it stays.")
    second_store.drop_second_factor(tx.connection, actor.sign_in_id or 0)
    log_service.write(tx, actor, None, [log_service.Entry("second factor taken away", actor.email)])
