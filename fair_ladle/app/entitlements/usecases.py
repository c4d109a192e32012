"""What layers give: changing it, laying it out over everybody, and the queue for seats."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from functools import partial
from itertools import groupby

import numpy as np
import sqlalchemy as sa

from fair_ladle.app.accounts import usecases as accounts_usecases
from fair_ladle.app.accounts.usecases import Accounts
from fair_ladle.app.assignments import service as assignments
from fair_ladle.app.assignments.eligibility import Wanted
from fair_ladle.app.entitlements import store
from fair_ladle.app.log import usecases as log
from fair_ladle.app.people.groups import PRESENT, Group, Groups, in_branch
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import Refused, invalid, not_found
from fair_ladle.app.pools import usecases as pools_usecases
from fair_ladle.app.pools.usecases import Product
from fair_ladle.app.usage import usecases as usage
from fair_ladle.core.calendar import micros
from fair_ladle.core.layers import MOST_COMPONENTS, Grant, Reached, reach, waiting_order

RULES = Actor("rules", "", None)
MAY_HAVE = ("active", "invited")


@dataclass(frozen=True)
class Entitlement:
    """What one layer gives: a product, with these of its components on, to a branch's people or to a group of them."""

    id: int
    account_id: int
    group: Group | None
    product: Product
    on: tuple[str, ...]
    priority: int


@dataclass(frozen=True)
class EntitlementTerms:
    """What a layer shall give; ``group`` None = everybody of the account's branch."""

    account: str
    group: str | None
    product: str
    on: tuple[str, ...]
    priority: int = 100


@dataclass
class ReconcileResult:
    """What laying the layers out did: seats given and taken back by person and product, and who waits, with the
    reason."""

    granted: list[tuple[str, str]] = field(default_factory=list)
    taken: list[tuple[str, str]] = field(default_factory=list)
    waiting: list[tuple[str, str, str]] = field(default_factory=list)


class Layers:
    """Everything any layer gives, over a tree."""

    def __init__(self, tx: Transaction, accounts: Accounts):
        self.tx, self.accounts = tx, accounts
        self.products = {each.id: each for each in pools_usecases.products(tx)}
        self.groups = Groups.read(tx, accounts)
        by_id = {each.id: each for each in self.groups.every}
        self.every = [
            Entitlement(
                row.id,
                row.account_id,
                by_id[row.group_id] if row.group_id else None,
                self.products[row.product_id],
                tuple(row.components),
                row.priority,
            )
            for row in store.all_entitlements(tx.connection)
            if row.account_id in accounts.row_of_id
        ]

    def row(self, each: Entitlement) -> int:
        """The row of the account it belongs to."""
        return self.accounts.row_of_id[each.account_id]

    def clause(self, each: Entitlement) -> sa.ColumnElement[bool]:
        """Whom it gives to, of those present."""
        branch = in_branch(self.accounts, self.row(each))
        return branch if each.group is None else sa.and_(branch, self.groups.reaches(each.group))

    def reached(
        self, of: Sequence[Entitlement], among: sa.ColumnElement[bool] = PRESENT
    ) -> tuple[list[int], list[Product], Reached]:
        """Who is reached by these: people (numbers), products, and what of which reaches whom."""
        members = store.members(self.tx.connection, among, [self.clause(each) for each in of])
        ids = np.unique(np.concatenate([*members, np.empty(0, dtype=np.int64)]))
        products = sorted({each.product for each in of}, key=lambda product: (bool(product.requires), product.code))
        column = {product.id: n for n, product in enumerate(products)}
        grants = [
            Grant(column[each.product.id], np.searchsorted(ids, mine), bits(each.product, each.on), each.priority)
            for each, mine in zip(of, members, strict=True)
        ]
        people = {person_id: n for n, person_id in enumerate(ids.tolist())}
        off = [
            (people[row.person_id], column[row.product_id], bits(self.products[row.product_id], (row.component,)))
            for row in (store.switched_off(self.tx.connection, list(people)) if people else [])
            if row.product_id in column
        ]
        return (
            ids.tolist(),
            products,
            reach(len(ids), len(products), grants, off, [bits(each, each.mandatory) for each in products]),
        )


def bits(product: Product, codes: Sequence[str]) -> int:
    """Components of a product as the engine's bits."""
    return sum(1 << n for n, code in enumerate(product.components[:MOST_COMPONENTS]) if code in codes)


def named(product: Product, on: int) -> list[str]:
    """The engine's bits as a product's components."""
    return [code for n, code in enumerate(product.components[:MOST_COMPONENTS]) if on >> n & 1]


def entitlements(tx: Transaction, actor: Actor) -> list[tuple[str, str, Entitlement]]:
    """What the layers of the branch give: account's code and name, and what."""
    accounts = accounts_usecases.known(tx)
    inside = set(accounts.tree.branch(accounts_usecases.top_row(accounts, actor)).tolist())
    layers = Layers(tx, accounts)
    return [
        (accounts.tree.codes[layers.row(each)], accounts.name(layers.row(each)), each)
        for each in layers.every
        if layers.row(each) in inside
    ]


def seat_products(tx: Transaction, actor: Actor) -> list[Product]:
    """The products that people have seats of."""
    accounts_usecases.top_row(accounts_usecases.known(tx), actor)
    return [each for each in pools_usecases.products(tx) if each.measure == "seat"]


def put(tx: Transaction, actor: Actor, wanted: EntitlementTerms) -> ReconcileResult:
    """Let a layer give a product, or give it otherwise; seats follow at once."""
    accounts = accounts_usecases.known(tx)
    layers, there, group, product = _find(tx, actor, accounts, wanted)
    unknown = [code for code in wanted.on if code not in product.components]
    if unknown:
        raise invalid(
            f"{product.name} has no component {unknown[0]}; it has {', '.join(product.components) or 'none'}.",
            "components",
        )
    if product.measure != "seat":
        raise invalid(f"{product.name} is no product that people have seats of.", "product")
    if not 1 <= wanted.priority <= 1000:
        raise invalid("A priority from 1 (first) to 1000.", "priority")
    on = [code for code in product.components if code in wanted.on or code in product.mandatory]
    row = accounts.tree.row(wanted.account)
    store.put(
        tx.connection,
        there.id if there else None,
        {
            "account_id": int(accounts.ids[row]),
            "group_id": group.id if group else None,
            "product_id": product.id,
            "components": on,
            "priority": wanted.priority,
        },
    )
    to = group.name if group else "everybody"
    log.write(
        tx,
        actor,
        None,
        [
            log.Entry(
                "layer changed" if there else "layer made",
                product.code,
                int(accounts.ids[row]),
                {"to": to, "components": ", ".join(there.on), "priority": there.priority} if there else None,
                {"to": to, "components": ", ".join(on), "priority": wanted.priority},
            )
        ],
    )
    return reconcile(tx, [product])


def forget(tx: Transaction, actor: Actor, wanted: EntitlementTerms) -> ReconcileResult:
    """Let a layer give a product no more; seats that only it gave are taken back."""
    accounts = accounts_usecases.known(tx)
    _, there, group, product = _find(tx, actor, accounts, wanted)
    if there is None:
        raise not_found("layer that gives", wanted.product)
    store.forget(tx.connection, there.id)
    log.write(
        tx,
        actor,
        None,
        [log.Entry("layer taken away", product.code, there.account_id, {"to": group.name if group else "everybody"})],
    )
    return reconcile(tx, [product])


def _find(
    tx: Transaction, actor: Actor, accounts: Accounts, wanted: EntitlementTerms
) -> tuple[Layers, Entitlement | None, Group | None, Product]:
    row = accounts_usecases.row_in_scope(accounts, actor, wanted.account)
    store.lock_reconciling(tx.connection)
    layers, account_id = Layers(tx, accounts), int(accounts.ids[row])
    group = (
        None
        if wanted.group is None
        else next(
            (each for each in layers.groups.every if each.account_id == account_id and each.code == wanted.group), None
        )
    )
    if wanted.group is not None and group is None:
        raise not_found("group", wanted.group)
    product = pools_usecases.product(tx, wanted.product)
    there = next(
        (
            each
            for each in layers.every
            if (each.account_id, each.group, each.product.id) == (account_id, group, product.id)
        ),
        None,
    )
    return layers, there, group, product


def reconcile(tx: Transaction, only: Sequence[Product] | None = None) -> ReconcileResult:
    """Let seats follow the layers: who is reached gets one or waits, who is reached no more gives back what a layer
    gave.

    Seats given directly stay. Doing it twice does nothing twice.
    """
    store.lock_reconciling(tx.connection)
    accounts, result = accounts_usecases.known(tx), ReconcileResult()
    layers = Layers(tx, accounts)
    of = [each for each in layers.every if only is None or each.product.id in {product.id for product in only}]
    ids, products, reached = layers.reached(of)
    column = {product.id: n for n, product in enumerate(products)}
    also = store.products_granted(tx.connection) if only is None else {each.id for each in only}
    turn = [*products, *(layers.products[each] for each in sorted(also - set(column)))]
    # What needs another product is taken back first, and given last.
    before = {product.id: store.granted(tx.connection, product.id) for product in turn}
    for product in reversed(turn):
        there = (
            {ids[place] for place in np.flatnonzero(reached.layers[:, column[product.id]]).tolist()}
            if product.id in column
            else set()
        )
        _take_back(tx, accounts, product, before[product.id] - there, result)
    for product in turn:
        places = (
            np.flatnonzero(reached.layers[:, column[product.id]])
            if product.id in column
            else np.empty(0, dtype=np.int64)
        )
        priority = {ids[place]: int(reached.priority[place, column[product.id]]) for place in places.tolist()}
        _give(tx, accounts, product, priority, result)
    return result


def reconcile_groups(tx: Transaction, groups: Sequence[Group]) -> ReconcileResult:
    """Lay out what these groups give."""
    ids = {each.id for each in groups}
    of = {
        each.product.id: each.product
        for each in Layers(tx, accounts_usecases.known(tx)).every
        if each.group is not None and each.group.id in ids
    }
    return reconcile(tx, list(of.values())) if of else ReconcileResult()


def _take_back(
    tx: Transaction, accounts: Accounts, product: Product, person_ids: set[int], result: ReconcileResult
) -> None:
    people = store.facts(tx.connection, person_ids)
    open_now = (
        {
            row.subject: row
            for row in usage.open_assignments(tx, [product], [each.username for each in people.values()], tx.now)
        }
        if people
        else {}
    )
    wanted = [
        Wanted(accounts.tree.codes[accounts.row_of_id[row.account_id]], product.code, username)
        for username, row in sorted(open_now.items())
    ]
    for part in assignments.in_parts(wanted):
        assignments.release(tx, RULES, part)
    store.forget_granted(tx.connection, product.id, person_ids)
    result.taken.extend((each.subject, product.code) for each in wanted)


def _give(
    tx: Transaction, accounts: Accounts, product: Product, priority: dict[int, int], result: ReconcileResult
) -> None:
    waits = store.waiting(tx.connection, product.id)
    people = {
        person_id: each
        for person_id, each in store.facts(tx.connection, list(priority)).items()
        if each.status in MAY_HAVE
    }
    have = (
        {
            row.subject
            for row in usage.open_assignments(tx, [product], [each.username for each in people.values()], tx.now)
        }
        if people
        else set()
    )
    wanting = [person_id for person_id, each in people.items() if each.username not in have]
    store.wait_no_more(tx.connection, product.id, set(waits) - set(wanting))
    now = tx.now
    new = [person_id for person_id in wanting if person_id not in waits]
    store.wait(tx.connection, product.id, new, now)
    kept = {
        username
        for username, _, _ in assignments.reserved_seats(tx, [product], [people[each].username for each in wanting])
    }
    priority = {person_id: -1 if people[person_id].username in kept else priority[person_id] for person_id in wanting}
    since = {person_id: micros(waits.get(person_id, now)) for person_id in wanting}
    order = waiting_order(
        np.array(wanting, dtype=np.int64),
        np.array([priority[each] for each in wanting], dtype=np.int64),
        np.array([since[each] for each in wanting], dtype=np.int64),
    ).tolist()
    against = assignments.what_speaks_against(tx, product, [people[each] for each in order])
    result.waiting.extend((username, product.code, why) for username, why in against.items())
    able = [each for each in order if people[each].username not in against]

    def give(part: list[int]) -> None:
        codes = {each: accounts.tree.codes[accounts.row_of_id[people[each].account_id]] for each in part}
        assignments.give(tx, RULES, product, [(codes[each], people[each].username) for each in part])

    served = _to_all(tx, able, give)
    if not served:
        # There are too few for all: one after the other, as they stand in the queue.
        full: dict[int, str] = {}
        for account_id, run in groupby(able, key=lambda person_id: people[person_id].account_id):
            mine, granted = list(run), list[int]()
            if account_id not in full:
                code = accounts.tree.codes[accounts.row_of_id[account_id]]
                granted, why = assignments.as_many_as_fit(
                    tx, mine, partial(assignments.room, tx, RULES, code, product), give
                )
                served.extend(granted)
                if len(granted) < len(mine):
                    full[account_id] = why
            result.waiting.extend(
                (people[each].username, product.code, full[account_id]) for each in mine[len(granted) :]
            )
    store.note_granted(tx.connection, product.id, served)
    store.wait_no_more(tx.connection, product.id, served)
    result.granted.extend((people[each].username, product.code) for each in served)


def _to_all(tx: Transaction, people: list[int], give: Callable[[list[int]], None]) -> list[int]:
    """Give to everybody where there is room for all; else to nobody."""
    try:
        with tx.connection.begin_nested():
            for part in assignments.in_parts(people):
                give(list(part))
    except Refused:
        return []
    return people


@dataclass(frozen=True)
class Waiting:
    """Somebody who waits for a seat, since when, and with which priority, in the order in which they get one.

    ``why`` says what stands against them besides the seats; empty = only a free seat is missing.
    """

    username: str
    name: str
    account_name: str
    product: Product
    since: datetime
    priority: int
    why: str


def queue(tx: Transaction, actor: Actor) -> list[Waiting]:
    """Who of the branch waits for a seat, product by product, first come first."""
    accounts = accounts_usecases.known(tx)
    inside = set(accounts.tree.branch(accounts_usecases.top_row(accounts, actor)).tolist())
    layers = Layers(tx, accounts)
    ids, products, reached = layers.reached(layers.every)
    place, found = {person_id: n for n, person_id in enumerate(ids)}, []
    for n, product in enumerate(products):
        waits = store.waiting(tx.connection, product.id)
        people = store.facts(tx.connection, list(waits))
        mine = [
            each
            for each in people.values()
            if accounts.row_of_id[each.account_id] in inside and each.id in place and reached.layers[place[each.id], n]
        ]
        against = assignments.what_speaks_against(tx, product, mine)
        rows = [
            Waiting(
                each.username,
                each.display_name,
                accounts.name(accounts.row_of_id[each.account_id]),
                product,
                waits[each.id],
                int(reached.priority[place[each.id], n]),
                against.get(each.username, ""),
            )
            for each in mine
        ]
        found.extend(sorted(rows, key=lambda row: (row.priority, row.since, row.username)))
    return found


def products_of_group(tx: Transaction, group: Group) -> list[str]:
    """Names of the products a group gives: it cannot go before these do."""
    accounts = accounts_usecases.known(tx)
    return [
        each.product.name for each in Layers(tx, accounts).every if each.group is not None and each.group.id == group.id
    ]


def comes_by_a_layer(tx: Transaction, product: Product, person_ids: Sequence[int]) -> set[int]:
    """Whose seat of a product a layer gave: it goes with the layer, not by hand."""
    return store.granted(tx.connection, product.id) & set(person_ids)


def carry_over(
    tx: Transaction, old: Product, new: Product, mapped: dict[str, str | None], person_ids: Sequence[int]
) -> dict[str, int]:
    """What is switched off of one product is switched off of what it becomes in another one; components that were on
    and become nothing, with how many people lose each.

    ``mapped`` says what each component of the old product becomes (None = nothing); a component of the new one is
    off where everything it comes from was off, and one that comes from nothing is as the product has it.
    """
    off: dict[int, set[str]] = defaultdict(set)
    for row in store.switched_off(tx.connection, person_ids) if person_ids else []:
        if row.product_id == old.id:
            off[row.person_id].add(row.component)
    lost = {
        component: sum(component not in off[each] for each in person_ids)
        for component in old.components
        if mapped.get(component) is None
    }
    origins = {
        each: [part for part in old.components if mapped.get(part) == each]
        for each in new.components
        if each not in new.mandatory
    }
    origins = {each: parts for each, parts in origins.items() if parts}
    store.switch_anew(
        tx.connection,
        list(off),
        [(old.id, old.components), (new.id, list(origins))],
        [
            {"person_id": person_id, "product_id": new.id, "component": each}
            for person_id, gone in off.items()
            for each, parts in origins.items()
            if gone.issuperset(parts)
        ],
    )
    return {component: count for component, count in lost.items() if count}


def has_component(tx: Transaction, accounts: Accounts, product: Product, component: str) -> sa.ColumnElement[bool]:
    """People, of those with a seat of a product, who have a component of it on."""
    if component not in product.components:
        raise invalid(f"{product.name} has no component {component}.", "component")
    if component in product.mandatory:
        return sa.true()
    layers = Layers(tx, accounts)
    giving = [layers.clause(each) for each in layers.every if each.product.id == product.id and component in each.on]
    return store.has_it_on(product.id, component, sa.or_(sa.false(), *giving))
