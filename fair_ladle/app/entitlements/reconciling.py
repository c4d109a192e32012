"""Seats follow the layers: who is reached gets one or waits, of a family the highest, and who is reached no more gives
back what a layer gave.

Locks: one at a time reconciles; then everybody who gets, swaps or gives back something, by id; then as admitting does.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.assignments import many
from fair_ladle.app.assignments import service as assignments
from fair_ladle.app.assignments.eligibility import Wanted
from fair_ladle.app.entitlements import store
from fair_ladle.app.entitlements.layers import Layers, named
from fair_ladle.app.people import service as people_service
from fair_ladle.app.people.groups import Group
from fair_ladle.app.people.rows import PersonFacts
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.pools.service import Product
from fair_ladle.app.usage import service as usage
from fair_ladle.core.calendar import micros
from fair_ladle.core.layers import Reached, waiting_order

RULES = Actor("rules", "", None)
MAY_HAVE = ("active", "invited")


@dataclass
class ReconcileResult:
    """What laying the layers out did: seats given by account, person and product, taken back by person and product, and
    who waits, with the reason."""

    granted: list[tuple[str, str, str]] = field(default_factory=list)
    taken: list[tuple[str, str]] = field(default_factory=list)
    waiting: list[tuple[str, str, str]] = field(default_factory=list)


@dataclass
class Member:
    """Somebody whom a family's products reach, or who has one of them because of a layer.

    Places are of the family's products, the lowest first. ``by_hand`` is the one they were given by hand, which they
    have, or which a higher one stands in for; ``priorities`` has every place whose product a layer gives them.
    """

    person: PersonFacts
    priorities: dict[int, int] = field(default_factory=dict)
    held: int | None = None
    by_rule: bool = False
    by_hand: int | None = None
    on: dict[int, int] = field(default_factory=dict)
    """The components (bits) that are on, of every place whose product a layer gives them."""

    @property
    def best(self) -> int | None:
        """The highest that is theirs."""
        return max([*self.priorities, *([] if self.by_hand is None else [self.by_hand])], default=None)

    @property
    def may_have(self) -> bool:
        """Whether they can be given anything."""
        return self.person.status in MAY_HAVE

    @property
    def wants(self) -> int | None:
        """The place of what they shall get; None where they have what is theirs."""
        return self.best if self.may_have and self.best != self.held else None


def reconcile(tx: Transaction, only: Sequence[Product] | None = None) -> ReconcileResult:
    """Let seats follow the layers, of these products and of those that depend on them (all, if not said).

    Who has one of a family keeps it while the highest that is theirs has no room; who has none takes the highest lower
    one that reaches them; both wait for the highest. Seats given directly stay, or come back when the layer goes.
    Doing it twice does nothing twice.
    """
    store.lock_reconciling(tx)
    accounts, result = accounts_service.known(tx), ReconcileResult()
    layers = Layers(tx, accounts)
    families = _concerned(layers, only)
    codes = {product.id for family in families for product in family}
    store.rehearse(tx, codes)
    assignments.rehearse(tx, [*(each for family in families for each in family), *_bases(layers, families)])
    ids, products, reached = layers.reached([each for each in layers.every if each.product.id in codes])
    column = {product.id: n for n, product in enumerate(products)}
    turn = [(family, _members(tx, family, ids, column, reached)) for family in families]
    people_service.lock(
        tx,
        {
            member.person.id
            for _, members in turn
            for member in members
            if member.wants is not None or (member.by_rule and member.best is None)
        },
    )
    # What needs another product is taken back first, and given last.
    for family, members in reversed(turn):
        _take_back(tx, accounts, family, [each for each in members if each.by_rule and each.best is None], result)
    for family, members in turn:
        _give(tx, accounts, family, _with_a_base(tx, accounts, layers, family, members, result), result)
        _keep_components(tx, family, members)
    return result


def _keep_components(tx: Transaction, family: list[Product], members: Sequence[Member]) -> None:
    """Note which components are on while a layer gives a seat: who keeps it longer keeps them as they were."""
    noted = {(row.product_id, row.person_id): row.components for row in _noted(tx, family)}
    other: dict[tuple[int, tuple[str, ...]], list[int]] = defaultdict(list)
    for each in members:
        if each.by_rule and each.held is not None and each.held in each.on:
            product = family[each.held]
            codes = named(product, each.on[each.held])
            if noted.get((product.id, each.person.id), codes) != codes:
                other[product.id, tuple(codes)].append(each.person.id)
    for (product_id, kept), person_ids in other.items():
        store.keep_components(tx.connection, product_id, person_ids, kept)


def _noted(tx: Transaction, family: list[Product]) -> list[Any]:
    return store.rule_seats_of(tx.connection, [each.id for each in family])


def reconcile_groups(tx: Transaction, groups: Sequence[Group]) -> ReconcileResult:
    """Let seats follow what these groups give."""
    ids = {each.id for each in groups}
    of = {
        each.product.id: each.product
        for each in Layers(tx, accounts_service.known(tx)).every
        if each.group is not None and each.group.id in ids
    }
    return reconcile(tx, list(of.values())) if of else ReconcileResult()


def _concerned(layers: Layers, only: Sequence[Product] | None) -> list[list[Product]]:
    """The families to look at: those of these products and of add-ons to them; else all that a layer gives or gave."""
    families = layers.families()
    if only is None:
        wanted = {each.product.id for each in layers.every} | store.products_granted(layers.tx.connection)
    else:
        wanted = {each.id for each in only}
    chosen = [family for family in families if any(each.id in wanted for each in family)]
    codes = {each.code for family in chosen for each in family}
    return [family for family in families if family in chosen or any(codes & set(each.requires) for each in family)]


def _bases(layers: Layers, families: list[list[Product]]) -> list[Product]:
    """The products that these need, where they are not among them."""
    mine = {each.id for family in families for each in family}
    codes = {code for family in families for each in family for code in each.requires}
    return [each for each in layers.products.values() if each.code in codes and each.id not in mine]


def _members(
    tx: Transaction, family: list[Product], ids: list[int], column: dict[int, int], reached: Reached
) -> list[Member]:
    place_of = {product.id: place for place, product in enumerate(family)}
    priorities: dict[int, dict[int, int]] = defaultdict(dict)
    on: dict[int, dict[int, int]] = defaultdict(dict)
    for place, product in enumerate(family):
        if product.id in column:
            n = column[product.id]
            for row in np.flatnonzero(reached.layers[:, n]).tolist():
                priorities[ids[row]][place] = int(reached.priority[row, n])
                on[ids[row]][place] = int(reached.components[row, n])
    noted = _noted(tx, family)
    waits = {person_id for each in family for person_id in store.waiting(tx.connection, each.id)}
    people = store.facts(tx.connection, {*priorities, *waits, *(row.person_id for row in noted)})
    held = (
        {
            row.subject: place_of[row.product_id]
            for row in usage.open_assignments(tx, family, [each.username for each in people.values()], tx.now)
        }
        if people
        else {}
    )
    seats, gone = {}, defaultdict(list)
    for row in noted:
        if held.get(people[row.person_id].username) == place_of[row.product_id]:
            seats[row.person_id] = row
        else:
            # The seat went otherwise: with whoever had it, say.
            gone[row.product_id].append(row.person_id)
    for product_id, person_ids in gone.items():
        store.forget_granted(tx.connection, product_id, person_ids)
    found = []
    for person_id, person in people.items():
        member = Member(person, priorities.get(person_id, {}), held.get(person.username), on=on.get(person_id, {}))
        seat = seats.get(person_id)
        member.by_rule = seat is not None
        if seat is None:
            member.by_hand = member.held
        elif seat.instead_of is not None:
            member.by_hand = place_of.get(seat.instead_of)
        found.append(member)
    return found


def _wanted(accounts: Accounts, product: Product, member: Member) -> Wanted:
    return Wanted(
        accounts.tree.codes[accounts.row_of_id[member.person.account_id]], product.code, member.person.username
    )


def _take_back(
    tx: Transaction, accounts: Accounts, family: list[Product], members: Sequence[Member], result: ReconcileResult
) -> None:
    leaving = sorted(
        ((_wanted(accounts, family[each.held], each), each) for each in members if each.held is not None),
        key=lambda pair: (pair[0].product, pair[0].subject),
    )
    for part in many.in_parts([wanted for wanted, _ in leaving]):
        assignments.release(tx, RULES, part)
    for place, product in enumerate(family):
        mine = [member.person.id for _, member in leaving if member.held == place]
        store.forget_granted(tx.connection, product.id, mine)
    result.taken.extend((wanted.subject, wanted.product) for wanted, _ in leaving)
    for _, member in leaving:
        member.held, member.by_rule = None, False


def _with_a_base(
    tx: Transaction,
    accounts: Accounts,
    layers: Layers,
    family: list[Product],
    members: list[Member],
    result: ReconcileResult,
) -> list[Member]:
    """An add-on is theirs only while they have one of its bases: what a layer gave of it goes with the last of them,
    and nobody waits for it without."""
    bases = {code for each in family for code in each.requires}
    if not bases or not members:
        return members
    by_id = {each.id: each for each in layers.products.values() if each.code in bases}
    has: dict[str, set[str]] = defaultdict(set)
    usernames = [each.person.username for each in members]
    for row in usage.open_assignments(tx, list(by_id.values()), usernames, tx.now):
        has[row.subject].add(by_id[row.product_id].code)
    for each in members:
        mine = has[each.person.username]
        each.priorities = {
            place: priority
            for place, priority in each.priorities.items()
            if not family[place].requires or mine & set(family[place].requires)
        }
    _take_back(tx, accounts, family, [each for each in members if each.by_rule and each.best is None], result)
    return members


def _give(
    tx: Transaction, accounts: Accounts, family: list[Product], members: Sequence[Member], result: ReconcileResult
) -> None:
    """Everybody gets what is theirs, in the queue's order, until nothing changes: a swap lets the next one in."""
    queues = [_queue(tx, product, place, members) for place, product in enumerate(family)]
    against = [_against(tx, family, place, queue) for place, queue in enumerate(queues)]
    why: dict[int, str] = {}
    while True:
        before = len(result.granted)
        for place in reversed(range(len(family))):
            able = [each for each in queues[place] if each.person.username not in against[place]]
            served, full = _serve(tx, accounts, family, place, able, result)
            store.wait_no_more(tx.connection, family[place].id, [each.person.id for each in served])
            queues[place] = [each for each in queues[place] if each.held != place]
            why.update(full)
        if len(family) == 1 or len(result.granted) == before:
            break
    for place in reversed(range(len(family) - 1)):
        lower = [
            each for queue in queues[place + 1 :] for each in queue if each.held is None and place in each.priorities
        ]
        no = _against(tx, family, place, lower)
        _serve(tx, accounts, family, place, [each for each in lower if each.person.username not in no], result)
    for place, queue in enumerate(queues):
        for each in queue:
            username = each.person.username
            result.waiting.append((username, family[place].code, against[place].get(username) or why[each.person.id]))


def _against(tx: Transaction, family: list[Product], place: int, members: Sequence[Member]) -> dict[str, str]:
    """What speaks against each, limits aside; what they have of the family goes at the same instant."""
    others = [each.code for each in family if each is not family[place]]
    return assignments.what_speaks_against(tx, family[place], [each.person for each in members], others)


def _queue(tx: Transaction, product: Product, place: int, members: Sequence[Member]) -> list[Member]:
    """Who wants a product, in the order in which they get it; who did not wait begins to, and who wants it no more
    does not wait any more."""
    waits = store.waiting(tx.connection, product.id)
    wanting = {each.person.id: each for each in members if each.wants == place}
    store.wait_no_more(tx.connection, product.id, set(waits) - set(wanting))
    now = tx.now
    store.wait(tx.connection, product.id, [each for each in wanting if each not in waits], now)
    usernames = [each.person.username for each in wanting.values()]
    kept = {username for username, _, _ in assignments.reserved_seats(tx, [product], usernames)}
    ids = np.array(list(wanting), dtype=np.int64)
    # Who has a seat reserved, or is given back what they had by hand, comes before whom only a layer gives it.
    priority = [-1 if each.person.username in kept else each.priorities.get(place, 0) for each in wanting.values()]
    since = [micros(waits.get(each, now)) for each in wanting]
    order = waiting_order(ids, np.array(priority, dtype=np.int64), np.array(since, dtype=np.int64))
    return [wanting[each] for each in order.tolist()]


def _serve(
    tx: Transaction,
    accounts: Accounts,
    family: list[Product],
    place: int,
    members: list[Member],
    result: ReconcileResult,
) -> tuple[list[Member], dict[int, str]]:
    """Give one product to as many of these as there is room for, in their order, in place of what they have of the
    family: whom it was given to, and why not to the others."""
    product = family[place]

    def give(part: list[Member]) -> None:
        leaving = [_wanted(accounts, family[each.held], each) for each in part if each.held is not None]
        if leaving:
            assignments.release(tx, RULES, leaving)
        assignments.give(
            tx, RULES, product, [(_wanted(accounts, product, each).account, each.person.username) for each in part]
        )

    served, closed = _to_all(tx, members, give), dict[int, str]()
    if not served:
        served, closed = _in_their_order(tx, members, give)
    got = {each.person.id for each in served}
    full = {each.person.id: closed[each.person.account_id] for each in members if each.person.id not in got}
    _note(tx, family, place, served)
    result.taken.extend((each.person.username, family[each.held].code) for each in served if each.held is not None)
    result.granted.extend(
        (_wanted(accounts, product, each).account, each.person.username, product.code) for each in served
    )
    for each in served:
        each.held, each.by_rule = place, each.by_hand != place
    return served, full


def _in_their_order(
    tx: Transaction, members: Sequence[Member], give: Callable[[list[Member]], None]
) -> tuple[list[Member], dict[int, str]]:
    """There are too few for all: one after the other, as they stand in the queue, as many at once as go through.

    To whom it was given, and why an account (by its number) takes no more.
    """
    left, served, closed = list(members), list[Member](), dict[int, str]()
    size = max(1, len(left) // 2)
    while left:
        part = left[: min(size, many.MOST_AT_ONCE)]
        try:
            with tx.connection.begin_nested():
                give(part)
        except Refused as refused:
            if len(part) == 1:
                account_id = part[0].person.account_id
                ladder = refused.problem.more.get("ladder")
                closed[account_id] = refused.problem.detail if ladder is None else ladder["sentence"]
                left = [each for each in left if each.person.account_id != account_id]
            size = max(1, len(part) // 2)
            continue
        served += part
        left, size = left[len(part) :], size * 2
    return served, closed


def _note(tx: Transaction, family: list[Product], place: int, served: Collection[Member]) -> None:
    """Note whose seat a layer gave, and what they had by hand before."""
    for other, product in enumerate(family):
        gone = [each.person.id for each in served if each.by_rule and each.held == other]
        store.forget_granted(tx.connection, product.id, gone)
    store.note_granted(
        tx.connection,
        family[place].id,
        {
            each.person.id: None if each.by_hand is None else family[each.by_hand].id
            for each in served
            if each.by_hand != place
        },
    )


def _to_all(tx: Transaction, members: list[Member], give: Callable[[list[Member]], None]) -> list[Member]:
    """Give to everybody where there is room for all; else to nobody."""
    try:
        with tx.connection.begin_nested():
            for part in many.in_parts(members):
                give(list(part))
    except Refused:
        return []
    return members
