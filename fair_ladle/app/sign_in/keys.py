"""Keys with which programs act through a delegation: shown once, kept as a hash, with what of its role they are for,
and until when."""

from __future__ import annotations

import secrets
from collections.abc import Collection
from datetime import date, timedelta
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.log import service as log_service
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.addresses import name as a_name
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.limits import FREE, Limits, limits_of
from fair_ladle.app.plumbing.permissions import PERMISSIONS
from fair_ladle.app.plumbing.problems import KeptRefusal, Problem, conflict, invalid, not_allowed, not_found
from fair_ladle.app.sign_in import delegating, delegation_store, key_store, service
from fair_ladle.app.sign_in.rows import KeyDelegation
from fair_ladle.core.calendar import day_name

BEGINS = "flk_"
"""What every key begins with, so that it is known where it was put by mistake."""
MOST_KEYS, LONGEST = 20, timedelta(days=366)
GOES_ON = timedelta(days=1)
"""For how long a key still works after another was made in its place."""
MOST_A_MINUTE = 600
TOO_OFTEN = Problem("too-often", "Too many requests", 429, f"A key makes at most {MOST_A_MINUTE} requests a minute.")


def keys(tx: Transaction, actor: Actor) -> list[Any]:
    """The keys of the delegation the actor acts through that were not ended, the newest first."""
    return key_store.keys_of(tx.connection, _delegation(actor), tx.now)


def make(
    tx: Transaction,
    actor: Actor,
    name: str,
    last_day: date,
    permissions: Collection[str] | None,
    limits: Limits = FREE,
) -> str:
    """A key for the delegation the actor acts through, with these permissions of theirs (None = all of them) and
    within these limits besides; what is shown once.

    Locks the delegation's row, so that the number of its keys holds.
    """
    name, today = a_name(name, "name"), accounts_service.today(tx)
    if not today <= last_day <= today + LONGEST:
        raise invalid(f"The last day is from today to {today + LONGEST}.", "last_day")
    unknown = sorted(set(permissions or ()) - PERMISSIONS.keys())
    if unknown or (permissions is not None and not permissions):
        raise invalid(f"Name one or more of {', '.join(PERMISSIONS)}.", "permissions")
    lacks = sorted(set(permissions or ()) - actor.permissions)
    if lacks:
        raise not_allowed(f"Your own role does not let you {PERMISSIONS[lacks[0]]}.")
    delegating.judge_limits(tx, actor, limits, actor.scope)
    own = delegation_store.lock_delegation(tx.connection, _delegation(actor))
    if own is None or own.ended_at is not None:
        raise not_allowed("Your delegation has ended.")
    if own.last_day is not None and last_day > own.last_day:
        raise invalid(f"Your delegation ends on {day_name(own.last_day)}; give a day then or before.", "last_day")
    if len(key_store.keys_of(tx.connection, own.id, tx.now)) >= MOST_KEYS:
        raise conflict(f"A delegation has at most {MOST_KEYS} keys; end one first.")
    kept = None if permissions is None else sorted(set(permissions))
    return _make(tx, actor, name, last_day, kept, limits, "program key made")


def _make(
    tx: Transaction,
    actor: Actor,
    name: str,
    last_day: date,
    permissions: list[str] | None,
    limits: Limits,
    what: str,
) -> str:
    key = BEGINS + secrets.token_urlsafe(32)
    key_store.add_key(
        tx.connection,
        {
            "delegation_id": _delegation(actor),
            "name": name,
            "key_hash": service.hash_of(key),
            "ending": key[-4:],
            "permissions": permissions,
            "limits": limits.kept(),
            "made_at": tx.now,
            "expires_at": accounts_service.start_of(tx, last_day + timedelta(1)),
        },
    )
    after = {"last day": last_day, "may": "all of the role" if permissions is None else ", ".join(permissions)}
    _log(tx, actor, what, f"{name} …{key[-4:]}", after)
    return key


def replace(tx: Transaction, actor: Actor, key_id: int, last_day: date) -> str:
    """Another key in place of one, which still works for a day; what is shown once."""
    found = _mine(tx, actor, key_id)
    may = None if found.permissions is None else frozenset(found.permissions)
    if not accounts_service.today(tx) <= last_day <= accounts_service.today(tx) + LONGEST:
        raise invalid(f"The last day is from today to {accounts_service.today(tx) + LONGEST}.", "last_day")
    key_store.change_key(tx.connection, key_id, {"expires_at": min(found.expires_at, tx.now + GOES_ON)})
    own = delegation_store.lock_delegation(tx.connection, _delegation(actor))
    if own is not None and own.last_day is not None:
        last_day = min(last_day, own.last_day)
    permissions = None if may is None else sorted(may)
    return _make(tx, actor, found.name, last_day, permissions, limits_of(found.limits), "program key replaced")


def end(tx: Transaction, actor: Actor, key_id: int) -> None:
    """A key works no more."""
    found = _mine(tx, actor, key_id)
    key_store.change_key(tx.connection, key_id, {"ended_at": tx.now})
    _log(tx, actor, "program key ended", f"{found.name} …{found.ending}", None)


def actor_of(tx: Transaction, key: str, origin: str) -> Actor | None:
    """Who acts with a key; None where it is unknown, over, or its delegation or account is, which is noted of a key
    that was made. Refused where it asks too often (429)."""
    found = key_store.key(tx.connection, service.hash_of(key))
    if found is None:
        return None
    now, day = tx.now, accounts_service.today(tx)
    works = found.ended_at is None and now < found.expires_at
    in_its_days = (found.first_day or day) <= day <= (found.last_day or day) and not found.is_ended
    if not works or not in_its_days or not service.open_to(tx, [found]):
        _note_over(tx, found, origin)
        return None
    asked = key_store.count_key(tx.connection, found.key_id, int(now.timestamp()) // 60, now, origin[:64])
    if asked > MOST_A_MINUTE:
        raise KeptRefusal(TOO_OFTEN, {"Retry-After": str(60 - now.second)})
    return service.with_key(service.acting(tx, found, found.person, found.email, found.sign_in_id), found)


def _note_over(tx: Transaction, found: KeyDelegation, origin: str) -> None:
    """That a key was shown which works no more, once a minute: a program does not stop asking."""
    if key_store.count_key(tx.connection, found.key_id, int(tx.now.timestamp()) // 60, tx.now, origin[:64]) == 1:
        after = {"from": origin, "why": "it is over, or its delegation is"}
        entry = log_service.Entry("key refused", f"{found.key_name} …{found.ending}", found.account_id, None, after)
        log_service.write(tx, Actor(found.person, found.email, None, found.sign_in_id), None, [entry])


def _delegation(actor: Actor) -> int:
    if actor.delegation_id is None:
        raise not_found("delegation", "of the command line")
    return actor.delegation_id


def _mine(tx: Transaction, actor: Actor, key_id: int) -> Any:
    there = key_store.keys_of(tx.connection, _delegation(actor), tx.now)
    found = next((each for each in there if each.id == key_id), None)
    if found is None:
        raise not_found("key", str(key_id))
    return found


def _log(tx: Transaction, actor: Actor, what: str, subject: str, after: dict[str, Any] | None) -> None:
    account_id = accounts_service.ids_by_code(tx, [actor.scope or ""]).get(actor.scope or "")
    log_service.write(tx, actor, None, [log_service.Entry(what, subject, account_id, None, after)])
