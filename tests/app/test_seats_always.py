"""Whatever is done to people, in whatever order: one seat a person and product, no limit passed, nobody protected taken
from, and what layers give laid out twice does nothing twice."""

from __future__ import annotations

import csv
import os
from collections.abc import Callable
from datetime import timedelta
from typing import Any

import sqlalchemy as sa
from hypothesis import HealthCheck, Phase, example, given, settings
from hypothesis import strategies as st

from fair_ladle.app.allocations.positions import positions_at
from fair_ladle.app.assignments import service as assignment_service
from fair_ladle.app.assignments import usecases as assignments
from fair_ladle.app.data_import import usecases as data_import
from fair_ladle.app.entitlements import reconciling
from fair_ladle.app.entitlements import usecases as entitlements
from fair_ladle.app.entitlements.usecases import EntitlementTerms
from fair_ladle.app.people_admin import acting, groups
from fair_ladle.app.people_admin.listing import Asked
from fair_ladle.app.people_admin.seat_acts import ActOptions
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.pools import service as pools
from fair_ladle.app.reclaim import usecases as reclaim
from fair_ladle.app.reclaim.usecases import Policy
from fair_ladle.connectors.sheets_in import SheetTable, Source
from fair_ladle.demo.load import STARTS_AT

ACCOUNTS, PRODUCTS, PEOPLE = (
    ("MSP", "A", "A1", "A2", "B"),
    ("MAIL", "DESK", "DESK-BIG", "DISPATCH"),
    [f"p{n}" for n in range(12)],
)
BOUGHT = dict(zip(PRODUCTS, (9, 5, 4, 3), strict=True))
EXAMPLES = int(os.environ.get("FAIR_LADLE_EXAMPLES", "12"))
"""The same ones in every check; more of them find more than a check has time for."""
TABLES = {
    "accounts": (
        "code,parent,kind,name,currency,time_zone",
        [
            "MSP,,operator,Msp,EUR,Europe/Lisbon",
            "A,MSP,client,A,,",
            "A1,A,sub-account,A1,,",
            "A2,A,sub-account,A2,,",
            "B,MSP,client,B,,",
        ],
    ),
    "products": (
        "code,name,measure,unit,family,requires,components",
        [
            "MAIL,Mail,seat,seat,,,",
            "DESK,Desk,seat,seat,DESKS,,PAPER!;INK",
            "DESK-BIG,Desk Big,seat,seat,DESKS,,PAPER!;INK;LAMP",
            "DISPATCH,Voice,seat,seat,,DESK;DESK-BIG,",
        ],
    ),
    "lots": (
        "reference,owner,product,quantity,first_day,unit_cost",
        [f"PO-{code},MSP,{code},{quantity},2026-01-01,2" for code, quantity in BOUGHT.items()],
    ),
    "allocations": (
        "account,product,reserve,cap,at_cap,first_day",
        [
            "A,MAIL,2,6,block,2026-01-01",
            "A1,MAIL,1,4,block,2026-01-01",
            "B,MAIL,0,4,block,2026-01-01",
            "A,DESK,0,3,block,2026-01-01",
            "B,DISPATCH,1,2,block,2026-01-01",
        ],
    ),
    "people": (
        "account,username,display_name,email,status,last_seen_at,title,protected",
        [
            f"{ACCOUNTS[1 + n % 4]},{name},{name},{name}@x.example,{'invited' if n == 5 else 'active'},{'' if n in (5, 6) else f'2026-{11 if n % 3 else 10}-01T10:00:00Z'},{('Mate', 'Cook')[n % 2]},{'yes' if n in (3, 9) else ''}"
            for n, name in enumerate(PEOPLE)
        ],
    ),
    "assignments": (
        "account,product,subject,from",
        [
            f"{ACCOUNTS[1 + n % 4]},{code},p{n},2026-07-01T09:00:00Z"
            for code, whom in (("MAIL", (0, 3, 6, 9)), ("DESK", (2, 3, 9)), ("DISPATCH", (3,)))
            for n in whom
        ],
    ),
    "groups": (
        "account,code,name,rule,members,precedence",
        ['MSP,COOKS,Cooks,"title eq ""Cook""",,10', "A,CREW,Crew,,p0;p1;p4,10"],
    ),
}
LAYERS = (("MSP", None), ("A", None), ("MSP", "COOKS"), ("A", "CREW"))

person, product, account = (
    st.lists(st.sampled_from(PEOPLE), min_size=1, max_size=6, unique=True),
    st.sampled_from(PRODUCTS),
    st.sampled_from(ACCOUNTS),
)
STEPS = st.lists(
    st.one_of(
        st.tuples(
            st.sampled_from(("assign", "release", "reserve", "cancel reservation")),
            person,
            st.builds(ActOptions, product),
        ),
        st.tuples(st.just("swap"), person, st.builds(ActOptions, product, product)),
        st.tuples(st.just("suspend"), person, st.builds(ActOptions, keep_seats=st.booleans())),
        st.tuples(
            st.sampled_from(("resume", "remove", "restore", "protect", "unprotect")), person, st.just(ActOptions())
        ),
        st.tuples(st.just("move"), person, st.builds(ActOptions, to_account=account)),
        st.tuples(st.sampled_from(("put", "forget")), st.sampled_from(LAYERS), product, st.sampled_from((1, 100))),
        st.tuples(st.just("into the crew"), person, person),
        st.tuples(
            st.just("reclaim"),
            account,
            st.sampled_from(("unseen", "never seen", "not joined")),
            st.sampled_from(("release", "suspend")),
        ),
    ),
    min_size=3,
    max_size=14,
)


def installation(database: Database) -> Database:
    source = Source()
    for name, (header, rows) in TABLES.items():
        source.add(name, SheetTable(name, header.split(","), enumerate(csv.reader(rows), start=2)))
    database.clock.set_to(STARTS_AT)
    database.run(data_import.load, COMMAND_LINE, source)
    return database


def step(database: Database, what: str, *more: Any) -> None:
    """One thing done; a refusal is an answer too."""
    try:
        if what in ("put", "forget"):
            (code, group), wanted, priority = more
            on = {"DESK": ("INK",), "DESK-BIG": ("LAMP",)}.get(wanted, ())
            database.run(getattr(entitlements, what), COMMAND_LINE, EntitlementTerms(code, group, wanted, on, priority))
        elif what == "into the crew":
            database.run(groups.members, COMMAND_LINE, "A/CREW", more[0], more[1])
        elif what == "reclaim":
            protected = {each.subject for each in held(database) if each.protected}
            database.run(
                reclaim.run,
                COMMAND_LINE,
                database.run(
                    reclaim.put,
                    COMMAND_LINE,
                    None,
                    Policy(more[0], f"{database.clock.now()}", more[1], 30, (), (), 0, more[2], False),
                ),
            )
            assert protected <= {each.subject for each in held(database)}, "nobody protected is taken from"
        else:
            database.run(acting.act, COMMAND_LINE, what, Asked(usernames=tuple(more[0])), more[1])
    except Refused:
        pass


def held(database: Database) -> list[Any]:
    with database.engine.connect() as connection:
        return list(
            connection.execute(
                sa.text(
                    "SELECT a.subject, p.code, p.family, who.protected FROM assignments a JOIN products p ON p.id = "
                    "a.product_id LEFT JOIN people who ON who.username = a.subject WHERE a.ends IS NULL"
                )
            )
        )


def holds_always(database: Database) -> None:
    rows = held(database)
    assert len({(each.subject, each.code) for each in rows}) == len(rows), "one seat a person and product"
    families = [
        (each.subject, each.family)
        for each in rows
        if each.family and not each.subject.startswith(assignment_service.RESERVED)
    ]
    assert len(set(families)) == len(families), "of a family only one at a time"
    assert database.run(assignments.verify, COMMAND_LINE) == [], "counters are what the assignments say"
    found = database.run(lambda tx: positions_at(tx, pools.products(tx), tx.now))
    bought = [BOUGHT[each.code] for each in found.snapshot.products]
    assert (found.settled.load <= found.hard).all() and (found.snapshot.own.sum(axis=0) <= bought).all(), (
        "no limit is passed, and no more handed out than bought"
    )
    result = database.run(reconciling.reconcile)
    queue = database.run(entitlements.queue, COMMAND_LINE).rows
    have = {(each.subject, each.code) for each in held(database)}
    assert not have & {(each.username, each.product.code) for each in queue}, "who has a seat waits for none"
    again = database.run(reconciling.reconcile)
    assert (
        not again.granted
        and not again.taken
        and {each[:2] for each in again.waiting} == {each[:2] for each in result.waiting}
    ), "twice does nothing twice"


def test_whatever_is_done_to_people_seats_stay_right(new_database: Callable[[], Database]) -> None:
    @settings(
        max_examples=EXAMPLES,
        derandomize=EXAMPLES == 12,
        phases=[Phase.explicit, Phase.generate, Phase.shrink],
        suppress_health_check=list(HealthCheck),
    )
    @given(STEPS)
    @example(
        [
            ("reclaim", "MSP", criterion, act)
            for criterion, act in (("unseen", "release"), ("never seen", "suspend"), ("not joined", "release"))
        ]
    )
    def check(steps: list[Any]) -> None:
        database = installation(new_database())
        for each in steps:
            database.clock.shift += timedelta(minutes=7)
            step(database, *each)
            holds_always(database)
        database.engine.dispose()

    check()
