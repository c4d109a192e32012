"""50,000 people brought in from a table, against bare inserts of the same rows."""

from __future__ import annotations

import time

import sqlalchemy as sa

from bench.admissions import source
from bench.home import new_database, server
from bench.measured import Measure
from fair_ladle.app.data_import import usecases as data_import
from fair_ladle.app.people.tables import people
from fair_ladle.app.people_import import usecases
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.sign_in import service as sign_in_service
from fair_ladle.app.sign_in import usecases as sign_in

PEOPLE, CLIENTS = 50_000, 500


def _ready(database: Database) -> None:
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
                    [f"PO-1,MSP,MAIL,{2 * PEOPLE},2026-01-01,2.5"],
                ),
            }
        ),
    )
    database.run(sign_in.give_sign_in, COMMAND_LINE, "admin@msp.example", "Admin", "MSP", "correct-ferry-staple")


def _bare(database: Database) -> float:
    """The rows alone, in parts of the same size; taken away again."""
    begin = time.perf_counter()
    with database.engine.connect() as connection:
        account = connection.scalar(sa.text("SELECT id FROM accounts LIMIT 1"))
        connection.rollback()
        for start in range(0, PEOPLE, usecases.AT_ONCE):
            with connection.begin():
                connection.execute(
                    sa.insert(people),
                    [
                        {
                            "account_id": account,
                            "username": f"bare.{n}",
                            "display_name": f"Bare {n}",
                            "email": f"bare.{n}@x.example",
                            "status": "active",
                            "protected": False,
                        }
                        for n in range(start, start + usecases.AT_ONCE)
                    ],
                )
        took = time.perf_counter() - begin
        with connection.begin():
            connection.execute(sa.delete(people))
    return took


def measure() -> list[Measure]:
    """Invited by mail, and active with a seat each."""
    rows = []
    with server() as home:
        for what, columns, joining in (("invited by mail", "", "invited"), ("active, a seat each", "Mail", "active")):
            database = new_database(home)
            _ready(database)
            bare = _bare(database)
            actor = database.run(lambda tx: sign_in_service.actor_for(tx, 1, "MSP"))
            assert actor is not None
            lines = [
                f"Guest {n % 4000},guest.{n}@c{n % CLIENTS}.example,C{n % CLIENTS},{columns}" for n in range(PEOPLE)
            ]
            content = "\n".join(["Name,E-mail,Account,Products", *lines]).encode()
            begin = time.perf_counter()
            number = database.run(usecases.receive, actor, "guests.csv", content)
            how = database.run(usecases.preview, actor, number).how
            previewed = time.perf_counter() - begin
            rows.append(
                Measure(
                    f"{PEOPLE:,} people looked at",
                    f"{previewed:.1f} s",
                    "bare inserts of the rows",
                    f"{bare:.1f} s",
                    f"{previewed / bare:.1f}",
                )
            )
            database.run(usecases.preview, actor, number, type(how)(**{**how.__dict__, "joining": joining}))
            begin = time.perf_counter()
            database.run(usecases.begin, actor, number)
            usecases.work(database, number)
            took = time.perf_counter() - begin
            assert database.run(usecases.one, actor, number).done == PEOPLE
            rows.append(
                Measure(
                    f"{PEOPLE:,} people brought in, {what}",
                    f"{took:.1f} s",
                    "bare inserts of the rows",
                    f"{bare:.1f} s",
                    f"{took / bare:.1f}",
                )
            )
            database.engine.dispose()
    return rows
