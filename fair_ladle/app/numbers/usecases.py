"""Numbered things: brought in by ranges, reserved for a while as someone chooses, assigned only with what they
need, and released in bulk. What is assigned is an assignment like any other, with the number as its subject."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any, Literal

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts import settings as settings_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.assignments import many
from fair_ladle.app.assignments import service as assignments
from fair_ladle.app.assignments.eligibility import Wanted
from fair_ladle.app.log import service as log_service
from fair_ladle.app.numbers import store
from fair_ladle.app.people import service as people_service
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction, pages
from fair_ladle.app.plumbing.problems import conflict, invalid, not_found
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Pool, Product
from fair_ladle.app.usage import service as usage

State = Literal["free", "reserved", "assigned", "withdrawn"]
Sort = Literal["number", "account", "person", "address", "since"]
MOST_AT_ONCE = 10_000
ITEM = re.compile(r"^[A-Za-z0-9+][A-Za-z0-9+./_-]{0,127}$")


@dataclass(frozen=True)
class Number:
    """A numbered thing and what it is doing."""

    number: str
    state: State
    account: str | None
    account_name: str | None
    since: datetime
    username: str | None
    person: str | None
    address: str | None
    mine: bool
    """Whether it is reserved by whoever asks."""
    until: datetime | None
    recorded: bool
    """Whether only an assignment knows it: it was never brought in."""


@dataclass(frozen=True)
class Use:
    """A number to assign: to whom, and where it is used."""

    number: str
    username: str | None = None
    address: str | None = None


def needs_address(number: str) -> bool:
    """A telephone number (E.164, with its +) is assigned with the address where it is used, for calls for help."""
    return number.startswith("+")


def _product(tx: Transaction, code: str) -> Product:
    found = pools_service.product(tx, code)
    if found.measure != "item":
        raise invalid(f"{found.name} is measured by {found.measure}; it has no numbers.", "product")
    return found


def _pools(tx: Transaction, actor: Actor, accounts: Accounts, product: Product) -> list[tuple[Pool, int]]:
    """The pools that reach the branch, each with its owner's row: those in it, and the nearest above its top."""
    every = {accounts.row_of_id[pool.owner_id]: pool for pool in pools_service.pools(tx, [product])}
    path = accounts.tree.path_up(accounts_service.top_row(accounts, actor))
    nearest = next((row for row in path if row in every), None)
    return [(pool, row) for row, pool in every.items() if accounts.tree.is_inside(row, path[0]) or row == nearest]


def _pool_above(tx: Transaction, accounts: Accounts, row: int, product: Product) -> Pool:
    """The pool an account's units come from: the nearest upwards. Refused where there is none."""
    owned = {accounts.row_of_id[pool.owner_id]: pool for pool in pools_service.pools(tx, [product])}
    found = next((owned[each] for each in accounts.tree.path_up(row) if each in owned), None)
    if found is None:
        raise invalid(f"Neither {accounts.name(row)} nor any account above it has a pool of {product.name}.", "product")
    return found


def expanded(text: str) -> Iterator[str]:
    """Numbers as they are written: one a line, or a range from the first to the last of one length (``a - b``)."""
    for line in text.splitlines():
        ends = [part.strip() for part in re.split(r"\s+-\s+|\s*(?:\.\.|…|–)\s*|\t+", line.strip()) if part.strip()]
        if not ends:
            continue
        ends = [re.sub(r"(?<=[\d+]) (?=\d)", "", part) for part in ends]
        for part in ends:
            if not ITEM.fullmatch(part):
                raise invalid(f"{part[:80]!r} is no number; letters, digits and + . / _ - are, 128 at most.", "numbers")
        if len(ends) == 1:
            yield ends[0]
            continue
        first, last = (re.fullmatch(r"(.*?)(\d{1,18})", part) for part in ends[:2])
        if (
            len(ends) > 2
            or first is None
            or last is None
            or first[1] != last[1]
            or len(first[2]) != len(last[2])
            or int(first[2]) > int(last[2])
        ):
            raise invalid(
                f"{line.strip()[:80]!r} is no range; one goes from a first to a last number of the same "
                "length that differ in their last digits.",
                "numbers",
            )
        if int(last[2]) - int(first[2]) >= MOST_AT_ONCE:
            raise invalid(
                f"{line.strip()[:80]!r} has {int(last[2]) - int(first[2]) + 1} numbers; {MOST_AT_ONCE} at once.",
                "numbers",
            )
        for value in range(int(first[2]), int(last[2]) + 1):
            yield f"{first[1]}{value:0{len(first[2])}}"


def load(tx: Transaction, actor: Actor, product: str, owner: str, text: str) -> int:
    """Put numbers into the pool that an account of the branch owns, all or none; how many. Refused where one is
    there."""
    accounts, found = accounts_service.known(tx), _product(tx, product)
    row = accounts_service.row_in_scope(accounts, actor, owner)
    pool = next((pool for pool, at in _pools(tx, actor, accounts, found) if at == row), None)
    if pool is None:
        raise invalid(f"{accounts.name(row)} has no pool of {found.name} of its own.", "owner")
    numbers: dict[str, None] = {}
    for number in expanded(text):
        if number in numbers:
            raise invalid(f"{number} is listed twice.", "numbers")
        numbers[number] = None
        if len(numbers) > MOST_AT_ONCE:
            raise invalid(f"At most {MOST_AT_ONCE} numbers at once.", "numbers")
    if not numbers:
        raise invalid("Write numbers, one a line, or a range: first - last.", "numbers")
    there = store.known(tx.connection, found.id, numbers)
    back = [each for each, item in there.items() if item.withdrawn_at is not None and item.pool_id == pool.id]
    double = [each for each in there if each not in back]
    if double:
        raise conflict(
            f"{double[0]} is there "
            f"already{f', as are {len(double) - 1} others' if len(double) > 1 else ''}; nothing was imported."
        )
    store.change(tx.connection, found.id, back, {"withdrawn_at": None, "brought_in_at": tx.now})
    new = [each for each in numbers if each not in there]
    if new:
        store.add(
            tx.connection,
            [{"pool_id": pool.id, "product_id": found.id, "number": each, "brought_in_at": tx.now} for each in new],
        )
    log_service.write(
        tx,
        actor,
        None,
        [
            log_service.Entry(
                "numbers imported",
                found.code,
                int(accounts.ids[row]),
                None,
                {"count": len(numbers), "first": next(iter(numbers))},
            )
        ],
    )
    return len(numbers)


def withdraw(tx: Transaction, actor: Actor, product: str, numbers: Sequence[str]) -> int:
    """Take free numbers out of the stock, all or none."""
    accounts, found = accounts_service.known(tx), _product(tx, product)
    own = {
        pool.id: row
        for pool, row in _pools(tx, actor, accounts, found)
        if accounts_service.sees(accounts, actor, pool.owner_id)
    }
    there = store.known(tx.connection, found.id, numbers, lock=True)
    taken = {row.subject for row in usage.open_assignments(tx, [found], numbers, tx.now)}
    for number in numbers:
        item = there.get(number)
        if item is None or item.pool_id not in own or item.withdrawn_at is not None:
            raise not_found("number", number)
        if number in taken or (
            item.reserved_until is not None and item.reserved_until > tx.now and item.reserved_by != actor.sign_in_id
        ):
            raise conflict(f"{number} is in use; release it first.")
    store.change(
        tx.connection, found.id, numbers, {"withdrawn_at": tx.now, "reserved_by": None, "reserved_until": None}
    )
    log_service.write(
        tx,
        actor,
        None,
        [
            log_service.Entry(
                "number withdrawn", each, int(accounts.ids[own[there[each].pool_id]]), {"product": found.code}
            )
            for each in numbers
        ],
    )
    return len(numbers)


def reserve(
    tx: Transaction, actor: Actor, product: str, account: str, count: int = 0, numbers: Sequence[str] = ()
) -> tuple[list[str], datetime]:
    """Keep numbers for oneself while choosing, as long as the account has set: those named, or the first so many that
    are free; until when."""
    accounts, found = accounts_service.known(tx), _product(tx, product)
    row = accounts_service.row_in_scope(accounts, actor, account)
    pool = _pool_above(tx, accounts, row, found)
    if not numbers:
        if not 1 <= count <= many.MOST_AT_ONCE:
            raise invalid(f"Between 1 and {many.MOST_AT_ONCE} numbers.", "count")
        numbers = store.pick(tx.connection, pool.id, found.id, count, tx.now)
        if len(numbers) < count:
            raise conflict(f"Only {len(numbers)} of {count} are free in the stock; bring more in, or choose fewer.")
    now, there = tx.now, store.known(tx.connection, found.id, numbers, lock=True)
    _not_taken(tx, actor, accounts, found, pool.id, numbers, there)
    until = now + timedelta(minutes=settings_service.value(tx, accounts, row, "number_hold"))
    store.change(tx.connection, found.id, numbers, {"reserved_by": actor.sign_in_id or 0, "reserved_until": until})
    return list(numbers), until


def _not_taken(
    tx: Transaction,
    actor: Actor,
    accounts: Accounts,
    product: Product,
    pool_id: int,
    numbers: Sequence[str],
    there: dict[str, Any],
) -> None:
    """Refuse what is in use or reserved; what others use of the same stock is not there."""
    now, taken = (
        tx.now,
        {row.subject: row.account_id for row in usage.open_assignments(tx, [product], numbers, tx.now)},
    )
    for number in numbers:
        item = there.get(number)
        if (
            item is None
            or item.pool_id != pool_id
            or item.withdrawn_at is not None
            or (number in taken and not accounts_service.sees(accounts, actor, taken[number]))
        ):
            raise not_found("number", number)
        if number in taken:
            raise conflict(f"{number} is in use already.")
        if (
            item.reserved_until is not None
            and item.reserved_until > now
            and item.reserved_by != (actor.sign_in_id or 0)
        ):
            raise conflict(f"{number} is reserved by someone else until {item.reserved_until:%H:%M} UTC.")


def cancel_reservation(tx: Transaction, actor: Actor, product: str, numbers: Sequence[str]) -> None:
    """Numbers reserved by oneself are free again."""
    found = _product(tx, product)
    mine = [
        number
        for number, item in store.known(tx.connection, found.id, numbers, lock=True).items()
        if item.reserved_by == (actor.sign_in_id or 0)
    ]
    store.change(tx.connection, found.id, mine, {"reserved_by": None, "reserved_until": None})


def assign(tx: Transaction, actor: Actor, product: str, account: str, uses: Sequence[Use]) -> int:
    """Assign numbers in an account, all or none; refused where one lacks what it needs, or a limit stops them."""
    accounts, found = accounts_service.known(tx), _product(tx, product)
    row = accounts_service.row_in_scope(accounts, actor, account)
    if not uses or len(uses) > many.MOST_AT_ONCE:
        raise invalid(f"Between 1 and {many.MOST_AT_ONCE} numbers at once.", "numbers")
    people = people_service.by_username(tx, [use.username for use in uses if use.username])
    for use in uses:
        if needs_address(use.number) and not (use.address or "").strip():
            raise invalid(f"{use.number} needs the address where it is used.", "address")
        if len(use.address or "") > 500:
            raise invalid("An address has 500 characters at most.", "address")
        person = people.get(use.username) if use.username else None
        if use.username and (
            person is None
            or row not in accounts.tree.path_up(accounts.row_of_id[person.account_id])
            or person.status not in ("active", "invited")
        ):
            raise invalid(f"{use.username} is not an active person of {accounts.name(row)}.", "username")
    pool = _pool_above(tx, accounts, row, found)
    numbers = [use.number for use in uses]
    there = store.known(tx.connection, found.id, numbers, lock=True)
    _not_taken(tx, actor, accounts, found, pool.id, numbers, there)
    assignments.admit(tx, actor, [Wanted(account, found.code, number) for number in numbers])
    for use in uses:
        store.change(
            tx.connection,
            found.id,
            [use.number],
            {
                "person_id": people[use.username].id if use.username else None,
                "address": (use.address or "").strip() or None,
                "reserved_by": None,
                "reserved_until": None,
            },
        )
    return len(uses)


def release(tx: Transaction, actor: Actor, product: str, numbers: Sequence[str]) -> int:
    """Numbers are free again, all or none."""
    accounts, found = accounts_service.known(tx), _product(tx, product)
    there = {
        row.subject: accounts.tree.codes[accounts.row_of_id[row.account_id]]
        for row in usage.open_assignments(tx, [found], numbers, tx.now)
        if accounts_service.sees(accounts, actor, row.account_id)
    }
    for number in numbers:
        if number not in there:
            raise not_found("number", number)
    assignments.release(tx, actor, [Wanted(there[number], found.code, number) for number in numbers])
    store.change(tx.connection, found.id, numbers, {"person_id": None, "address": None})
    return len(numbers)


def every(
    tx: Transaction,
    actor: Actor,
    product: str,
    state: State = "assigned",
    find: str = "",
    account: str | None = None,
    sort: Sort = "number",
    down: bool = False,
) -> Iterator[Number]:
    """All of the list, some thousands at a time."""
    return pages(lambda at, most: listing(tx, actor, product, state, find, account, None, sort, down, at, most)[1])


def listing(
    tx: Transaction,
    actor: Actor,
    product: str,
    state: State = "assigned",
    find: str = "",
    account: str | None = None,
    username: str | None = None,
    sort: Sort = "number",
    down: bool = False,
    offset: int = 0,
    limit: int = 200,
) -> tuple[int, list[Number]]:
    """How many numbers there are in a state, and some of them in an order: those in use in the branch, or those of
    the pools that reach it which nobody uses."""
    accounts, found = accounts_service.known(tx), _product(tx, product)
    ids = accounts_service.branch_ids(accounts, actor, account)
    pools = [pool.id for pool, _ in _pools(tx, actor, accounts, found)]
    total, rows = store.page(
        tx.connection, found.id, pools, ids, state, find, username, tx.now, sort, down, offset, limit
    )
    top = accounts_service.top_row(accounts, actor)
    return total, [
        Number(
            row.number,
            state,
            None if row.account_id is None else accounts.tree.codes[accounts.row_of_id[row.account_id]],
            None if row.account_id is None else accounts.full_name(accounts.row_of_id[row.account_id], top),
            row.begins,
            row.username,
            row.display_name,
            row.address if state == "assigned" else None,
            state == "reserved" and row.reserved_by == (actor.sign_in_id or 0),
            row.reserved_until if state == "reserved" else None,
            row.id is None,
        )
        for row in rows
    ]
