"""The people list and rules over 100,000 people, against the bare queries they cannot do without."""

from __future__ import annotations

import random
import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from typing import Any

import sqlalchemy as sa

from bench.admissions import source
from bench.home import new_database, server
from bench.measured import Measure
from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.data_import import usecases as data_import
from fair_ladle.app.entitlements.layers import Layers
from fair_ladle.app.people.groups import PRESENT, Groups
from fair_ladle.app.people.tables import groups, people
from fair_ladle.app.people_admin import listing, store
from fair_ladle.app.people_admin.groups import GroupTerms, preview
from fair_ladle.app.people_admin.listing import Asked
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import Database, Transaction

PEOPLE, CLIENTS, RULES = 100_000, 500, 50
TITLES = ("Manager", "Director", "Officer", "Engineer", "Assistant", "Apprentice")
ASKED = {
    "everybody": Asked(),
    "find two words": Asked(find="person 77"),
    "not seen for 60 days": Asked(seen="60", status="active"),
    "find a rare word": Asked(find="7777"),
    "with a product": Asked(product="MAIL"),
    "in a group": Asked(group="MSP/G7"),
    "a SCIM filter": Asked(filter='title eq "Manager" and not (department sw "D1")'),
}


def _fill(database: Database) -> None:
    accounts = ["MSP,,operator,Msp,EUR,Europe/Lisbon", *(f"C{n},MSP,client,Client {n},," for n in range(CLIENTS))]
    database.run(
        data_import.load,
        COMMAND_LINE,
        source(
            {
                "accounts": ("code,parent,kind,name,currency,time_zone", accounts),
                "products": ("code,name,measure,unit", ["MAIL,Mail,seat,seat"]),
                "lots": (
                    "reference,owner,product,quantity,first_day,unit_cost",
                    ["PO-1,MSP,MAIL,90000,2026-01-01,2.5"],
                ),
            }
        ),
    )
    chance, now = random.Random(3), datetime.now(UTC)
    with database.engine.begin() as connection:
        ids = dict(connection.execute(sa.text("SELECT code, id FROM accounts")).all())
        product = connection.scalar(sa.text("SELECT id FROM products"))
        for start in range(0, PEOPLE, 10_000):
            rows = [
                {
                    "account_id": ids[f"C{n % CLIENTS}"],
                    "username": f"person.{n}",
                    "display_name": f"Person {n}",
                    "email": f"person.{n}@c{n % CLIENTS}.example",
                    "status": "active",
                    "last_seen_at": now - timedelta(days=chance.randrange(120)),
                    "title": chance.choice(TITLES),
                    "department": f"D{chance.randrange(40)}",
                    "protected": False,
                }
                for n in range(start, start + 10_000)
            ]
            connection.execute(sa.insert(people), rows)
            connection.execute(
                sa.text(
                    "INSERT INTO assignments (account_id, product_id, subject, begins) "
                    "VALUES (:a, :p, :s, '2026-02-01')"
                ),
                [{"a": row["account_id"], "p": product, "s": row["username"]} for row in rows if chance.random() < 0.8],
            )
        connection.execute(
            sa.insert(groups),
            [
                {
                    "account_id": ids["MSP"],
                    "code": f"G{n}",
                    "name": f"Group {n}",
                    "rule": f'title eq "{TITLES[n % 6]}" and department eq "D{n % 40}"',
                    "precedence": n,
                }
                for n in range(RULES)
            ],
        )


def _took(database: Database, work: Callable[[Transaction], Any]) -> float:
    found = []
    for _ in range(5):
        begin = time.perf_counter()
        database.run(work)
        found.append(time.perf_counter() - begin)
    return sorted(found)[2]


def _reached(tx: Transaction) -> object:
    layers = Layers(tx, accounts_service.known(tx))
    return layers.reached(layers.every)


def measure() -> list[Measure]:
    """A page of the list by what is asked for; a rule looked at; and who is in each of 50 groups by a rule."""
    rows = []
    with server() as home:
        database = new_database(home)
        _fill(database)
        bare = _took(
            database,
            lambda tx: tx.connection.execute(sa.text("SELECT COUNT(*) FROM people WHERE title = 'Manager'")).scalar(),
        )
        for name, asked in ASKED.items():
            took = _took(database, lambda tx, asked=asked: listing.listing(tx, COMMAND_LINE, asked))  # type: ignore[misc]
            counting = _took(database, lambda tx, asked=asked: listing.count(tx, COMMAND_LINE, asked))  # type: ignore[misc]
            rows.append(
                Measure(
                    f"people list, counted, {name}",
                    f"{counting * 1000:.0f} ms",
                    "a bare count of one title",
                    f"{bare * 1000:.0f} ms",
                    f"{counting / bare:.1f}",
                )
            )
            rows.append(
                Measure(
                    f"people list, a page, {name}",
                    f"{took * 1000:.0f} ms",
                    "a bare count of one title",
                    f"{bare * 1000:.0f} ms",
                    f"{took / bare:.1f}",
                )
            )
        wanted = GroupTerms("MSP", "G7", "Group 7", 'title eq "Officer" or department sw "D3"', (), 7)
        took = _took(database, lambda tx: preview(tx, COMMAND_LINE, wanted))
        rows.append(
            Measure(
                "a rule looked at before it is kept",
                f"{took * 1000:.0f} ms",
                "a bare count of one title",
                f"{bare * 1000:.0f} ms",
                f"{took / bare:.1f}",
            )
        )

        def everybody(tx: Transaction) -> list[int]:
            every = Groups.read(tx, accounts_service.known(tx))
            return store.counts_of(tx.connection, PRESENT, [every.reaches(each) for each in every.every])

        with database.engine.begin() as connection:
            connection.execute(
                sa.text(
                    "INSERT INTO entitlements (account_id, group_id, product_id, components, priority) SELECT "
                    "g.account_id, g.id, p.id, '[]', 100 FROM `groups` g JOIN products p"
                )
            )
        layered = _took(database, _reached)
        rows.append(
            Measure(
                f"what {RULES} layers by a rule give",
                f"{layered * 1000:.0f} ms",
                "a bare count of one title",
                f"{bare * 1000:.0f} ms",
                f"{layered / bare:.1f}",
            )
        )
        took = _took(database, everybody)
        rows.append(
            Measure(
                f"who is in {RULES} groups by a rule",
                f"{took * 1000:.0f} ms",
                "a bare count of one title",
                f"{bare * 1000:.0f} ms",
                f"{took / bare:.1f}",
            )
        )
        database.engine.dispose()
    return rows
