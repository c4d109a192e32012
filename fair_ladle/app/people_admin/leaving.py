"""What becomes of what leavers store: chosen with the act that lets them leave an account, and done with it.

Locks: after people and what they hold, the ways up of storage that is moved, of all that is moved at once.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.assignments import service as assignments
from fair_ladle.app.people import service as people_service
from fair_ladle.app.people.rows import PersonRecord
from fair_ladle.app.personal_storage import usecases as personal_storage
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import invalid, not_allowed
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.storage import folders, left_behind
from fair_ladle.app.storage.left_behind import Left
from fair_ladle.app.usage import service as usage

MOST_MOVED = 100
"""People whose bytes are moved at once."""


@dataclass(frozen=True)
class Leaving:
    """What becomes of what leavers store: it stays with the account, is taken along to the one they move to, moved to a
    person (a username) or to a shared folder of the account (its code), or deleted after so many days."""

    what: Literal["keep", "take", "person", "folder", "delete"] = "keep"
    to: str | None = None
    days: int | None = None


@dataclass(frozen=True)
class Stored:
    """What leavers store of a product: how many of them, and grains."""

    product: Product
    people: int
    grains: int


def settle(
    tx: Transaction, actor: Actor, leaving: Leaving, people: Sequence[PersonRecord], moves: bool
) -> list[Stored]:
    """Do what was chosen with what these people, as they were before, store in the account they have left; what they
    store there. Where it is only tried out, it is judged and not done. Refused as a whole where something has no
    room. ``moves``: they are in another account now."""
    products = {each.id: each for each in pools_service.products(tx) if each.is_storage}
    homes = [(each.account_id, each.username) for each in people]
    there = [row for row in usage.at_home(tx, list(products.values()), homes) if row[3]]
    left = [Left(products[product_id], account_id, name) for product_id, account_id, name, _ in there]
    if leaving.what != "keep":
        _judge(tx, actor, leaving, left, moves)
    if left and not tx.is_rehearsal:
        _do(tx, actor, leaving, left)
    by_product: dict[int, list[int]] = {}
    for product_id, _, _, size in there:
        by_product.setdefault(product_id, []).append(size)
    return [Stored(products[each], len(sizes), usage.grains(sum(sizes))) for each, sizes in sorted(by_product.items())]


def _judge(tx: Transaction, actor: Actor, leaving: Leaving, left: Sequence[Left], moves: bool) -> None:
    if "layers.change" not in actor.permissions or actor.people_of is not None:
        raise not_allowed("Your role here does not let you say what becomes of what people store.")
    accounts = accounts_service.known(tx)
    if leaving.what == "delete":
        left_behind.judge_days(leaving.days)
    elif leaving.what == "take":
        if not moves:
            raise invalid("Only who moves to another account takes something along.", "leaving")
    elif leaving.what == "person":
        left_behind.taker(tx, actor, leaving.to or "")
    else:
        for product, account_id in {(each.product.code, each.account_id) for each in left}:
            code = accounts.tree.codes[accounts.row_of_id[account_id]]
            folders.judge_open(tx, actor, product, code, leaving.to or "")
    if leaving.what != "delete" and len({each.name for each in left}) > MOST_MOVED:
        raise invalid(f"Move the bytes of at most {MOST_MOVED} people at once.", "people")


def _do(tx: Transaction, actor: Actor, leaving: Leaving, left: Sequence[Left]) -> None:
    if leaving.what == "keep":  # whatever was chosen when they left that account before
        usage.delete_homes_at(tx, ((each.product.id, each.account_id, each.name) for each in left), None)
        return
    if leaving.what == "delete":
        left_behind.delete_all_after(tx, actor, left, leaving.days)
        return
    accounts = accounts_service.known(tx)
    now = people_service.by_username(tx, {each.name for each in left} | ({leaving.to} if leaving.to else set()))
    rows: dict[Product, set[int]] = {}
    for each in left:
        taker = now[each.name] if leaving.what == "take" else now.get(leaving.to or "")
        to_id = each.account_id if taker is None or leaving.what == "folder" else taker.account_id
        rows.setdefault(each.product, set()).update((accounts.row_of_id[each.account_id], accounts.row_of_id[to_id]))
    assignments.lock_ways(tx, accounts, {product: sorted(mine) for product, mine in rows.items()})
    if leaving.what == "take":
        for name, account_id in dict.fromkeys((each.name, each.account_id) for each in left):
            personal_storage.move_here(tx, actor, now[name], accounts.tree.codes[accounts.row_of_id[account_id]])
        return
    person, folder = (leaving.to, None) if leaving.what == "person" else (None, leaving.to)
    for each in left:
        code = accounts.tree.codes[accounts.row_of_id[each.account_id]]
        left_behind.move(tx, actor, each.product.code, code, each.name, person, folder)
