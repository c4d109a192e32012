"""What happens by itself at a cap: the same holds whenever it is run, each thing told once, jobs done once, mail
sent."""

from __future__ import annotations

import random
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from ipaddress import ip_network
from pathlib import Path
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.assignments import usecases as assignments
from fair_ladle.app.assignments.eligibility import Wanted
from fair_ladle.app.data_import import usecases as data_import
from fair_ladle.app.enforcement import enforcing as enforcement_enforcing
from fair_ladle.app.enforcement import usecases as enforcement
from fair_ladle.app.plumbing import outbox
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import Database
from fair_ladle.connectors.mail import Smtp, StandIn, kept_mails
from fair_ladle.connectors.sheets_in import read_source
from tests.app.test_assignments import DEVICES, LOT
from tests.app.test_intake import as_folder
from tests.conftest import actor_of

HERE = (ip_network("127.0.0.1"),)
NEW_YEAR = datetime(2026, 1, 1, 12, tzinfo=UTC)
TREE = (
    "code,parent,kind,name,currency,time_zone,admin_email,billing_email\nMSP,,operator,Msp,EUR,Europe/Lisbon,boss@msp.example,\n"
    + "".join(
        f"C{n},MSP,client,Client {n},,,c{n}@x.example,\nC{n}-A,C{n},sub-account,A,,,,\nC{n}-B,C{n},sub-account,B,,,,\n"
        for n in range(3)
    )
)
GRACE = "account,product,reserve,cap,at_cap,burst,grace_days,first_day,last_day\n" + "".join(
    f"C{n},BOX,{n},8,grace,,{n + 1},2026-01-01,2026-06-30\nC{n},BOX,{n},6,{'grace' if n else 'block'},,{n + 2 if n else ''},2026-07-01,\nC{n}-A,BOX,1,4,grace,,2,2026-01-01,\n"
    for n in range(3)
)


def year_of_use() -> str:
    chance = random.Random(11)
    rows = ["account,product,subject,from,to"]
    for number in range(260):
        begin = NEW_YEAR + timedelta(days=chance.uniform(0, 350))
        end = begin + timedelta(days=chance.choice([2, 9, 40, 90]))
        rows.append(
            f"C{chance.randrange(3)}-{chance.choice('AAB')},BOX,b{number},{begin.isoformat()},{end.isoformat()}"
        )
    return "\n".join(rows) + "\n"


def a_year(database: Database, folder: Path) -> Database:
    files = {
        "accounts": TREE,
        "products": DEVICES,
        "lots": LOT.format(500, ""),
        "allocations": GRACE,
        "assignments": year_of_use(),
    }
    database.clock.set_to(NEW_YEAR)
    database.run(data_import.load, COMMAND_LINE, read_source(as_folder(files, folder)))
    return database


def kept_holds(database: Database) -> set[tuple[Any, ...]]:
    with database.engine.connect() as connection:
        return {
            tuple(row)
            for row in connection.execute(sa.text("SELECT account_id, assignment_id, place, begins, ends FROM holds"))
        }


def test_a_year_gives_the_same_holds_whenever_it_is_run(new_database: Callable[[], Database], tmp_path: Path) -> None:
    found = []
    for name, every in (("every 3 days", 3), ("now and then", 47), ("once", 360)):
        database = a_year(new_database(), tmp_path / name)
        for day in range(0, 360, every):
            database.clock.set_to(NEW_YEAR + timedelta(days=min(360, day + every)))
            database.run(enforcement_enforcing.enforce, "BOX")
        database.run(enforcement_enforcing.enforce, "BOX")
        found.append(kept_holds(database))
    assert found[0] ^ found[2] == found[1] ^ found[2] == set()
    assert (
        len(found[0]) > 60 and any(row[4] is None for row in found[0]) and any(row[4] is not None for row in found[0])
    )


def test_the_excess_alone_is_on_hold_and_free_again_in_reverse(demo: Database) -> None:
    def on_hold() -> list[str]:
        return [
            each.subject for each in demo.run(enforcement.on_hold, COMMAND_LINE, "OLDQUAY-ENGINEERING", "WATCHGLASS")
        ]

    demo.run(enforcement_enforcing.enforce, "WATCHGLASS")
    first = on_hold()
    assert len(first) == 3, "17 in use of its branch, a cap of 14"
    with demo.engine.connect() as connection:
        rows = connection.execute(
            sa.text(
                "SELECT a.code, s.subject FROM assignments s JOIN accounts a ON a.id = s.account_id "
                "JOIN products p ON p.id = s.product_id"
                " WHERE p.code = 'WATCHGLASS' AND a.code LIKE 'OLDQUAY-ENGINEERING%' AND "
                "s.ends IS NULL ORDER BY s.begins"
            )
        ).all()
    code, subject = next(row for row in rows if row.subject not in first)
    demo.run(assignments.release, COMMAND_LINE, [Wanted(code, "WATCHGLASS", subject)])
    demo.run(enforcement_enforcing.enforce, "WATCHGLASS")
    assert on_hold() == first[:2], "the last put on hold is freed first"


def test_each_crossing_is_told_once_and_again_after_it_was_crossed_back(database: Database, tmp_path: Path) -> None:
    files = {
        "accounts": TREE,
        "products": DEVICES,
        "lots": LOT.format(500, ""),
        "allocations": GRACE.split("\n")[0] + "\nC0,BOX,0,10,block,,,2026-01-01,\n",
    }
    database.clock.set_to(NEW_YEAR)
    database.run(data_import.load, COMMAND_LINE, read_source(as_folder(files, tmp_path / "in")))
    who = actor_of("MSP")

    def told() -> int:
        return database.run(enforcement_enforcing.enforce, "BOX").notified

    def take(*subjects: int) -> None:
        database.run(assignments.assign, who, [Wanted("C0-A", "BOX", f"x{each}") for each in subjects])

    take(*range(7))
    assert told() == 0
    take(7)
    assert (told(), told()) == (1, 0)
    take(8, 9)
    assert told() == 1, "90 and 100 % at once: the higher one"
    database.run(assignments.release, who, [Wanted("C0-A", "BOX", f"x{each}") for each in (7, 8, 9)])
    assert told() == 0
    take(7)
    assert told() == 1
    assert database.run(enforcement.set_levels, who, "C0", "BOX", [50]) == (50,)
    assert (told(), told()) == (1, 0)


def test_a_mail_that_cannot_be_written_does_not_hold_up_the_others(database: Database, tmp_path: Path) -> None:
    stand_in = StandIn(tmp_path / "mail")
    with database.transaction() as tx:
        outbox.write(tx, "no\nbody@x.example", "A", "a")
        outbox.write(tx, "ada@x.example", "B", "b")
    try:
        assert outbox.send(database, Smtp(stand_in.start(), "us@x.example", HERE).deliver) == 1
    finally:
        stand_in.stop()
    assert [each.subject for each in kept_mails(tmp_path / "mail", 10)] == ["B"]


def test_mail_goes_out_once_it_can(database: Database, tmp_path: Path) -> None:
    with database.transaction() as tx:
        outbox.write(tx, "ada@x.example", "A word\nBcc: mallory@x.example", "Grüße: 5 > 4.\n.\nend")
    assert outbox.send(database, Smtp("smtp://127.0.0.1:1", "us@x.example", HERE).deliver) == 0
    stand_in = StandIn(tmp_path / "mail")
    address = stand_in.start()
    try:
        assert outbox.send(database, Smtp(address, "us@x.example", HERE).deliver) == 0, "not before its next try"
        database.clock.shift += timedelta(minutes=2)
        assert outbox.send(database, Smtp(address, "us@x.example", HERE).deliver) == 1
        assert outbox.send(database, Smtp(address, "us@x.example", HERE).deliver) == 0
    finally:
        stand_in.stop()
    mail = kept_mails(tmp_path / "mail", 10)
    assert [(each.to_address, each.subject) for each in mail] == [("ada@x.example", "A word Bcc: mallory@x.example")]
    assert mail[0].body.replace("\r\n", "\n") == "Grüße: 5 > 4.\n.\nend\n"


def test_a_grace_warns_at_its_start_halfway_on_its_last_day_and_when_it_is_over(
    database: Database, tmp_path: Path
) -> None:
    files = {
        "accounts": TREE,
        "products": DEVICES,
        "lots": LOT.format(500, ""),
        "allocations": GRACE.split("\n")[0] + "\nC0,BOX,0,2,grace,,6,2026-01-01,\n",
    }
    database.clock.set_to(NEW_YEAR)
    database.run(data_import.load, COMMAND_LINE, read_source(as_folder(files, tmp_path / "in")))
    database.run(enforcement.set_levels, COMMAND_LINE, "C0", "BOX", [])
    database.run(assignments.assign, actor_of("MSP"), [Wanted("C0-A", "BOX", f"x{n}") for n in range(4)])
    told: list[tuple[int, str]] = []
    for day in range(9):
        database.clock.set_to(NEW_YEAR + timedelta(days=day, minutes=1))
        for _ in range(2):
            database.run(enforcement_enforcing.enforce, "BOX")
        with database.engine.connect() as connection:
            subjects = connection.scalars(sa.text("SELECT subject FROM notices ORDER BY id")).all()
        told += [(day, subject) for subject in subjects[len(told) :]]
    assert told == [
        (0, "Client 0 is past its cap of Box: grace until Wednesday 7 Jan 2026"),
        (3, "Client 0: half of its grace for Box is over"),
        (6, "Client 0: the last day of its grace for Box"),
        (7, "Client 0: its grace for Box is over"),
        (7, "Client 0: 2 devices of Box on hold"),
    ]
    with database.engine.connect() as connection:
        mails = connection.execute(
            sa.text("SELECT to_address, COUNT(*) FROM outbox GROUP BY to_address ORDER BY to_address")
        ).all()
    assert [tuple(each) for each in mails] == [("boss@msp.example", 4), ("c0@x.example", 4)], (
        "the two of one run in one mail"
    )
