"""Queries over what layers give and who waits."""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import numpy as np
import sqlalchemy as sa
from sqlalchemy.dialects import mysql

from fair_ladle.app.entitlements.rows import BarredByLayer, GivenByLayer, InLayer, RuleSeatRecord, SwitchRecord
from fair_ladle.app.entitlements.tables import (
    component_bars,
    component_switches,
    entitlements,
    rule_seats,
    seat_queue,
)
from fair_ladle.app.people.rows import PersonFacts
from fair_ladle.app.people.tables import people
from fair_ladle.app.plumbing.database import Transaction, fetch, insert_row
from fair_ladle.app.plumbing.tables import generations
from fair_ladle.core.tree import Ints

AT_ONCE = 60


def given_and_barred(connection: sa.Connection) -> tuple[list[GivenByLayer], list[BarredByLayer]]:
    """Everything any layer gives (``components``, ``priority``), and every ``component`` that one bars."""
    e, b, nothing = entitlements.c, component_bars.c, sa.null()
    both = sa.union_all(
        sa.select(e.id, e.account_id, e.group_id, e.product_id, e.components, e.priority, nothing.label("component")),
        sa.select(b.id, b.account_id, b.group_id, b.product_id, nothing, nothing, b.component),
    ).subquery()
    typed = sa.type_coerce(both.c.components, e.components.type).label("components")
    wanted = sa.select(*(each for each in both.c if each.name != "components"), typed)
    rows: list[Any] = fetch(connection, wanted.order_by(both.c.priority, both.c.id), InLayer)
    return [row for row in rows if row.component is None], [row for row in rows if row.component is not None]


def rehearse(tx: Transaction, product_ids: Collection[int]) -> None:
    """Where giving these products is only tried out: go on with copies of who has them by a layer, and who waits."""
    tx.rehearse(rule_seats, rule_seats.c.product_id.in_(product_ids))
    tx.rehearse(seat_queue, seat_queue.c.product_id.in_(product_ids))


def rehearse_entitlements(tx: Transaction) -> None:
    """Where giving is only tried out: go on with a copy of what layers give."""
    tx.rehearse(entitlements)


def rehearse_switches(tx: Transaction, person_ids: Collection[int]) -> None:
    """Where switching components of these people is only tried out: go on with a copy."""
    tx.rehearse(component_switches, component_switches.c.person_id.in_(person_ids))


def put(connection: sa.Connection, entitlement_id: int | None, values: dict[str, Any]) -> int:
    """Create (id None) or change what a layer gives; its id."""
    if entitlement_id is None:
        return insert_row(connection, entitlements, values)
    connection.execute(sa.update(entitlements).where(entitlements.c.id == entitlement_id).values(values))
    return entitlement_id


def forget(connection: sa.Connection, entitlement_id: int) -> None:
    """Let a layer give something no more."""
    connection.execute(sa.delete(entitlements).where(entitlements.c.id == entitlement_id))


def members(
    connection: sa.Connection, among: sa.ColumnElement[bool], clauses: Sequence[sa.ColumnElement[bool]]
) -> list[Ints]:
    """For each condition the numbers of the people (among some) of whom it is true; many conditions in one pass."""
    found: list[Ints] = []
    for start in range(0, len(clauses), AT_ONCE):
        part = clauses[start : start + AT_ONCE]
        bits = sum((sa.case((each, 1 << n), else_=0) for n, each in enumerate(part)), sa.literal(0))
        # Only whom any of them is true of is worth sending.
        any_of = sa.select(people.c.id, sa.cast(bits, sa.BigInteger).label("bits")).where(among).subquery()
        rows = connection.execute(sa.select(any_of.c.id, any_of.c.bits).where(any_of.c.bits != 0)).fetchall()
        ids = np.array([row[0] for row in rows], dtype=np.int64)
        held = np.array([int(row[1]) for row in rows], dtype=np.int64)
        found.extend(ids[(held >> n) & 1 == 1] for n in range(len(part)))
    return found


def facts(connection: sa.Connection, ids: Collection[int]) -> dict[int, PersonFacts]:
    """id, username, account_id and status of people, by their number."""
    wanted = sa.select(people.c.id, people.c.username, people.c.display_name, people.c.account_id, people.c.status)
    return {row.id: row for row in fetch(connection, wanted.where(people.c.id.in_(ids)), PersonFacts)} if ids else {}


def granted(connection: sa.Connection, product_id: int) -> set[int]:
    """Whose seat of a product a layer gave."""
    return set(connection.scalars(sa.select(rule_seats.c.person_id).where(rule_seats.c.product_id == product_id)))


def rule_seats_of(connection: sa.Connection, product_ids: Collection[int]) -> list[RuleSeatRecord]:
    """The seats of these products that a layer gave: product_id, person_id, and instead_of which given by hand."""
    return fetch(connection, sa.select(rule_seats).where(rule_seats.c.product_id.in_(product_ids)), RuleSeatRecord)


def note_granted(connection: sa.Connection, product_id: int, instead_of: Mapping[int, int | None]) -> None:
    """These seats a layer gave, to people (numbers) instead of a product they had by hand."""
    if instead_of:
        connection.execute(
            sa.insert(rule_seats),
            [
                {"product_id": product_id, "person_id": person_id, "instead_of": other}
                for person_id, other in instead_of.items()
            ],
        )


def keep_components(
    connection: sa.Connection, product_id: int, person_ids: Collection[int], codes: Sequence[str]
) -> None:
    """Which components are on in seats of a product while layers give it: kept for when they no longer do."""
    r = rule_seats
    connection.execute(
        sa.update(r).where(r.c.product_id == product_id, r.c.person_id.in_(person_ids)).values(components=list(codes))
    )


@dataclass(frozen=True)
class OfPerson:
    """What is noted of one person, by product (number): components switched on or off, those that were on in the seats
    that layers gave (None = not said), and since when they wait."""

    switched: dict[int, dict[str, bool]]
    kept: dict[int, list[str] | None]
    waits_since: dict[int, datetime]


def of_person(connection: sa.Connection, person_id: int) -> OfPerson:
    """What is noted of one person."""
    s, r, q, nothing = component_switches.c, rule_seats.c, seat_queue.c, sa.null()
    found = OfPerson(defaultdict(dict), {}, {})
    parts = [
        sa.select(s.product_id, s.component, s.on, nothing.label("components"), nothing.label("since")).where(
            s.person_id == person_id
        ),
        sa.select(r.product_id, nothing, nothing, r.components, nothing).where(r.person_id == person_id),
        sa.select(q.product_id, nothing, nothing, nothing, q.since).where(q.person_id == person_id),
    ]
    every = sa.union_all(*parts).subquery().c
    typed = [sa.type_coerce(every.components, r.components.type), sa.type_coerce(every.since, q.since.type)]
    for product_id, component, on, components, since in connection.execute(
        sa.select(every.product_id, every.component, every.on, *typed)
    ):
        if component is not None:
            found.switched[product_id][component] = bool(on)
        elif since is not None:
            found.waits_since[product_id] = since
        else:
            found.kept[product_id] = components
    return found


def forget_granted(connection: sa.Connection, product_id: int, person_ids: Collection[int]) -> None:
    """These seats are no layer's any more."""
    if person_ids:
        connection.execute(
            sa.delete(rule_seats).where(rule_seats.c.product_id == product_id, rule_seats.c.person_id.in_(person_ids))
        )


def waiting(connection: sa.Connection, product_id: int) -> dict[int, datetime]:
    """Who waits for a seat of a product, and since when."""
    q = seat_queue
    return {
        row.person_id: row.since
        for row in connection.execute(sa.select(q.c.person_id, q.c.since).where(q.c.product_id == product_id))
    }


def is_waiting() -> sa.ColumnElement[bool]:
    """Whether somebody (of ``people``) waits for a seat."""
    return people.c.id.in_(sa.select(seat_queue.c.person_id))


def waiting_in(
    connection: sa.Connection, inside: sa.ColumnElement[bool]
) -> dict[int, list[tuple[PersonFacts, datetime]]]:
    """Who of a branch (``inside`` is of people) waits for a seat, and since when, by product."""
    facts = people.c.id, people.c.account_id, people.c.username, people.c.display_name, people.c.status
    q, found = seat_queue, dict[int, list[tuple[PersonFacts, datetime]]]()
    joined = sa.select(q.c.product_id, q.c.since, *facts).join(people, people.c.id == q.c.person_id)
    for product_id, since, *values in connection.execute(joined.where(inside)):
        found.setdefault(product_id, []).append((PersonFacts(*values), since))
    return found


def wait(connection: sa.Connection, product_id: int, person_ids: Collection[int], since: datetime) -> None:
    """These begin to wait."""
    if person_ids:
        connection.execute(
            sa.insert(seat_queue),
            [{"product_id": product_id, "person_id": each, "since": since} for each in person_ids],
        )


def wait_no_more(connection: sa.Connection, product_id: int, person_ids: Collection[int]) -> None:
    """These do not wait any more."""
    if person_ids:
        connection.execute(
            sa.delete(seat_queue).where(seat_queue.c.product_id == product_id, seat_queue.c.person_id.in_(person_ids))
        )


def lock_reconciling(tx: Transaction) -> None:
    """One at a time reconciles: whoever comes second waits here, on the row of a generation that is raised. Who only
    tries it out works on copies and waits for nobody."""
    if tx.is_rehearsal:
        return
    g = generations
    raised = mysql.insert(g).values(name="reconciling", number=1)
    tx.connection.execute(raised.on_duplicate_key_update(number=g.c.number + 1))


def switches(connection: sa.Connection, person_ids: Collection[int]) -> list[SwitchRecord]:
    """Components that are switched for these people: person_id, product_id, component and on."""
    s = component_switches
    return fetch(connection, sa.select(s).where(s.c.person_id.in_(person_ids)), SwitchRecord)


def switch(connection: sa.Connection, person_id: int, product_id: int, component: str, on: bool | None) -> None:
    """Switch a component on or off for one person, or (None) neither."""
    s = component_switches
    connection.execute(
        sa.delete(s).where(s.c.person_id == person_id, s.c.product_id == product_id, s.c.component == component)
    )
    if on is not None:
        connection.execute(
            sa.insert(s).values({"person_id": person_id, "product_id": product_id, "component": component, "on": on})
        )


def add_bar(connection: sa.Connection, values: dict[str, Any]) -> None:
    """Bar a component."""
    connection.execute(sa.insert(component_bars).values(values))


def forget_bars_of(connection: sa.Connection, group_id: int) -> None:
    """A group bars nothing any more: it goes."""
    connection.execute(sa.delete(component_bars).where(component_bars.c.group_id == group_id))


def forget_bar(connection: sa.Connection, bar_id: int) -> None:
    """Bar a component no more."""
    connection.execute(sa.delete(component_bars).where(component_bars.c.id == bar_id))


def switch_anew(
    connection: sa.Connection,
    person_ids: Collection[int],
    parts: Sequence[tuple[int, Collection[str]]],
    off: Sequence[dict[str, Any]],
) -> None:
    """For these people, components (product_id, codes) are switched as ``off`` says: those in it off, the others on."""
    s = component_switches
    for product_id, components in parts:
        connection.execute(
            sa.delete(s).where(
                s.c.person_id.in_(person_ids), s.c.product_id == product_id, s.c.component.in_(components)
            )
        )
    if off:
        connection.execute(sa.insert(s), list(off))


def products_granted(connection: sa.Connection) -> set[int]:
    """Products of which a layer gave a seat, or somebody waits for one."""
    return {
        *connection.scalars(sa.select(rule_seats.c.product_id).distinct()),
        *connection.scalars(sa.select(seat_queue.c.product_id).distinct()),
    }


def has_it_on(
    product_id: int,
    component: str,
    given: sa.ColumnElement[bool],
    on_by_layer: sa.ColumnElement[bool],
    barred_by_account: sa.ColumnElement[bool],
    barred_by_group: sa.ColumnElement[bool],
) -> sa.ColumnElement[bool]:
    """People, of those with a seat of a product, who have a component of it on that is not mandatory: by the same order
    in which the engine judges one person. A seat that came by hand has all on; one that a layer gave and none is
    ``given`` by any more keeps what was on (all, where that was never noted)."""
    s, r = component_switches, rule_seats
    mine = sa.select(s.c.person_id).where(s.c.product_id == product_id, s.c.component == component)
    layered = sa.select(r.c.person_id).where(r.c.product_id == product_id)
    by_layers = sa.and_(
        people.c.id.not_in(mine.where(s.c.on.is_(False))),
        sa.not_(barred_by_group),
        sa.or_(people.c.id.not_in(layered), on_by_layer),
    )
    judged = sa.and_(sa.not_(barred_by_account), sa.or_(people.c.id.in_(mine.where(s.c.on.is_(True))), by_layers))
    was_on = sa.or_(r.c.components.is_(sa.null()), sa.func.json_contains(r.c.components, json.dumps(component)))
    kept = layered.where(was_on)
    is_kept = sa.and_(people.c.id.in_(layered), sa.not_(given))
    return sa.or_(sa.and_(is_kept, people.c.id.in_(kept)), sa.and_(sa.not_(is_kept), judged))
