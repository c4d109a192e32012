"""The people list of a branch: found, filtered, sorted and paged by the database, and one person's page."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from typing import Any, Literal

import sqlalchemy as sa

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.assignments.eligibility import RESERVED
from fair_ladle.app.entitlements import of_person
from fair_ladle.app.entitlements import service as entitlements_service
from fair_ladle.app.entitlements.of_person import PersonLayers
from fair_ladle.app.log import service as log_service
from fair_ladle.app.people.filters import Clause, clause, contains
from fair_ladle.app.people.groups import Group, Groups, in_branch
from fair_ladle.app.people.rows import ListedPerson
from fair_ladle.app.people.tables import people
from fair_ladle.app.people_admin import store
from fair_ladle.app.personal_storage import usecases as personal_storage
from fair_ladle.app.personal_storage.usecases import Storage
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction, batched
from fair_ladle.app.plumbing.problems import Refused, invalid, not_found
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.sign_in import service as sign_in_service
from fair_ladle.app.usage.tables import assignments

Sort = Literal["name", "username", "account", "status", "title", "department", "last_seen"]
MOST_AT_ONCE = 10_000
FEW_MEMBERS = 1000
"""A group of so many people at most is begun with, rather than asked of each as they come."""


@dataclass(frozen=True)
class Asked:
    """What of the people list is asked for; everything given has to hold. ``seen``: never, or not for so many days;
    ``component``: a product's code, a slash, and the code of its component that is on."""

    find: str = ""
    account: str | None = None
    group: str | None = None
    product: str | None = None
    without: str | None = None
    status: str | None = None
    seen: str | None = None
    admin: bool | None = None
    protected: bool | None = None
    source: str | None = None
    filter: str | None = None
    usernames: tuple[str, ...] | None = None
    component: str | None = None


@dataclass(frozen=True)
class Row:
    """A person in the list, with the products they have and the groups of the branch they are in (places in
    ``Page``'s lists)."""

    person: ListedPerson
    account: str
    account_name: str
    products: list[str]
    groups: list[str]
    storage: list[Storage]
    invitation: Literal["not sent", "open", "expired"] | None
    """Of somebody invited: what became of it."""


@dataclass(frozen=True)
class Page:
    """A part of the list and how many there are in all; None where that takes longer than the part itself: see
    ``count``."""

    total: int | None
    rows: list[Row]


def conditions(
    tx: Transaction, actor: Actor, accounts: Accounts, asked: Asked, for_a_page: bool = False
) -> list[Clause]:
    """What is asked for as conditions on people; the branch in sight is always one of them."""
    where = [in_branch(accounts, _row_of(accounts, actor, asked))]
    if actor.people_of is not None:
        where.append(_of_the_group(tx, actor, accounts))
    where.append(people.c.status == asked.status if asked.status else people.c.status != "removed")
    for word in asked.find.split()[:8]:
        where.append(contains(people.c.find_small, word))
    if asked.group:
        every = Groups.read(tx, accounts)
        group = group_named(tx, actor, accounts, asked.group)
        few = list(tx.connection.scalars(every.members(group).limit(FEW_MEMBERS + 1)))
        where.append(people.c.id.in_(few) if len(few) <= FEW_MEMBERS else every.clause(group))
    for code, wanted in ((asked.product, True), (asked.without, False)):
        if code:
            product = pools_service.product(tx, code)
            has: Clause = sa.false()
            if product.is_personal:
                has = store.holds([product.id], tx.now)
                has = store.one_by_one(has) if for_a_page else has
            where.append(has if wanted else sa.not_(has))
    if asked.component:
        code, _, component = asked.component.partition("/")
        product = pools_service.product(tx, code)
        where += [
            store.holds([product.id], tx.now),
            entitlements_service.has_component(tx, accounts, product, component),
        ]
    if asked.seen == "never":
        where.append(people.c.last_seen_at.is_(None))
    elif asked.seen:
        if not asked.seen.isdigit() or len(asked.seen) > 4:
            raise invalid("Not seen for a number of days, or never.", "seen")
        where.append(
            sa.or_(people.c.last_seen_at.is_(None), people.c.last_seen_at < tx.now - timedelta(days=int(asked.seen)))
        )
    if asked.admin is not None:
        where.append(store.is_admin() if asked.admin else sa.not_(store.is_admin()))
    if asked.protected is not None:
        where.append(people.c.protected.is_(asked.protected))
    if asked.source:
        where.append(people.c.source == asked.source)
    if asked.filter:
        where.append(clause(asked.filter))
    if asked.usernames is not None:
        where.append(people.c.username.in_(asked.usernames))
    return where


def _of_the_group(tx: Transaction, actor: Actor, accounts: Accounts) -> Clause:
    """The people of the group that is all the actor runs; nobody where there is no such group any more."""
    try:
        group = group_named(tx, actor, accounts, actor.people_of or "")
    except Refused:
        return sa.false()
    return Groups.read(tx, accounts).clause(group)


def group_named(tx: Transaction, actor: Actor, accounts: Accounts, name: str) -> Group:
    """A group of the branch by its account's code and its own, with a / between."""
    if actor.people_of not in (None, name):
        raise not_found("group", name)
    account, _, code = name.partition("/")
    row = accounts_service.row_in_scope(accounts, actor, account)
    account_id = int(accounts.ids[row])
    found = next(
        (each for each in Groups.read(tx, accounts).every if each.account_id == account_id and each.code == code),
        None,
    )
    if found is None:
        raise not_found("group", name)
    return found


def listing(
    tx: Transaction,
    actor: Actor,
    asked: Asked,
    sort: Sort = "name",
    down: bool = False,
    offset: int = 0,
    limit: int = 100,
) -> Page:
    """A part of the people list."""
    accounts = accounts_service.known(tx)
    where = conditions(tx, actor, accounts, asked, for_a_page=True)
    are_many = _are_many(tx, actor, accounts, asked)
    total, found = store.page(tx.connection, where, _order(sort, down), offset, limit, are_many=are_many)
    return Page(total, _rows(tx, actor, accounts, found))


def _are_many(tx: Transaction, actor: Actor, accounts: Accounts, asked: Asked) -> bool:
    """Whether those who have a product are known to be many, where nothing else is asked for: their units are sooner
    counted than they."""
    if asked.product is None or asked != Asked(product=asked.product, account=asked.account, status=asked.status):
        return False
    product = pools_service.product(tx, asked.product)
    if not product.is_personal or asked.status not in (None, "active") or actor.people_of is not None:
        return False
    row = _row_of(accounts, actor, asked)
    inside = accounts_service.in_branch(accounts, row, assignments.c.account_id)
    return store.has_many(tx.connection, product.id, inside)


def _row_of(accounts: Accounts, actor: Actor, asked: Asked) -> int:
    if asked.account is None:
        return accounts_service.top_row(accounts, actor)
    return accounts_service.row_in_scope(accounts, actor, asked.account)


def every(tx: Transaction, actor: Actor, asked: Asked, sort: Sort = "name", down: bool = False) -> Iterator[Row]:
    """All of the people list, a few hundred at a time."""
    accounts = accounts_service.known(tx)
    ids = store.ordered_ids(tx.connection, conditions(tx, actor, accounts, asked), _order(sort, down))
    for part in batched(ids, 500):
        yield from _rows(tx, actor, accounts, store.by_ids(tx.connection, part))


def _order(sort: Sort, down: bool) -> list[Any]:
    columns = {
        "name": people.c.display_name,
        "username": people.c.username,
        "account": people.c.account_id,
        "status": people.c.status,
        "title": people.c.title,
        "department": people.c.department,
        "last_seen": people.c.last_seen_at,
    }
    return [columns[sort].desc() if down else columns[sort].asc(), people.c.id]


def count(tx: Transaction, actor: Actor, asked: Asked) -> int:
    """How many people the list has. Who does not have a product is counted by who does: the others would be looked for
    in vain, one by one."""
    accounts = accounts_service.known(tx)
    where = conditions(tx, actor, accounts, replace(asked, without=None))
    found = store.count(tx.connection, where)
    product = pools_service.product(tx, asked.without) if asked.without else None
    if product is not None and product.is_personal:
        found -= store.count(tx.connection, [*where, store.holds([product.id], tx.now)])
    return found


def _rows(tx: Transaction, actor: Actor, accounts: Accounts, found: list[ListedPerson]) -> list[Row]:
    products = {each.id: each for each in pools_service.products(tx)}
    held: dict[str, list[str]] = {}
    for row in store.held_by(tx.connection, _personal(products), [each.username for each in found], tx.now):
        held.setdefault(row.subject, []).append(products[row.product_id].code)
    members = groups_in_sight(tx, actor, accounts).of_people(tx, found)
    stored = personal_storage.of_people(tx, actor, found)
    top, rows = accounts_service.top_row(accounts, actor), []
    for each in found:
        place = accounts.row_of_id[each.account_id]
        mine = [group.name for group in members.get(each.id, ())]
        rows.append(
            Row(
                each,
                accounts.tree.codes[place],
                accounts.full_name(place, top),
                held.get(each.username, []),
                mine,
                stored.get(each.username, []),
                _invitation(each, tx.now),
            )
        )
    return rows


def _invitation(person: ListedPerson, now: datetime) -> Literal["not sent", "open", "expired"] | None:
    if person.status != "invited":
        return None
    if person.invited_until is None:
        return "not sent"
    return "open" if person.invited_until > now else "expired"


def _personal(products: dict[int, Product]) -> list[int]:
    """The numbers of products whose units are people's."""
    return [each.id for each in products.values() if each.is_personal]


def groups_in_sight(tx: Transaction, actor: Actor, accounts: Accounts) -> Groups:
    """The groups of the actor's branch. Others, and what they are called, are not the actor's to see."""
    top = accounts_service.top_row(accounts, actor)
    every = Groups.read(tx, accounts)
    if actor.people_of is not None:
        return every.named_alone(actor.people_of)
    return every if top == 0 else every.within(top)


@dataclass(frozen=True)
class Holding:
    """A product somebody has, since when, through which account, and whether it is on hold."""

    product: Product
    account: str
    since: Any
    on_hold: bool


@dataclass(frozen=True)
class Person:
    """Everything about one person that the actor may see."""

    row: Row
    way: list[str]
    """The names of the accounts above theirs, the nearest first, as far as they are in sight."""
    holdings: list[Holding]
    groups: list[tuple[str, str, str, list[str]]]
    """Account, code and name of each group, and how they come to be in it."""
    runs: list[tuple[str, str]]
    """Accounts they run, and as what."""
    also: list[tuple[str, str, str]]
    """Others with the same address: username, account's code and name."""
    past: list[Any]
    history: list[Any]
    products: dict[int, Product]
    layers: list[PersonLayers]
    stored: list[Storage]
    reservations: list[Product]
    """Products of which a seat is set aside for them."""


def found_in_scope(tx: Transaction, actor: Actor, username: str) -> tuple[Accounts, Any]:
    """Somebody of the branch; whoever is out of sight does not exist."""
    accounts = accounts_service.known(tx)
    found = store.one(tx.connection, username)
    if found is None or not accounts_service.sees(accounts, actor, found.account_id):
        raise not_found("person", username)
    if actor.people_of is not None:
        mine = sa.select(people.c.id).where(people.c.id == found.id, _of_the_group(tx, actor, accounts))
        if tx.connection.execute(mine).first() is None:
            raise not_found("person", username)
    return accounts, found


def unlock(tx: Transaction, actor: Actor, username: str) -> None:
    """Forget the tries at the address of somebody of the branch; whether anybody signs in with it is told to nobody."""
    _, found = found_in_scope(tx, actor, username)
    if not found.email:
        raise invalid(f"{found.display_name} has no e-mail address.", "username")
    sign_in_service.unlock(tx, found.email)
    log_service.write(tx, actor, None, [log_service.Entry("sign-in unlocked", username, found.account_id)])


def person(tx: Transaction, actor: Actor, username: str) -> Person:
    """One person's page."""
    accounts, found = found_in_scope(tx, actor, username)
    tree, place, top = accounts.tree, accounts.row_of_id[found.account_id], accounts_service.top_row(accounts, actor)
    path = tree.path_up(place)
    products = {each.id: each for each in pools_service.products(tx)}
    ever = store.ever_held(tx.connection, list(products), [username, RESERVED + username], tx.now)
    had = [each for each in ever if each.subject == username and products[each.product_id].is_personal]
    holdings = [
        Holding(products[row.product_id], tree.codes[place], row.begins, row.on_hold)
        for row in sorted(had, key=lambda each: each.product_id)
        if row.is_open and row.account_id == found.account_id
    ]
    groups = groups_in_sight(tx, actor, accounts)
    by_hand, by_rule = (each[found.id] for each in groups.direct(tx, [found]))
    mine = [
        (tree.codes[groups.row(each)], each.code, each.name, reasons)
        for each in groups.around(by_hand | by_rule, found)
        if (reasons := groups.reasons(each, by_rule, username))
    ]
    address = [
        (each, tree.codes[accounts.row_of_id[each.account_id]], accounts.name(accounts.row_of_id[each.account_id]))
        for each in (store.by_address(tx.connection, found.email) if found.email else [])
        if accounts_service.sees(accounts, actor, each.account_id)
    ]
    runs = [(name, sign_in_service.role_name(row)) for row, _, name in address if row.role is not None]
    also = [
        (row.username, code, name)
        for row, code, name in address
        if row.username is not None and row.id != found.id and actor.people_of is None
    ]
    stored = personal_storage.of_one(tx, actor, found)
    return Person(
        Row(
            found,
            tree.codes[place],
            accounts.name(place),
            [each.product.code for each in holdings],
            [name for _, _, name, _ in mine],
            [replace(each, elsewhere=()) for each in stored if each.limit is not None or each.used],
            _invitation(found, tx.now),
        ),
        [accounts.name(each) for each in path[1 : path.index(top) + 1]],
        holdings,
        mine,
        runs,
        also,
        sorted(had, key=lambda each: (each.begins, each.id), reverse=True)[:200],
        log_service.about_subject(tx, actor, found.account_id, username),
        products,
        of_person.layers_of(tx, actor, found, {each.product_id for each in ever if each.is_open and each in had}),
        stored,
        [products[each.product_id] for each in ever if each.is_open and each.subject != username],
    )


def switch(tx: Transaction, actor: Actor, username: str, product: str, component: str, on: bool) -> None:
    """Switch a component of a product off for somebody of the branch, or on again."""
    of_person.switch(tx, actor, found_in_scope(tx, actor, username)[1], product, component, on)


def set_storage_limit(tx: Transaction, actor: Actor, username: str, product: str, amount: str | None) -> None:
    """Set the limit of somebody of the branch themselves, in GB; None leaves it to the layers."""
    personal_storage.set_direct(tx, actor, found_in_scope(tx, actor, username)[1], product, amount)


def move_bytes(tx: Transaction, actor: Actor, username: str, from_account: str) -> int:
    """Move what stayed in an account that somebody of the branch has left to where they are now; grains."""
    return personal_storage.move_here(tx, actor, found_in_scope(tx, actor, username)[1], from_account)


def reserved_seats(tx: Transaction, actor: Actor) -> list[tuple[Any, Product, str, str]]:
    """Seats that are set aside in the branch: for whom, of which product, and the account's code and name."""
    accounts = accounts_service.known(tx)
    products = {each.id: each for each in pools_service.products(tx) if each.measure == "seat"}
    rows = store.reserved_seats(
        tx.connection, RESERVED, list(products), accounts_service.branch_ids(accounts, actor), tx.now
    )
    places = [accounts.row_of_id[row.account_id] for row in rows]
    top = accounts_service.top_row(accounts, actor)
    return [
        (row, products[row.product_id], accounts.tree.codes[place], accounts.full_name(place, top))
        for row, place in zip(rows, places, strict=True)
    ]
