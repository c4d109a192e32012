"""What people left behind in accounts that are no longer theirs: moved to somebody or to a shared folder, deleted after
a waiting time, or kept.

Locks: those of a report (``assignments/storing.py``).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.assignments import storing
from fair_ladle.app.log import service as log_service
from fair_ladle.app.people import service as people_service
from fair_ladle.app.people.rows import PersonRecord
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.prepared import in_utc
from fair_ladle.app.plumbing.problems import conflict, invalid, not_found
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.storage import folders
from fair_ladle.app.storage.listing import product_of
from fair_ladle.app.usage import service as usage
from fair_ladle.app.usage.tables import stored

MOST_DAYS, AT_ONCE = 365, 200
k = stored


@dataclass(frozen=True)
class Left:
    """What somebody left behind: of a product, in an account (its number), under a username."""

    product: Product
    account_id: int
    name: str


def _left(tx: Transaction, actor: Actor, product: str, account: str, name: str) -> tuple[Product, int]:
    """The product and account of something left behind; refused where it is not, or the person is there."""
    found = product_of(tx, actor, product)
    accounts = accounts_service.known(tx)
    account_id = int(accounts.ids[accounts_service.row_in_scope(accounts, actor, account)])
    if not _bytes(tx, found, account_id, name):
        raise not_found("storage", name)
    _refuse_whose(tx, account_id, name)
    return found, account_id


def _bytes(tx: Transaction, product: Product, account_id: int, name: str) -> int:
    return usage.stored_of_category(tx, product, account_id, usage.home(name))


def _is_theirs(tx: Transaction, account_id: int, name: str) -> bool:
    person = people_service.by_username(tx, [name]).get(name)
    return person is not None and person.account_id == account_id and person.status != "removed"


def _refuse_whose(tx: Transaction, account_id: int, name: str) -> None:
    if _is_theirs(tx, account_id, name):
        raise conflict(f"{name} is of that account; what is theirs stays.")


def _mine(product: Product, account_id: int, name: str) -> list[Any]:
    return [k.c.product_id == product.id, k.c.account_id == account_id, k.c.kind == "person", k.c.name == name]


def delete_after(
    tx: Transaction, actor: Actor, product: str, account: str, name: str, days: int | None
) -> datetime | None:
    """Let what somebody left behind be gone after so many days (None = keep it after all); when."""
    found, account_id = _left(tx, actor, product, account, name)
    return delete_all_after(tx, actor, [Left(found, account_id, name)], days)


def delete_all_after(tx: Transaction, actor: Actor, left: Sequence[Left], days: int | None) -> datetime | None:
    """The same of several; what each of them is, is the caller's to check."""
    if days is not None:
        judge_days(days)
    at = None if days is None else tx.now + timedelta(days=days)
    usage.delete_homes_at(tx, ((each.product.id, each.account_id, each.name) for each in left), at)
    what = "left behind kept" if at is None else "left behind to be deleted"
    told = None if at is None else {"on": f"{at:%Y-%m-%d}"}
    whose = sorted({(each.name, each.account_id) for each in left})
    log_service.write(tx, actor, None, [log_service.Entry(what, name, of, None, told) for name, of in whose])
    return at


def judge_days(days: int | None) -> None:
    """Refused where nothing can be deleted after so many days."""
    if days is None or not 1 <= days <= MOST_DAYS:
        raise invalid(f"From 1 to {MOST_DAYS} days.", "days")


def move(
    tx: Transaction, actor: Actor, product: str, account: str, name: str, person: str | None, folder: str | None
) -> int:
    """Move what somebody left behind to a person of the branch, or to a shared folder of the same account; grains. It
    is not deleted any more. Refused where there is no room."""
    found, from_id = _left(tx, actor, product, account, name)
    accounts = accounts_service.known(tx)
    if (person is None) == (folder is None):
        raise invalid("Say a person or a folder.", "person")
    to_id, category = from_id, f"folder/{folder}"
    if person is not None:
        to_id, category = taker(tx, actor, person).account_id, usage.home(person)
    else:
        folders.judge_open(tx, actor, product, account, folder or "")
    to = accounts.tree.codes[accounts.row_of_id[to_id]]
    grains = usage.grains(storing.move(tx, actor, found, from_id, to, usage.home(name), category))
    if not grains:
        raise conflict(f"All that {name} left behind is held for uploads; move it when they have ended.")
    if folder is not None:  # under the locks, with what has come into it
        folders.judge_open(tx, actor, product, account, folder)
    usage.delete_homes_at(tx, [(found.id, from_id, name)], None)
    entries = [log_service.Entry("left behind moved", name, from_id, None, {"GB": found.said(grains)})]
    if to_id != from_id:
        entries.append(log_service.Entry("bytes moved here", person or "", to_id, None, {"GB": found.said(grains)}))
    log_service.write(tx, actor, None, entries)
    return grains


def taker(tx: Transaction, actor: Actor, person: str) -> PersonRecord:
    """Somebody of the branch to whom bytes are moved; refused where there is no such person."""
    found = people_service.by_username(tx, [person]).get(person)
    accounts = accounts_service.known(tx)
    if found is None or found.status == "removed" or not accounts_service.sees(accounts, actor, found.account_id):
        raise not_found("person", person)
    return found


def delete_at(tx: Transaction, actor: Actor, product: str, account: str, name: str) -> datetime | None:
    """When what somebody left behind is gone; None where it stays."""
    found = product_of(tx, actor, product)
    accounts = accounts_service.known(tx)
    account_id = int(accounts.ids[accounts_service.row_in_scope(accounts, actor, account)])
    at = tx.connection.scalar(sa.select(k.c.delete_at).where(*_mine(found, account_id, name)))
    return None if at is None else in_utc(at)


def due(tx: Transaction) -> list[tuple[int, int, str]]:
    """Some of what was left behind and whose time is over: product, account and name."""
    wanted = sa.select(k.c.product_id, k.c.account_id, k.c.name).where(k.c.delete_at <= tx.now)
    return [tuple(row) for row in tx.connection.execute(wanted.order_by(k.c.delete_at).limit(AT_ONCE))]


def let_go(tx: Transaction, product_id: int, account_id: int, name: str) -> None:
    """Let it be gone, unless it is somebody's of that account again, or was kept."""
    product = next(each for each in pools_service.products(tx) if each.id == product_id)
    at = tx.connection.scalar(sa.select(k.c.delete_at).where(*_mine(product, account_id, name)))
    if at is None or in_utc(at) > tx.now:
        return
    usage.delete_homes_at(tx, [(product_id, account_id, name)], None)
    if _is_theirs(tx, account_id, name):
        return
    samples = [
        {"account_id": account_id, "category": each, "at": tx.now, "bytes": 0}
        for each in usage.series_of(tx, product, account_id, usage.home(name))
    ]
    storing.report_sizes(tx, product, samples)
    entry = log_service.Entry("left behind deleted", name, account_id)
    log_service.write(tx, Actor("schedule", "", None), None, [entry])
