"""Who is signed in, and who runs what. Trusted: the caller has judged scope, or nobody has yet."""

from __future__ import annotations

import hashlib
from collections.abc import Collection
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.log import service as log_service
from fair_ladle.app.plumbing import generations, schedule
from fair_ladle.app.plumbing.actor import FOR_PEOPLE, Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.limits import limits_of
from fair_ladle.app.plumbing.permissions import ROLES
from fair_ladle.app.plumbing.problems import not_allowed
from fair_ladle.app.sign_in import delegation_store, store

LOOKING_ON = ("auditor", "billing", "desk")
IDLE, LONGEST = timedelta(hours=12), timedelta(days=7)


TOUCH_EVERY = timedelta(minutes=1)


@dataclass(frozen=True)
class SignedIn:
    """Who a session belongs to and what they may run; ``actor`` runs one of these branches."""

    actor: Actor
    csrf_token: str
    delegations: list[Any]
    token_hash: str
    is_noted_long_ago: bool
    """Whether that the session was used was noted over a minute ago."""


def hash_of(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def signed_in(tx: Transaction, token: str, running: str | None = None) -> SignedIn | None:
    """Who is behind a session's token; None where it is unknown, too old, or may run nothing today.

    ``running`` names the branch to act in where there are several.
    """
    token_hash = hash_of(token)
    rows = store.session(tx.connection, token_hash)
    now = tx.now
    if not rows or now - rows[0].last_used > IDLE or now - rows[0].began > LONGEST:
        return None
    generations.note(tx, rows[0].generations)
    session, day = rows[0], accounts_service.today(tx)
    delegations = open_to(
        tx, [each for each in rows if (each.first_day or day) <= day and (each.last_day or day) >= day]
    )
    if not delegations:
        return None
    chosen = next((each for each in delegations if each.code == running), None if running else delegations[0])
    if chosen is None:
        raise not_allowed("You do not run that account (any more).")
    actor = acting(tx, chosen, session.person, session.email, session.sign_in_id)
    return SignedIn(actor, session.csrf_token, delegations, token_hash, now - session.last_used > TOUCH_EVERY)


def note_use(tx: Transaction, found: SignedIn) -> None:
    """Note that a session is in use now."""
    store.touch_session(tx.connection, found.token_hash, tx.now)


def open_to(tx: Transaction, delegations: list[Any]) -> list[Any]:
    """Those over accounts that are there to be run: closed ones have no admins, nor has what stands below them."""
    accounts = accounts_service.known(tx)
    return [
        each
        for each in delegations
        if each.account_id in accounts.row_of_id and accounts.status(accounts.row_of_id[each.account_id]) != "closed"
    ]


def rehearse(tx: Transaction) -> None:
    """Where ending delegations is only tried out: go on with copies of them, and of the sessions."""
    store.rehearse(tx)


def actor_for(tx: Transaction, sign_in_id: int, account: str) -> Actor | None:
    """Somebody running a branch without being there; None where they may not run it any more."""
    there = open_to(tx, delegation_store.delegations_of(tx.connection, sign_in_id, accounts_service.today(tx)))
    who = store.by_id(tx.connection, sign_in_id)
    found = next((each for each in there if each.code == account), None)
    if found is None or who is None:
        return None
    return acting(tx, found, found.called or who.name, who.email, sign_in_id)


def acting(tx: Transaction, delegation: Any, name: str, email: str, sign_in_id: int) -> Actor:
    """Somebody acting through a delegation."""
    permissions = permissions_of(tx, delegation)
    if delegation.people_of is not None:
        permissions &= FOR_PEOPLE
    lacks = bool(getattr(delegation, "lacks_second_factor", 0))
    return Actor(
        name,
        email,
        delegation.code,
        sign_in_id,
        delegation.role,
        frozenset() if lacks else permissions,
        delegation.delegation_id,
        limits_of(delegation.limits),
        lacks_second_factor=lacks,
        people_of=delegation.people_of,
        scope_id=delegation.account_id,
    )


def permissions_of(tx: Transaction, delegation: Any) -> frozenset[str]:
    """What a delegation lets somebody do: by its ready-made role, or the one an account has composed."""
    if delegation.role_id is not None and "composed" in delegation._fields:
        return frozenset((delegation.composed or "").split(",")) - {""}
    if delegation.role_id is not None:
        return delegation_store.permissions_of(tx.connection, [delegation.role_id])[delegation.role_id]
    role = ROLES.get(delegation.role)
    return frozenset() if role is None else role.permissions


def role_name(delegation: Any) -> str:
    """What the role of a delegation is called."""
    ready = ROLES.get(delegation.role)
    return str(delegation.role_name or (delegation.role if ready is None else ready.name))


def with_key(actor: Actor, key: Any) -> Actor:
    """The same with a key of theirs: what the key is for and how far it goes, as far as their delegation still does."""
    permissions = actor.permissions if key.permissions is None else actor.permissions & frozenset(key.permissions)
    return replace(
        actor,
        key_id=key.key_id,
        key_name=f"{key.key_name} …{key.ending}",
        permissions=permissions,
        limits=actor.limits.narrowed(limits_of(key.key_limits)),
    )


def find_by_email(tx: Transaction, email: str) -> Any | None:
    """A sign-in by its address; None where nobody has it."""
    return store.by_email(tx.connection, email.strip().lower())


def admins_of(tx: Transaction, account_ids: Collection[int]) -> dict[int, list[Any]]:
    """Who runs these accounts themselves today and may act there (sign_in_id, name, email), by the account's id. Those
    who only look, or only help people sign in, are none of them."""
    found: dict[int, list[Any]] = {}
    for row in delegation_store.running(tx.connection, account_ids, accounts_service.today(tx)) if account_ids else []:
        if row.role not in LOOKING_ON:
            found.setdefault(row.account_id, []).append(row)
    return found


def unlock(tx: Transaction, email: str) -> None:
    """Forget the tries at an address, wherever they came from."""
    store.forget_tries(tx.connection, email.strip().lower())


def free_admins_of(tx: Transaction, account_id: int) -> list[Any]:
    """Who runs an account itself today as its admin, free of limits (sign_in_id, name, email)."""
    there = delegation_store.running(tx.connection, [account_id], accounts_service.today(tx))
    return [each for each in there if each.role == "admin" and each.limits is None]


def start_demo_clock(tx: Transaction, earliest: datetime) -> datetime:
    """Let the demo's time run on from its start, or from the newest thing that was done in it: never back, or what the
    schedule does next would wait until the time is there again."""
    demo_at = max(
        [earliest, *(at for at in (log_service.newest_instant(tx), schedule.newest_run(tx)) if at is not None)]
    )
    store.set_demo_clock(tx.connection, demo_at, datetime.now(UTC))
    return demo_at
