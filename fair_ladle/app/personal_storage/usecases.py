"""How much one person may store, with the layer that says so, and how much of their own they do.

What is somebody's own stands in the category ``home/USERNAME`` of their account's samples. Moving a person leaves the
bytes where they are, until they are moved on purpose.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from decimal import Decimal
from typing import Any, Literal

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.assignments import service as assignments
from fair_ladle.app.assignments import storing
from fair_ladle.app.log import service as log_service
from fair_ladle.app.people import service as people_service
from fair_ladle.app.people.groups import Group, Groups
from fair_ladle.app.people.rows import PersonFacts, PersonRecord
from fair_ladle.app.personal_storage import store
from fair_ladle.app.personal_storage.layers import set_by_layers
from fair_ladle.app.personal_storage.rows import LimitRecord
from fair_ladle.app.plumbing import generations
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.prepared import Question
from fair_ladle.app.plumbing.problems import Refused, conflict, invalid, not_found
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.usage import service as usage
from fair_ladle.app.usage.rows import HeldNow
from fair_ladle.core.layers import personal_limit
from fair_ladle.core.quantities import BYTES_PER_GRAIN, to_grains, to_units

MOST_GRAINS = 10**15


@dataclass(frozen=True)
class AtLimit:
    """What happens at a limit: told from so many percent on; beyond it nothing more than that (``tell``), nothing more
    is written (``stop``), or that only after so many days over it (``grace``)."""

    what: Literal["tell", "stop", "grace"] = "tell"
    tell_at: int = 90
    grace_days: int | None = None

    @staticmethod
    def of(row: LimitRecord) -> AtLimit:
        """As it is kept."""
        return AtLimit(row.at_limit, row.tell_at, row.grace_days)


@dataclass(frozen=True)
class LayerLimit:
    """What an account or a group sets: grains, and what happens there."""

    grains: int
    at: AtLimit


@dataclass(frozen=True)
class Elsewhere:
    """Somebody's own bytes that stayed in an account they have left."""

    account: str
    account_name: str
    grains: int


@dataclass(frozen=True)
class Storage:
    """One person's storage of a product, in grains; ``source`` says in words which layer set the limit."""

    product: Product
    used: int
    limit: int | None
    layer: str | None
    source: str
    elsewhere: tuple[Elsewhere, ...] = ()
    at_limit: AtLimit = AtLimit()


def _grains(in_bytes: int) -> int:
    return (in_bytes + BYTES_PER_GRAIN // 2) // BYTES_PER_GRAIN


def of_people(tx: Transaction, actor: Actor, people: Sequence[PersonRecord]) -> dict[str, list[Storage]]:
    """Storage of some people (rows), by username; products in which they neither have a limit nor bytes are left
    out."""
    products = [each for each in pools_service.products(tx) if each.is_storage]
    if not people or not products:
        return {}
    accounts = accounts_service.known(tx)
    homes = [(each.account_id, each.username) for each in people]
    used = {
        (product_id, username): in_bytes for product_id, _, username, in_bytes in usage.at_home(tx, products, homes)
    }
    there = store.direct(tx.connection, [each.id for each in people])
    direct = {(row.product_id, row.person_id): row for row in there}
    layers = _Layers(tx, accounts, actor)
    members = layers.members([each.id for each in people])
    found = {}
    for each in people:
        path = accounts.tree.path_up(accounts.row_of_id[each.account_id])
        mine = []
        for product in products:
            limit = layers.limit(
                product, direct.get((product.id, each.id)), [n for n, ids in enumerate(members) if each.id in ids], path
            )
            bytes_used = used.get((product.id, each.username))
            if limit is not None or bytes_used:
                layer, source, grains, at = limit or (None, NO_LAYER, None, AtLimit())
                mine.append(Storage(product, _grains(bytes_used or 0), grains, layer, source, at_limit=at))
        found[each.username] = mine
    return found


@dataclass(frozen=True)
class Standing:
    """The limit somebody has of their own, and what they store of the product where they are, read together."""

    direct: LimitRecord | None
    stored: HeldNow | None

    @property
    def bytes(self) -> int:
        """What they store."""
        return 0 if self.stored is None else int(self.stored.bytes)

    @property
    def past_limit_since(self) -> datetime | None:
        """Since when they are over their limit, as far as it was looked at."""
        return None if self.stored is None else self.stored.past_limit_since


def standing(tx: Transaction, product: Product, person: PersonFacts) -> Question[Standing] | None:
    """What is somebody's own of a product, to be asked with other things; None where no limit can reach them."""
    accounts, layers = accounts_service.known(tx), set_by_layers(tx)
    has_own = product.id in layers.of_people
    if not has_own and not layers.may_reach(product.id, _above(accounts, person)):
        return None
    stored = usage.of_person(product, person.account_id, person.username)
    if not has_own:
        return Question(stored.asked, lambda rows: Standing(None, stored.answer(rows)))
    direct = store.direct_of(product.id, person.id)

    def found(of_limit: list[Any], of_stored: list[Any]) -> Standing:
        return Standing(direct.answer(of_limit), stored.answer(of_stored))

    return Question([*direct.asked, *stored.asked], found)


def _above(accounts: Accounts, person: PersonFacts) -> list[int]:
    return [int(accounts.ids[row]) for row in accounts.tree.path_up(accounts.row_of_id[person.account_id])]


def of_person(
    tx: Transaction, actor: Actor, product: Product, person: PersonFacts, found: Standing, more: int = 0
) -> Storage | None:
    """Somebody's storage of a product by what stands, with so many bytes more; None where no layer limits it."""
    accounts = accounts_service.known(tx)
    layers = _Layers(tx, accounts, actor, _above(accounts, person))
    members = [at for at, ids in enumerate(layers.members([person.id])) if person.id in ids]
    path = accounts.tree.path_up(accounts.row_of_id[person.account_id])
    limit = layers.limit(product, found.direct, members, path)
    if limit is None:
        return None
    layer, source, grains, at = limit
    return Storage(product, _grains(found.bytes + more), grains, layer, source, at_limit=at)


class _Layers:
    """Limits that accounts and groups set, and who they are told as to the actor."""

    def __init__(self, tx: Transaction, accounts: Accounts, actor: Actor, above: Sequence[int] | None = None):
        """``above``: of groups, only those of these accounts (numbers), where it is about people below all of them."""
        self.tx, self.accounts = tx, accounts
        every, found = Groups.read(tx, accounts), set_by_layers(tx)
        self.by_group, self.by_account = found.by_group, found.by_account
        reaching = found.by_group.keys() if above is None else found.by_group.keys() & every.of_accounts(above)
        self.groups: list[Group] = every.numbered(reaching)
        self.every = every
        self.top = accounts_service.top_row(accounts, actor)

    def members(self, person_ids: Sequence[int]) -> list[set[int]]:
        """For each of the groups that set a limit, which of these people are in it."""
        return people_service.true_of(self.tx, person_ids, [self.every.reaches(each) for each in self.groups])

    def limit(
        self, product: Product, direct: Any | None, of_groups: Sequence[int], path: Sequence[int]
    ) -> tuple[str, str, int, AtLimit] | None:
        """Layer, source in words, grains, and what happens there."""
        groups = [
            (n, self.by_group[self.groups[n].id][product.id].grains)
            for n in of_groups
            if product.id in self.by_group[self.groups[n].id]
        ]
        defaults = [
            (row, by[product.id].grains)
            for row in path
            if product.id in (by := self.by_account.get(int(self.accounts.ids[row]), {}))
        ]
        found = personal_limit(None if direct is None else direct.grains, groups, defaults)
        if found is None:
            return None
        layer, place, grains = found
        if direct is not None and layer == "direct":
            return layer, "set for them", grains, AtLimit.of(direct)
        if layer == "group":
            row, said = self.every.row(self.groups[place]), self.by_group[self.groups[place].id][product.id]
            source = f"group {self.groups[place].name}"
        else:
            row, said = place, self.by_account[int(self.accounts.ids[place])][product.id]
            source = f"default of {self.accounts.name(place)}"
        is_inside = self.top in self.accounts.tree.path_up(row)
        return layer, source if is_inside else "set above this branch", grains, AtLimit.of(said)


def of_one(tx: Transaction, actor: Actor, person: PersonRecord) -> list[Storage]:
    """One person's storage of every product that reaches them, with what stayed in accounts they have left."""
    accounts = accounts_service.known(tx)
    path = accounts.tree.path_up(accounts.row_of_id[person.account_id])
    owners = {
        (accounts.row_of_id[pool.owner_id], pool.product.id)
        for pool in pools_service.pools(tx, [each for each in pools_service.products(tx) if each.is_storage])
    }
    there = {each.product.id: each for each in of_people(tx, actor, [person]).get(person.username, [])}
    left = [each for each in person.was_in or () if each != person.account_id and each in accounts.row_of_id]
    storage = [each for each in pools_service.products(tx) if each.is_storage]
    stayed = usage.at_home(tx, storage, [(each, person.username) for each in left])
    found = []
    for product in pools_service.products(tx):
        if not product.is_storage:
            continue
        elsewhere = tuple(
            Elsewhere(
                accounts.tree.codes[accounts.row_of_id[account_id]],
                accounts.name(accounts.row_of_id[account_id]),
                _grains(in_bytes),
            )
            for product_id, account_id, _, in_bytes in stayed
            if product_id == product.id and in_bytes and accounts_service.sees(accounts, actor, account_id)
        )
        mine = there.get(product.id)
        if mine is None and not elsewhere and not any((row, product.id) in owners for row in path):
            continue
        mine = mine or Storage(product, 0, None, None, NO_LAYER)
        found.append(replace(mine, elsewhere=elsewhere))
    return found


NO_LAYER = "none set; the pool's limits apply"


def limits(tx: Transaction, actor: Actor, account: str, group: str | None) -> list[tuple[Product, int | None, AtLimit]]:
    """What an account (for everybody of it and below), or one of its groups, sets: every storage product, grains or
    None, and what happens there."""
    _, number = layer(tx, actor, account, group)
    there = {
        row.product_id: row for row in set_by_layers(tx).rows if (row.group_id if group else row.account_id) == number
    }
    found = []
    for each in pools_service.products(tx):
        if each.is_storage:
            row = there.get(each.id)
            found.append((each, row.grains if row else None, AtLimit.of(row) if row else AtLimit()))
    return found


def layer(tx: Transaction, actor: Actor, account: str, group: str | None) -> tuple[int, int]:
    """The account's number, and the number of the layer: the group's, or again the account's."""
    accounts = accounts_service.known(tx)
    account_id = int(accounts.ids[accounts_service.row_in_scope(accounts, actor, account)])
    if group is None:
        return account_id, account_id
    found = next(
        (each for each in Groups.read(tx, accounts).every if each.account_id == account_id and each.code == group),
        None,
    )
    if found is None:
        raise not_found("group", group)
    return account_id, found.id


def _read(tx: Transaction, product: str, amount: str | None) -> tuple[Product, int | None]:
    found = pools_service.product(tx, product)
    if not found.is_storage:
        raise _not_storage(found)
    if amount is None or not amount.strip():
        return found, None
    try:
        grains = to_grains(Decimal(amount.strip()), found.measure)
    except (ArithmeticError, ValueError):
        raise invalid(f"{amount[:40]!r} is no amount in GB, with 3 decimals at most.", "amount") from None
    if not 0 <= grains <= MOST_GRAINS:
        raise invalid("Between 0 and a million TB.", "amount")
    return found, grains


def _not_storage(product: Product) -> Refused:
    return invalid(f"{product.name} is not storage; limits per person are for what is stored.", "product")


def _values(grains: int | None, at: AtLimit) -> dict[str, Any] | None:
    """A limit as it is kept."""
    if grains is None:
        return None
    if not 1 <= at.tell_at <= 100:
        raise invalid("People are told from 1 to 100 percent of their limit on.", "tell_at")
    if at.what == "grace" and at.grace_days is None:
        raise invalid("Grace needs a number of days.", "grace_days")
    days = at.grace_days if at.what == "grace" else None
    return {"grains": grains, "at_limit": at.what, "tell_at": at.tell_at, "grace_days": days}


def set_limit(
    tx: Transaction,
    actor: Actor,
    account: str,
    group: str | None,
    product: str,
    amount: str | None,
    at: AtLimit | None = None,
) -> None:
    """Let an account or a group set a limit, in GB, and what happens there (as it was, if not said); None takes it
    away."""
    there = {each.code: at for each, _, at in limits(tx, actor, account, group)}
    at = at or there.get(product) or AtLimit()
    (account_id, number), (found, grains) = layer(tx, actor, account, group), _read(tx, product, amount)
    store.put(tx.connection, found.id, {"group_id": number} if group else {"account_id": number}, _values(grains, at))
    generations.renew(tx, "limits")
    entry = _entry(group or account, account_id, found, None if grains is None else LayerLimit(grains, at))
    log_service.write(tx, actor, None, [entry])


def layer_limit(tx: Transaction, actor: Actor, account: str, group: str | None, product: str) -> LayerLimit | None:
    """What an account or one of its groups sets of a storage product; None = nothing."""
    for each, grains, at in limits(tx, actor, account, group):
        if each.code == product:
            return None if grains is None else LayerLimit(grains, at)
    raise _not_storage(pools_service.product(tx, product))


def exchange(
    tx: Transaction,
    actor: Actor,
    account: str,
    group: str | None,
    product: str,
    was: LayerLimit | None,
    now: LayerLimit | None,
) -> log_service.Entry:
    """Set what an account or a group sets, if it still sets what it ``was``; refused if not. What the log says of it is
    the caller's to write."""
    account_id, number = layer(tx, actor, account, group)
    found = pools_service.product(tx, product)
    there, values = (None if each is None else _values(each.grains, each.at) for each in (was, now))
    of = {"group_id": number} if group else {"account_id": number}
    if not store.exchange(tx.connection, found.id, of, there, values):
        raise conflict(f"The limit per person of {found.name} was changed meanwhile. Set it again.")
    generations.renew(tx, "limits")
    return _entry(group or account, account_id, found, now)


def _entry(whose: str, account_id: int, product: Product, limit: LayerLimit | None) -> log_service.Entry:
    told = {"product": product.code, "GB": _told(product, None if limit is None else limit.grains)}
    then = {} if limit is None else {"then": _said(limit.at)}
    return log_service.Entry("storage limit per person", whose, account_id, None, told | then)


def _said(at: AtLimit) -> str:
    then = {"stop": "stops", "grace": f"stops after {at.grace_days} days"}.get(at.what, "goes on")
    return f"told at {at.tell_at} %, {then}"


def set_direct(tx: Transaction, actor: Actor, person: PersonRecord, product: str, amount: str | None) -> None:
    """Set one person's own limit, in GB; None leaves it to the layers. What happens there stays as it is for them.
    Whether they are in scope is the caller's to check."""
    found, grains = _read(tx, product, amount)
    now = next((each.at_limit for each in of_one(tx, actor, person) if each.product.id == found.id), AtLimit())
    store.put(tx.connection, found.id, {"person_id": person.id}, _values(grains, now))
    generations.renew(tx, "limits")
    log_service.write(
        tx,
        actor,
        None,
        [
            log_service.Entry(
                "storage limit",
                person.username,
                person.account_id,
                None,
                {"product": found.code, "GB": _told(found, grains)},
            )
        ],
    )


def _told(product: Product, grains: int | None) -> str:
    return "none" if grains is None else f"{to_units(grains, product.measure):f}"


def move_here(tx: Transaction, actor: Actor, person: PersonRecord, from_account: str) -> int:
    """Move what stayed in an account that somebody has left to where they are now, of every product; grains. Refused
    where the account they are in has no room.

    Locks: of all these products the ways up of both accounts, pool by pool, before any of it is moved.
    """
    accounts = accounts_service.known(tx)
    row = accounts_service.row_in_scope(accounts, actor, from_account)
    from_id, to = int(accounts.ids[row]), accounts.tree.codes[accounts.row_of_id[person.account_id]]
    if from_id == person.account_id:
        raise invalid("They are in that account.", "from_account")
    storage = [each for each in pools_service.products(tx) if each.is_storage]
    there = {each[0] for each in usage.at_home(tx, storage, [(from_id, person.username)]) if each[3]}
    products, home = [each for each in storage if each.id in there], usage.home(person.username)
    assignments.lock_ways(tx, accounts, dict.fromkeys(products, [row, accounts.row_of_id[person.account_id]]))
    moved = sum(_grains(storing.move(tx, actor, each, from_id, to, home, home)) for each in products)
    usage.delete_homes_at(tx, ((each.id, from_id, person.username) for each in products), None)
    if not moved:
        raise conflict(f"Nothing of {person.display_name}'s own is in {accounts.name(row)}.")
    log_service.write(
        tx,
        actor,
        None,
        [
            log_service.Entry("bytes moved away", person.username, from_id, None, {"GB": _told(products[0], moved)}),
            log_service.Entry(
                "bytes moved here", person.username, person.account_id, None, {"GB": _told(products[0], moved)}
            ),
        ],
    )
    return moved
