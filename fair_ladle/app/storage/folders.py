"""Shared folders: made, looked after, limited, moved with their bytes, archived, and deleted after a waiting time.

What a folder stores stands in the category ``folder/CODE`` (and below it) of its account's samples, whether anybody
made the folder here or not. Locks: the folder; then counters and what hangs on them.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any, Literal

import sqlalchemy as sa

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts import settings
from fair_ladle.app.assignments import storing
from fair_ladle.app.log import service as log_service
from fair_ladle.app.people import service as people_service
from fair_ladle.app.people.groups import Groups
from fair_ladle.app.people.tables import people
from fair_ladle.app.personal_storage import usecases as personal_storage
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction, lock_rows
from fair_ladle.app.plumbing.prepared import Prepared, Question, ask, in_utc
from fair_ladle.app.plumbing.problems import conflict, invalid, not_allowed, not_found
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.storage.listing import product_of
from fair_ladle.app.storage.tables import shared_folders
from fair_ladle.app.usage import service as usage

WAITING = timedelta(days=30)
MOST_GRAINS, AT_ONCE = 10**15, 200
f = shared_folders


@dataclass(frozen=True)
class FolderTerms:
    """What a folder is: who looks after it (a username), the most it may store (grains), whether that stops, and the
    group of the account whose it is (its code; None = the account's)."""

    name: str
    owner: str | None
    limit: int | None
    stops: bool
    group: str | None = None


@dataclass(frozen=True)
class Folder:
    """A folder as it stands; ``delete_at`` is when what it stores is gone, unless somebody keeps it."""

    code: str
    account: str
    terms: FolderTerms
    owner_name: str | None
    is_orphaned: bool
    archived_at: datetime | None
    delete_at: datetime | None


def known(
    tx: Transaction, actor: Actor, product: str, keys: Sequence[tuple[str, str]]
) -> dict[tuple[str, str], Folder]:
    """Those of these folders (account, code) that somebody made here."""
    found = product_of(tx, actor, product)
    accounts = accounts_service.known(tx)
    ids = {}
    for account, code in keys:
        if accounts_service.is_in_scope(accounts, actor, account):
            ids[int(accounts.ids[accounts.tree.row(account)]), code] = (account, code)
    if not ids:
        return {}
    owner = people.c.username, people.c.display_name, people.c.status, people.c.account_id.label("owners")
    wanted = sa.select(f, *owner)
    mine = wanted.select_from(f.outerjoin(people, people.c.id == f.c.owner_id))
    groups = {each.id: each.code for each in Groups.read(tx, accounts).every}
    rows = tx.connection.execute(
        mine.where(f.c.product_id == found.id, sa.tuple_(f.c.account_id, f.c.code).in_(list(ids)))
    )
    found_at = {ids[row.account_id, row.code]: row for row in rows}
    return {key: _folder(row, key[0], groups.get(row.group_id)) for key, row in found_at.items()}


def _folder(row: Any, account: str, group: str | None) -> Folder:
    is_there = row.username is not None and row.status != "removed" and row.owners == row.account_id
    terms = FolderTerms(row.name, row.username if is_there else None, row.grains, row.stops, group)
    return Folder(
        row.code,
        account,
        terms,
        row.display_name if is_there else None,
        not is_there,
        None if row.archived_at is None else in_utc(row.archived_at),
        None if row.delete_at is None else in_utc(row.delete_at),
    )


def put(tx: Transaction, actor: Actor, product: str, account: str, code: str, terms: FolderTerms) -> None:
    """Make a folder of an account, or change one. A new one is there at once, and stores nothing. Refused where an
    account above keeps making them for itself."""
    found, account_id = _place(tx, actor, product, account)
    code = code.strip()
    judge_code(code, "code")
    if not terms.name.strip() or len(terms.name) > 200:
        raise invalid("A folder has a name, in at most 200 characters.", "name")
    if terms.limit is not None and not 0 <= terms.limit <= MOST_GRAINS:
        raise invalid("A limit from 0 to a million TB.", "limit")
    owner_id = None
    if terms.owner:
        person = people_service.by_username(tx, [terms.owner]).get(terms.owner)
        if person is None or person.account_id != account_id or person.status == "removed":
            raise invalid(f"{terms.owner} is nobody of this account.", "owner")
        owner_id = person.id
    group_id = personal_storage.layer(tx, actor, account, terms.group)[1] if terms.group else None
    there = _locked(tx, found, account_id, code)
    values = {"name": terms.name.strip(), "owner_id": owner_id, "grains": terms.limit, "stops": terms.stops}
    values["group_id"] = group_id
    if there is None:
        _may_make(tx, actor)
        key = {"account_id": account_id, "product_id": found.id, "code": code}
        tx.connection.execute(sa.insert(f).values(**key, **values))
        if not usage.series_of(tx, found, account_id, _category(code)):
            sample = {"account_id": account_id, "category": _category(code), "at": tx.now, "bytes": 0}
            storing.report_sizes(tx, found, [sample])
    else:
        tx.connection.execute(sa.update(f).where(f.c.id == there.id).values(values))
    told = {"limit": "none" if terms.limit is None else found.said(terms.limit), "owner": terms.owner or "nobody"}
    what = "shared folder made" if there is None else "shared folder changed"
    _log(tx, actor, what, code, account_id, told)


def judge_code(code: str, where: str) -> None:
    """Refused where no folder can be called so."""
    if not code or len(code) > 64 or "/" in code or not code.isprintable() or code == usage.RESERVED:
        raise invalid("A folder's code has up to 64 printable characters and no slash.", where)


def _may_make(tx: Transaction, actor: Actor) -> None:
    accounts = accounts_service.known(tx)
    top = accounts_service.top_row(accounts, actor)
    if settings.made_above(tx, accounts, top, "folders"):
        raise not_allowed(f"Shared folders are made above this branch. Ask {accounts.name(accounts.tree.parent[top])}.")


def _place(tx: Transaction, actor: Actor, product: str, account: str) -> tuple[Product, int]:
    found = product_of(tx, actor, product)
    accounts = accounts_service.known(tx)
    return found, int(accounts.ids[accounts_service.row_in_scope(accounts, actor, account)])


def _locked(tx: Transaction, product: Product, account_id: int, code: str) -> Any | None:
    mine = [f.c.account_id == account_id, f.c.product_id == product.id, f.c.code == code]
    number = tx.connection.scalar(sa.select(f.c.id).where(*mine))
    return None if number is None else lock_rows(tx.connection, f, [number])[0]


def _there(tx: Transaction, product: Product, account_id: int, code: str) -> Any:
    """A folder, locked; one that stores something and that nobody made is made now under its code."""
    row = _locked(tx, product, account_id, code)
    if row is None:
        if not usage.series_of(tx, product, account_id, _category(code)):
            raise not_found("shared folder", code)
        key = {"account_id": account_id, "product_id": product.id, "code": code}
        tx.connection.execute(sa.insert(f).values(**key, name=code, stops=False))
        row = _locked(tx, product, account_id, code)
    return row


def _category(code: str) -> str:
    return f"folder/{code}"


def _log(tx: Transaction, actor: Actor, what: str, code: str, account_id: int, told: dict[str, Any] | None) -> None:
    log_service.write(tx, actor, None, [log_service.Entry(what, code, account_id, None, told)])


State = Literal["open", "archived", "deleted"]
"""Nothing more is written to a folder that is archived; one that is deleted is gone with what it stores after the
waiting time, unless it is opened before."""


def _state_of(row: Any | None) -> State:
    if row is None or row.archived_at is None:
        return "open"
    return "archived" if row.delete_at is None else "deleted"


def state(tx: Transaction, actor: Actor, product: str, account: str, code: str) -> State:
    """How a folder of the branch stands; refused where there is none."""
    found, account_id = _place(tx, actor, product, account)
    mine = [f.c.account_id == account_id, f.c.product_id == found.id, f.c.code == code]
    row = tx.connection.execute(sa.select(f).where(*mine)).first()
    if row is None and not usage.series_of(tx, found, account_id, _category(code)):
        raise not_found("shared folder", code)
    return _state_of(row)


def lock(tx: Transaction, actor: Actor, product: str, account: str, code: str) -> None:
    """Lock a folder of the branch, if somebody made it, before counters are."""
    found, account_id = _place(tx, actor, product, account)
    _locked(tx, found, account_id, code)


def exchange(
    tx: Transaction, actor: Actor, product: str, account: str, code: str, was: State, now: State
) -> log_service.Entry:
    """Let a folder stand otherwise, if it still stands as it ``was``; refused if not. What the log says of it is the
    caller's to write."""
    found, account_id = _place(tx, actor, product, account)
    row = _there(tx, found, account_id, code)
    if _state_of(row) != was:
        raise conflict(f"{row.name} was archived, opened or deleted meanwhile; nothing was changed.")
    return _set(tx, row, now)[0]


def set_state(tx: Transaction, actor: Actor, product: str, account: str, code: str, now: State) -> datetime | None:
    """Let a folder stand otherwise, however it does; when it is gone, if it is deleted."""
    found, account_id = _place(tx, actor, product, account)
    row = _there(tx, found, account_id, code)
    entry, gone = _set(tx, row, now)
    log_service.write(tx, actor, None, [entry])
    return gone


def _set(tx: Transaction, row: Any, now: State) -> tuple[log_service.Entry, datetime | None]:
    at = tx.now
    gone = at + WAITING if now == "deleted" else None
    values = {"archived_at": None if now == "open" else row.archived_at or at, "delete_at": gone}
    tx.connection.execute(sa.update(f).where(f.c.id == row.id).values(values))
    told = None if gone is None else {"on": f"{gone:%Y-%m-%d}"}
    return log_service.Entry(ACTIONS[now], row.code, row.account_id, None, told), gone


ACTIONS: dict[State, str] = {
    "open": "shared folder opened again",
    "archived": "shared folder archived",
    "deleted": "shared folder to be deleted",
}


def move(tx: Transaction, actor: Actor, product: str, account: str, code: str, to_account: str) -> int:
    """Move a folder with its bytes, and so what they cost from now on, to another account of the branch; grains.
    Refused where that has no room."""
    found, from_id = _place(tx, actor, product, account)
    _, to_id = _place(tx, actor, product, to_account)
    if from_id == to_id:
        raise invalid("It is in that account.", "to_account")
    row = _there(tx, found, from_id, code)
    if usage.stored_of_category(tx, found, to_id, _category(code)) or _locked(tx, found, to_id, code) is not None:
        raise conflict(f"There is a folder {code} in that account already.")
    grains = usage.grains(storing.move(tx, actor, found, from_id, to_account, _category(code), _category(code)))
    tx.connection.execute(sa.update(f).where(f.c.id == row.id).values(account_id=to_id, owner_id=None, group_id=None))
    for what, account_id in (("shared folder moved away", from_id), ("shared folder moved here", to_id)):
        _log(tx, actor, what, code, account_id, {"GB": found.said(grains)})
    return grains


def due(tx: Transaction) -> list[int]:
    """Some of the folders whose waiting time is over."""
    wanted = sa.select(f.c.id).where(f.c.delete_at <= tx.now).order_by(f.c.delete_at).limit(AT_ONCE)
    return list(tx.connection.scalars(wanted))


def let_go(tx: Transaction, number: int) -> None:
    """Let a folder and what it stores be gone, if its waiting time is over."""
    row = lock_rows(tx.connection, f, [number])[0]
    if row.delete_at is None or in_utc(row.delete_at) > tx.now:
        return
    product = next(each for each in pools_service.products(tx) if each.id == row.product_id)
    samples = [
        {"account_id": row.account_id, "category": each, "at": tx.now, "bytes": 0}
        for each in usage.series_of(tx, product, row.account_id, _category(row.code))
    ]
    if samples:
        storing.report_sizes(tx, product, samples)
    tx.connection.execute(sa.delete(f).where(f.c.id == number))
    _log(tx, Actor("schedule", "", None), "shared folder deleted", row.code, row.account_id, None)


def judge_open(tx: Transaction, actor: Actor, product: str, account: str, code: str) -> None:
    """Refused where there is no such folder, nothing more is put into it, or it is over a limit that stops."""
    state(tx, actor, product, account, code)
    found, account_id = _place(tx, actor, product, account)
    [there] = ask(tx.connection, standing(found, account_id, code))
    why = why_full(found, there, usage.grains(there.bytes))
    if why is not None:
        raise conflict(why)


_ROW = Prepared(
    sa.select(f).where(
        f.c.account_id == sa.bindparam("account"),
        f.c.product_id == sa.bindparam("product"),
        f.c.code == sa.bindparam("code"),
    )
)


@dataclass(frozen=True)
class Standing:
    """A folder that somebody made (its row), and the bytes it stores, read together."""

    row: Any
    bytes: int


def standing(product: Product, account_id: int, code: str) -> Question[Standing]:
    """What is written to a folder has to know, to be asked with other things."""
    stored = usage.of_folder(product, account_id, code)
    mine = {"account": account_id, "product": product.id, "code": code}

    def found(rows: list[Any], *of_stored: list[Any]) -> Standing:
        there = stored.answer(*of_stored)
        return Standing(next(iter(rows), None), 0 if there is None else int(there.bytes))

    return Question([(_ROW, mine), *stored.asked], found)


def why_full(product: Product, found: Standing, grains: int) -> str | None:
    """Why a folder does not store so many grains in all; None where it does."""
    row = found.row
    if row is None:
        return None
    if row.archived_at is not None:
        return f"{row.name} is archived; nothing more is written to it."
    if row.stops and row.grains is not None and grains > row.grains:
        return f"{row.name} may store {product.said(row.grains)}, and would store {product.said(grains)}."
    return None
