"""Sessions of concurrent use. A session holds its unit by a lease that heartbeats keep; the unit is the person's, so
that somebody who signs in a second time takes nothing more: their first session is told to save, and ends."""

from __future__ import annotations

import secrets
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any, Literal

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.assignments import service as assignments
from fair_ladle.app.assignments.eligibility import Wanted
from fair_ladle.app.devices.usecases import hashed, valid_key
from fair_ladle.app.leases import store
from fair_ladle.app.leases.jobs import _free
from fair_ladle.app.leases.rows import ShownLease
from fair_ladle.app.log import service as log_service
from fair_ladle.app.people import service as people_service
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction, pages
from fair_ladle.app.plumbing.problems import Problem, Refused, conflict, invalid, not_found
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.usage import service as usage

Sort = Literal["person", "product", "account", "machine", "began"]
BEAT_SECONDS = 60
LEASE = timedelta(minutes=3)
"""A lease is lost when no heartbeat came for so long."""
TO_SAVE = timedelta(minutes=2)
MOST_OFFLINE_DAYS = 30


@dataclass(frozen=True)
class ClientSession:
    """A live session."""

    row: ShownLease
    person: str
    product: Product
    account: str
    account_name: str


def _over(detail: str) -> Refused:
    return Refused(Problem("session-over", "The session is over", 410, detail))


def begin(tx: Transaction, key: str, username: str, machine: str) -> tuple[str, Product, list[str]]:
    """Begin a session by a key of the account, for somebody of it or below; its token, the product, and the machines on
    which their sessions before it are told to end. Refused where no unit is left."""
    machine = machine.strip()
    if not machine or len(machine) > 128 or not machine.isprintable():
        raise invalid("A machine says what it is called, in at most 128 characters.", "machine")
    found, actor = valid_key(tx, key, "session")
    accounts = accounts_service.known(tx)
    person = people_service.by_username(tx, [username]).get(username)
    if person is None or accounts.tree.row(found.account) not in accounts.tree.path_up(
        accounts.row_of_id[person.account_id]
    ):
        raise not_found("person", username)
    (person,) = people_service.lock(tx, [person.id])  # two beginnings of one person, one after the other
    if person.status != "active":
        raise conflict(f"{username} is {person.status}.")
    now, code = tx.now, accounts.tree.codes[accounts.row_of_id[person.account_id]]
    before = store.live_of(tx.connection, found.product.id, person.id)
    lost = [each.id for each in before if each.until < now]
    store.change(tx.connection, lost, {"ended_at": now, "why": "no heartbeat came"})
    warned = [each for each in before if each.id not in lost]
    store.change(
        tx.connection,
        [each.id for each in warned if each.ends_at is None],
        {"ends_at": now + TO_SAVE, "why": f"{username} has signed in on {machine}"},
    )
    if not usage.open_assignments(tx, [found.product], [username], now):
        assignments.admit(tx, Actor(actor.name, "", found.account), [Wanted(code, found.product.code, username)])
    token = secrets.token_urlsafe(32)
    store.add(
        tx.connection,
        {
            "account_id": person.account_id,
            "product_id": found.product.id,
            "person_id": person.id,
            "username": username,
            "machine": machine,
            "token_hash": hashed(token),
            "began_at": now,
            "until": now + LEASE,
        },
    )
    people_service.change(tx, [person.id], {"last_seen_at": now})
    return token, found.product, [each.machine for each in warned]


def beat(tx: Transaction, token: str) -> dict[str, Any]:
    """A heartbeat: the lease goes on. Says when it is told to end; refused where it has ended."""
    if store.beat(tx.connection, hashed(token), tx.now + LEASE):
        return {"state": "live", "beat_again": BEAT_SECONDS}
    row = _live(tx, token)
    if row.ends_at is None or row.ends_at <= tx.now:
        raise _over(f"This session has ended: {row.why or 'its time is over'}.")
    store.change(tx.connection, [row.id], {"until": max(row.ends_at, tx.now + LEASE)})
    return {
        "state": "ending",
        "save_by": row.ends_at,
        "says": f"Save your work: {row.why}. This session ends at {row.ends_at:%H:%M:%S} UTC.",
        "beat_again": 10,
    }


def _live(tx: Transaction, token: str) -> Any:
    row = store.by_token(tx.connection, hashed(token), lock=True)
    if row is None:
        raise Refused(Problem("session-over", "No such session", 401, "This session is not known; begin a new one."))
    if row.ended_at is not None:
        raise _over(f"This session has ended: {row.why or 'it was closed'}.")
    return row


def end(tx: Transaction, token: str) -> None:
    """A session closes; its unit is free unless the person has another one."""
    row = _live(tx, token)
    store.change(tx.connection, [row.id], {"ended_at": tx.now, "why": "closed"})
    _free(tx, [row])


def go_offline(tx: Transaction, token: str, days: int) -> datetime:
    """Work without a network: the lease holds without heartbeats; until when."""
    if not 1 <= days <= MOST_OFFLINE_DAYS:
        raise invalid(f"Between 1 and {MOST_OFFLINE_DAYS} days.", "days")
    row = _live(tx, token)
    if row.ends_at is not None:
        raise conflict("This session is about to end; it cannot go offline.")
    until = tx.now + timedelta(days=days)
    store.change(tx.connection, [row.id], {"until": until, "offline_until": until})
    return until


def every(
    tx: Transaction,
    actor: Actor,
    find: str = "",
    product: str | None = None,
    account: str | None = None,
    sort: Sort = "person",
    down: bool = False,
) -> Iterator[ClientSession]:
    """All live sessions, some thousands at a time."""
    return pages(lambda at, most: sessions(tx, actor, None, find, product, account, sort, down, at, most)[1])


def sessions(
    tx: Transaction,
    actor: Actor,
    username: str | None = None,
    find: str = "",
    product: str | None = None,
    account: str | None = None,
    sort: Sort = "person",
    down: bool = False,
    offset: int = 0,
    limit: int = 500,
) -> tuple[int, list[ClientSession]]:
    """How many sessions are live in the branch, and some of them in an order."""
    accounts = accounts_service.known(tx)
    products = {
        each.id: each
        for each in pools_service.products(tx)
        if each.measure == "session" and product in (None, each.code)
    }
    total, rows = store.live(
        tx.connection,
        accounts_service.branch_ids(accounts, actor, account),
        list(products),
        find,
        username,
        sort,
        down,
        offset,
        limit,
    )
    top = accounts_service.top_row(accounts, actor)
    return total, [
        ClientSession(
            row,
            row.display_name,
            products[row.product_id],
            accounts.tree.codes[accounts.row_of_id[row.account_id]],
            accounts.full_name(accounts.row_of_id[row.account_id], top),
        )
        for row in rows
    ]


def end_sessions(tx: Transaction, actor: Actor, lease_ids: Sequence[int]) -> int:
    """An admin ends sessions, with time to save; how many of them. One that works without a network ends at once here,
    since nobody could tell it; one that has ended meanwhile stays ended."""
    accounts = accounts_service.known(tx)
    rows = store.by_ids(tx.connection, lease_ids)
    unseen = set(lease_ids) - {row.id for row in rows if accounts_service.sees(accounts, actor, row.account_id)}
    if unseen:
        raise not_found("session", str(min(unseen)))
    live = [row for row in rows if row.ended_at is None]
    why, by = f"{actor.name} has ended it", tx.now + TO_SAVE
    store.change(
        tx.connection, [row.id for row in live if row.offline_until is not None], {"ends_at": tx.now, "why": why}
    )
    store.change(
        tx.connection,
        [row.id for row in live if row.offline_until is None and row.ends_at is None],
        {"ends_at": by, "why": why},
    )
    log_service.write(
        tx,
        actor,
        None,
        [log_service.Entry("session told to end", row.username, row.account_id, {"on": row.machine}) for row in live],
    )
    return len(live)
