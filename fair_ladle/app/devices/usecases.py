"""Devices: activated by a key, reporting, revoked in two steps, given to other people, and working without a network.

A device's unit is an assignment like any other, under the same limits; its row here says what reports for it.
"""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any, Literal

import sqlalchemy as sa

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.assignments import service as assignments
from fair_ladle.app.assignments.eligibility import Wanted
from fair_ladle.app.devices import store
from fair_ladle.app.devices.rows import ActivationKeyRecord, DeviceRecord
from fair_ladle.app.enforcement import usecases as enforcement
from fair_ladle.app.log import service as log_service
from fair_ladle.app.plumbing import generations
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Again, Transaction, pages
from fair_ladle.app.plumbing.prepared import Question, ask
from fair_ladle.app.plumbing.problems import Problem, Refused, conflict, invalid, not_found
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.usage import service as usage
from fair_ladle.core.calendar import day_name

Sort = Literal["machine", "product", "account", "person", "since", "reported"]
LETTERS = "ABCDEFGHJKLMNPQRSTUVWXYZ23456789"
REPORTS_EVERY = 3600
"""Seconds after which a device should report again."""


@dataclass(frozen=True)
class DeviceKey:
    """A key to begin with, as its row has it, with its account and product."""

    row: ActivationKeyRecord
    account: str
    account_name: str
    product: Product
    devices: int = 0


@dataclass(frozen=True)
class Device:
    """A device: what it is of, who has it, and what is known of it (nothing but its name where an intake recorded
    it)."""

    machine: str
    name: str | None
    product: Product
    account: str
    account_name: str
    since: datetime
    username: str | None
    person: str | None
    state: str
    on_hold: bool
    reports: bool
    reported_at: datetime | None
    offline_until: datetime | None


def hashed(secret: str) -> str:
    """What is kept of a key or a token."""
    return hashlib.sha256(secret.encode()).hexdigest()


def _refused(title: str, detail: str, status: int = 403) -> Refused:
    return Refused(Problem("device-refused", title, status, detail))


# Keys


def make_key(
    tx: Transaction,
    actor: Actor,
    account: str,
    product: str,
    name: str,
    most: int | None = None,
    last_day: date | None = None,
) -> tuple[int, str]:
    """A new key for devices, sessions or storage systems of a product in an account; its number, and the key, which is
    shown only now."""
    accounts = accounts_service.known(tx)
    row = accounts_service.row_in_scope(accounts, actor, account)
    found = pools_service.product(tx, product)
    if found.measure not in ("device", "session", "storage"):
        raise invalid(
            f"{found.name} is measured by {found.measure}; keys are for devices, sessions and storage.", "product"
        )
    if not name.strip():
        raise invalid("A key has a name, to know it by.", "name")
    if most is not None and not 1 <= most <= 1_000_000:
        raise invalid("At least one device.", "most")
    if last_day is not None and last_day < accounts_service.today(tx):
        raise invalid("Its last day is over already.", "last_day")
    assignments.room(tx, actor, account, found)  # refused where no pool reaches the account
    key = "-".join("".join(secrets.choice(LETTERS) for _ in range(5)) for _ in range(5))
    account_id = int(accounts.ids[row])
    key_id = store.add_key(
        tx.connection,
        {
            "account_id": account_id,
            "product_id": found.id,
            "name": name.strip()[:200],
            "key_hash": hashed(key),
            "ending": key[-5:],
            "most": most,
            "last_day": last_day,
            "made_at": tx.now,
            "made_by": actor.name,
        },
    )
    log_service.write(
        tx,
        actor,
        None,
        [log_service.Entry("key made", name.strip(), account_id, None, {"product": found.code, "ends with": key[-5:]})],
    )
    return key_id, key


def keys(tx: Transaction, actor: Actor) -> list[DeviceKey]:
    """The keys of the branch, the newest first."""
    accounts = accounts_service.known(tx)
    branch = accounts.tree.branch(accounts_service.top_row(accounts, actor))
    products = _products(tx)
    return [
        _key(accounts, products, row, row.devices)
        for row in store.every_key(tx.connection, [int(each) for each in accounts.ids[branch]])
    ]


def _products(tx: Transaction) -> dict[int, Product]:
    return {each.id: each for each in pools_service.products(tx)}


def _key(accounts: Accounts, products: dict[int, Product], row: ActivationKeyRecord, devices: int = 0) -> DeviceKey:
    place = accounts.row_of_id[row.account_id]
    return DeviceKey(row, accounts.tree.codes[place], accounts.name(place), products[row.product_id], devices)


def withdraw_key(tx: Transaction, actor: Actor, key_id: int) -> None:
    """Nothing new begins with a key; what began stays."""
    accounts = accounts_service.known(tx)
    row = store.key(tx.connection, key_id=key_id, locks=False)
    seen = row is not None and accounts_service.sees(accounts, actor, row.account_id)
    row = store.key(tx.connection, key_id=key_id) if seen else None
    if row is None:
        raise not_found("key", str(key_id))
    if row.withdrawn_at is None:
        store.withdraw_key(tx.connection, key_id, tx.now)
        log_service.write(
            tx, actor, None, [log_service.Entry("key withdrawn", row.name, row.account_id, {"ends with": row.ending})]
        )


KEYED = {"device": "devices of", "session": "sessions of", "storage": "what is stored of"}


def valid_key(tx: Transaction, key: str | None, measure: str, key_hash: str | None = None) -> tuple[DeviceKey, Actor]:
    """A key that something may begin with, locked, and who acts by it. Refused with the reason where it is over."""
    return _judged(tx, store.key(tx.connection, key_hash=key_hash or _hashed_key(key)), measure)


def valid_key_not_locked(
    tx: Transaction, key: str | None, measure: str, *with_it: Question[Any]
) -> tuple[DeviceKey, Actor, list[Any]]:
    """The same for what decides nothing about the key; and what these questions come to, asked with it."""
    found, *others = ask(tx.connection, store.key_and_generations(_hashed_key(key)), *with_it)
    row, every = found or (None, None)
    generations.note(tx, every)
    return *_judged(tx, row, measure), others


def _hashed_key(key: str | None) -> str:
    return hashed((key or "").strip().upper())


def _judged(tx: Transaction, row: ActivationKeyRecord | None, measure: str) -> tuple[DeviceKey, Actor]:
    if row is None:
        raise _refused("No such key", "There is no such key; look whether it was copied whole.")
    found = _key(accounts_service.known(tx), _products(tx), row)
    if found.product.measure != measure:
        raise _refused("Another kind of key", f"This key is for {KEYED[found.product.measure]} {found.product.name}.")
    if row.withdrawn_at is not None:
        raise _refused("Withdrawn", "This key was withdrawn. Ask your administrator for another one.")
    if row.last_day is not None and row.last_day < accounts_service.today(tx):
        raise _refused("Over", f"This key ended on {day_name(row.last_day)}.")
    return found, Actor(f"key {row.ending}", "", found.account)


# What a device does


def activate(
    tx: Transaction,
    key: str | None,
    machine: str,
    name: str = "",
    key_hash: str | None = None,
    offline_until: datetime | None = None,
) -> tuple[DeviceKey, str]:
    """Take a unit for a machine; its token, to report with. A machine that is active by this product already keeps its
    unit and gets another token."""
    machine = machine.strip()
    if not machine or len(machine) > 128 or not machine.isprintable():
        raise invalid("A machine says what it is called, in at most 128 characters.", "machine")
    found, actor = valid_key(tx, key, "device", key_hash)
    row = store.device(tx.connection, found.product.id, machine)
    if row is not None and row.state != "active":
        raise _refused("Revoked", "This device was revoked; its administrator can let it come back.")
    account_id, token, now = found.row.account_id, secrets.token_urlsafe(32), tx.now
    there = next(iter(usage.open_assignments(tx, [found.product], [machine], now)), None)
    if there is not None and there.account_id != account_id:
        raise conflict("A machine of that name is active elsewhere; give this one another name.")
    if there is None:
        if found.row.most is not None and store.active_by_key(tx.connection, found.row.id) >= found.row.most:
            raise _refused(
                "Used up",
                f"This key is for {found.row.most} "
                f"{found.product.unit}{'s' if found.row.most > 1 else ''} at once, and all of them are active.",
                409,
            )
        assignments.admit(tx, actor, [Wanted(found.account, found.product.code, machine)])
    values = {
        "key_id": found.row.id,
        "account_id": account_id,
        "product_id": found.product.id,
        "machine": machine,
        "name": (name.strip() or machine)[:200],
        "token_hash": hashed(token),
        "state": "active",
        "reported_at": now,
        "revoked_at": None,
        "offline_until": offline_until,
    }
    try:
        store.put(tx.connection, row.id if row else None, values if row else {**values, "activated_at": now})
    except sa.exc.IntegrityError:
        raise Again from None
    return found, token


def _by_token(tx: Transaction, token: str) -> Any:
    row = store.by_token(tx.connection, hashed(token))
    if row is None:
        raise _refused("Not known", "This device is not known (any more); activate it with a key.", 401)
    return row


def report(tx: Transaction, token: str) -> dict[str, Any]:
    """A device says that it is there and hears whether it may go on."""
    row = _by_token(tx, token)
    if row.state != "active":
        if row.state == "revoking":
            store.put(tx.connection, row.id, {"state": "revoked", "reported_at": tx.now})
        return {"state": "revoked", "says": "This device was revoked: stop, and remove what was installed."}
    product = _products(tx)[row.product_id]
    if not usage.open_assignments(tx, [product], [row.machine], tx.now):
        store.put(tx.connection, row.id, {"state": "revoked", "revoked_at": tx.now, "reported_at": tx.now})
        return {
            "state": "revoked",
            "says": "The unit of this device was released: stop, and activate it anew if it is needed.",
        }
    store.put(tx.connection, row.id, {"reported_at": tx.now})
    if _held(tx, row.account_id, product.code, [row.machine]):
        return {
            "state": "on hold",
            "says": "The account is past its cap and its grace is over; this unit is on hold until there is room.",
            "report_again": REPORTS_EVERY // 6,
        }
    return {"state": "active", "report_again": REPORTS_EVERY}


def _held(tx: Transaction, account_id: int, product: str, machines: list[str]) -> set[str]:
    accounts = accounts_service.known(tx)
    code = accounts.tree.codes[accounts.row_of_id[account_id]]
    return {each.subject for each in enforcement.on_hold(tx, Actor("device", "", code), code, product)} & set(machines)


def give_back(tx: Transaction, token: str) -> None:
    """A device gives its unit back by itself."""
    row = _by_token(tx, token)
    if row.state == "active":
        _release(tx, Actor("device", "", None), row)
    store.forget(tx.connection, [row.id])


def _release(tx: Transaction, actor: Actor, row: DeviceRecord) -> None:
    accounts = accounts_service.known(tx)
    product = _products(tx)[row.product_id]
    if usage.open_assignments(tx, [product], [row.machine], tx.now):
        assignments.release(
            tx, actor, [Wanted(accounts.tree.codes[accounts.row_of_id[row.account_id]], product.code, row.machine)]
        )


# What an admin does


def every(
    tx: Transaction,
    actor: Actor,
    find: str = "",
    product: str | None = None,
    account: str | None = None,
    revoked: bool = False,
    sort: Sort = "machine",
    down: bool = False,
) -> Iterator[Device]:
    """All of the list, some thousands at a time."""
    return pages(lambda at, most: listing(tx, actor, find, product, account, None, revoked, sort, down, at, most)[1])


def listing(
    tx: Transaction,
    actor: Actor,
    find: str = "",
    product: str | None = None,
    account: str | None = None,
    username: str | None = None,
    revoked: bool = False,
    sort: Sort = "machine",
    down: bool = False,
    offset: int = 0,
    limit: int = 200,
) -> tuple[int, list[Device]]:
    """How many devices the branch has, and some of them in an order."""
    accounts = accounts_service.known(tx)
    ids = accounts_service.branch_ids(accounts, actor, account)
    products = {
        each.id: each
        for each in pools_service.products(tx)
        if each.measure == "device" and product in (None, each.code)
    }
    total, rows = store.page(
        tx.connection, ids, list(products), revoked, find, username, tx.now, sort, down, offset, limit
    )
    held = {(each.product, each.subject) for each in enforcement.on_hold(tx, actor, account, product)}
    top, found = accounts_service.top_row(accounts, actor), []
    for row in rows:
        place, of = accounts.row_of_id[row.account_id], products[row.product_id]
        found.append(
            Device(
                row.subject,
                row.name,
                of,
                accounts.tree.codes[place],
                accounts.full_name(place, top),
                row.begins,
                row.username,
                row.display_name,
                row.state or "active",
                (of.code, row.subject) in held,
                row.key_id is not None,
                row.reported_at,
                row.offline_until,
            )
        )
    return total, found
