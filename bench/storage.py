"""Storage at size: the screen's first rows, a step down and a limit's preview; reports against LOAD DATA of the same
rows, and writes that are asked for against a POST that writes one row, of an application that does nothing else and of
the product.

`python -m bench.storage 100000` takes the screens alone, at a size.
"""

from __future__ import annotations

import json
import random
import sys
import tempfile
import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path
from statistics import median
from typing import Any

import sqlalchemy as sa
from fastapi import FastAPI

from bench.admissions import source
from bench.home import new_database, server
from bench.measured import Measure, alternating
from bench.served import Caller, served
from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.assignments import service as assignments
from fair_ladle.app.data_import import usecases as data_import
from fair_ladle.app.devices import usecases as devices
from fair_ladle.app.people.tables import people
from fair_ladle.app.personal_storage import usecases as personal_storage
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.http import Db
from fair_ladle.app.plumbing.processes import look_for_garbage_seldom
from fair_ladle.app.plumbing.routing import Router
from fair_ladle.app.pools import service as pools
from fair_ladle.app.storage import limits, listing
from fair_ladle.app.storage_systems import usecases as systems
from fair_ladle.app.storage_systems.routes import BytesAsked
from fair_ladle.app.storage_systems.usecases import Report, Where
from fair_ladle.app.usage import service as usage
from fair_ladle.app.usage.tables import stored
from fair_ladle.main import create_app

CLIENTS, EACH, PEOPLE, PARTS = 2_000, 10, 300_000, 5
BATCHES, BATCH, WRITES, ROUNDS = 8, 5_000, 1_000, 5
OPERATOR = Actor("bench", "", "MSP")


def _fill(database: Database, clients: int, persons: int) -> None:
    accounts = ["MSP,,operator,Msp,EUR,Europe/Lisbon"]
    for n in range(clients):
        accounts += [f"C{n},MSP,client,Client {n},,", *(f"C{n}-{d},C{n},sub-account,D{d},," for d in range(EACH))]
    tables = {
        "accounts": ("code,parent,kind,name,currency,time_zone", accounts),
        "products": ("code,name,measure,unit", ["DISK,Disk,storage,GB"]),
        "lots": ("reference,owner,product,quantity,first_day", ["PO,MSP,DISK,50000000,2026-01-01"]),
    }
    database.run(data_import.load, COMMAND_LINE, source(tables))
    chance, now = random.Random(7), datetime.now(UTC)
    with database.engine.begin() as connection:
        ids = {row.code: row.id for row in connection.execute(sa.text("SELECT code, id FROM accounts"))}
        product = connection.scalar(sa.text("SELECT id FROM products"))
        places = [ids[f"C{n}-{d}"] for n in range(clients) for d in range(EACH)]
        for start in range(0, persons, 10_000):
            numbers = range(start, start + 10_000)
            present = [
                {
                    "account_id": places[n % len(places)],
                    "username": f"person.{n}",
                    "display_name": f"Person {n}",
                    "status": "active",
                    "protected": False,
                    "regroup": False,
                }
                for n in numbers
            ]
            connection.execute(sa.insert(people), present)
            sizes = [int(chance.lognormvariate(22, 1.2)) for _ in numbers]
            rows = [
                {
                    "product_id": product,
                    "account_id": places[n % len(places)],
                    "kind": "person",
                    "name": f"person.{n}",
                    "bytes": size,
                    "week_ago": size - size // 50,
                    "month_ago": size - size // 9,
                    "quarter_ago": size // 2,
                    "at": now - timedelta(hours=chance.randrange(48)),
                }
                for n, size in zip(numbers, sizes, strict=True)
            ]
            connection.execute(sa.insert(stored), rows)
        sums = "SUM(bytes), SUM(week_ago), SUM(month_ago), SUM(quarter_ago), MAX(at)"
        whole = f"SELECT product_id, account_id, '', '', {sums}"
        columns = "product_id, account_id, kind, name, bytes, week_ago, month_ago, quarter_ago, at"
        connection.execute(
            sa.text(f"INSERT INTO stored ({columns}) {whole} FROM stored GROUP BY product_id, account_id")
        )
        connection.execute(sa.text("INSERT INTO stored_days VALUES (:p, CURDATE(), NULL)"), {"p": product})
    with database.transaction() as tx:
        usage.settle_whose(tx, pools.products(tx))
    with database.engine.begin() as connection:
        connection.execute(sa.text("ANALYZE TABLE stored, people, accounts")).all()


def _middle(work: Callable[[], Any]) -> float:
    found = []
    for _ in range(5):
        begin = time.perf_counter()
        work()
        found.append(time.perf_counter() - begin)
    return sorted(found)[2]


def _screens(database: Database, clients: int, persons: int) -> list[Measure]:
    def rows(account: str, order: Any, show: Any = "all") -> Callable[[], Any]:
        return lambda: database.snapshot(listing.holders, OPERATOR, "DISK", account, "people", show, order, "", 0, 100)

    database.run(personal_storage.set_limit, OPERATOR, "C7", None, "DISK", "4")
    asked = {
        "accounts below the operator": lambda: database.snapshot(
            listing.children, OPERATOR, "DISK", "MSP", "all", "size", 0, 100
        ),
        "one client's departments": lambda: database.snapshot(
            listing.children, OPERATOR, "DISK", "C5", "all", "size", 0, 100
        ),
        "people, the largest first": rows("MSP", "size"),
        "people, what grew most": rows("MSP", "month"),
        "people over their limit": rows("MSP", "size", "over"),
        "one client's people": rows("C5", "size"),
        "sums of everything": lambda: database.snapshot(listing.total, OPERATOR, "DISK", "MSP"),
        "a limit's preview over everybody": lambda: database.snapshot(
            limits.preview, OPERATOR, "DISK", "MSP", None, 9000
        ),
    }
    said = f"{clients * (EACH + 1):,} accounts, {persons:,} people"
    return [Measure(f"storage: {what}", f"{_middle(work):.3f} s", said) for what, work in asked.items()]


def _reports(database: Database) -> Measure:
    key = database.run(devices.make_key, COMMAND_LINE, "MSP", "DISK", "bench")[1]
    chance, now = random.Random(3), database.clock.now()
    sizes = {(b, n): chance.randrange(10**9) for b in range(BATCHES) for n in range(BATCH)}

    def report(at: datetime) -> float:
        batches = [
            [
                Report(Where(f"C{n % 40}-{n % EACH}", person=f"r.{b}.{n}", part=f"p{n % PARTS}"), at, sizes[b, n])
                for n in range(BATCH)
            ]
            for b in range(BATCHES)
        ]
        begin = time.perf_counter()
        for each in batches:
            database.run(systems.report, key, each)
        return time.perf_counter() - begin

    at_first, ours, theirs = report(now - timedelta(days=ROUNDS)), list[float](), list[float]()
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "rows.csv"
        Path(folder).chmod(0o755)
        with database.engine.begin() as connection:
            connection.execute(
                sa.text(
                    "CREATE TABLE bare (b INT, n INT, category VARCHAR(200), at DATETIME(6), bytes BIGINT, "
                    "PRIMARY KEY (b, n, category, at), INDEX (b, at)) ENGINE=InnoDB"
                )
            )
        for day in reversed(range(ROUNDS)):
            # Each day one in twenty has changed.
            sizes |= {each: size + 10**6 for each, size in sizes.items() if chance.random() < 0.05}
            ours.append(report(now - timedelta(days=day)))
            lines = [
                f"{b},{n},home/r.{b}.{n}/p{n % PARTS},{now - timedelta(days=day):%Y-%m-%d %H:%M:%S},{size}"
                for (b, n), size in sizes.items()
            ]
            path.write_text("\n".join(lines) + "\n")
            with database.engine.begin() as connection:
                begin = time.perf_counter()
                connection.execute(sa.text(f"LOAD DATA INFILE '{path}' INTO TABLE bare FIELDS TERMINATED BY ','"))
            theirs.append(time.perf_counter() - begin)
    count = BATCHES * BATCH
    return Measure(
        f"storage: reports of {BATCH:,}, 5 % changed ({count / at_first:,.0f} rows/s at first)",
        f"{count / median(ours):,.0f} rows/s",
        "LOAD DATA of the same rows",
        f"{count / median(theirs):,.0f} rows/s",
        f"{median(theirs) / median(ours):.2f} of the rate",
    )


def _bare_post(url: str) -> FastAPI:
    """An application whose one route writes one row."""
    app, database = FastAPI(), Database(url)

    @app.post("/bare", status_code=204)
    def bare(body: BytesAsked) -> None:
        with database.engine.begin() as connection:
            _put_row(connection, body)

    return app


def _put_row(connection: sa.Connection, body: BytesAsked) -> None:
    row = {"at": datetime.now(UTC).replace(tzinfo=None), "bytes": body.bytes}
    connection.execute(sa.text("INSERT INTO bare VALUES (99, 1, 'x', :at, :bytes)"), row)


def _product(url: str) -> FastAPI:
    """The product, with one more route that writes one row: once for its key, as all that change something."""
    app, routes = create_app(Database(url), jobs_beside=True), Router("/api/public/bare", "bench", is_open=True)

    @routes.post("", status_code=204)
    def bare(body: BytesAsked, db: Db) -> None:
        db.run(lambda tx: _put_row(tx.connection, body))

    app.router.routes[:0] = routes.routes  # found at once, as those of the product are
    return app


def _writes(database: Database) -> list[Measure]:
    key = database.run(devices.make_key, COMMAND_LINE, "C3", "DISK", "bench")[1]
    url = database.engine.url.render_as_string(hide_password=False)
    database.engine.dispose()
    with served(lambda: _product(url)) as port, served(lambda: _bare_post(url)) as bare_port:
        product, alone = Caller(port), Caller(bare_port)
        product.headers["Authorization"] = f"Bearer {key}"

        tokens: list[str] = []

        def ask(
            path: str, who: Caller = product, begin: str = "/api/public/storage/", is_own: bool = False
        ) -> Callable[[int], bytes]:
            def one(number: int) -> bytes:
                at = number % EACH
                where = {"person": f"person.{3 * EACH + at}"} if is_own else {"category": "media"}
                return who.post(begin + path, {"account": f"C3-{at}", "bytes": 1_000_000, **where})

            return one

        def reserve(is_own: bool) -> Callable[[int], None]:
            holds = ask("reserve", is_own=is_own)
            return lambda number: tokens.append(json.loads(holds(number))["token"])

        def commit(number: int) -> None:
            product.post("/api/public/storage/commit", {"token": tokens.pop()})

        def add_up(number: int) -> None:  # as the server's jobs do all the time
            while number % EACH == 0 and database.run_repeatable(assignments.add_up_use):
                pass

        asked: dict[str, Callable[[int], Any]] = {}
        for said, is_own in (("", False), ("of somebody's own, ", True)):
            asked |= {
                f"{said}answered": ask("may-write", is_own=is_own),
                f"{said}held": reserve(is_own),
                f"{said}held before, and recorded": commit,
                f"{said}counted and recorded": ask("write", is_own=is_own),
            }
        works = ask("bare", alone, "/"), ask("bare", begin="/api/public/"), add_up, *asked.values()
        for number in range(EACH):
            for work in works:
                work(number)
        bare, same, _, *ours = alternating(*works, times=WRITES)
    return [
        Measure(
            f"storage: a write asked for, {what}, by HTTP",
            f"{1 / mine:,.0f}/s",
            against,
            f"{1 / other:,.0f}/s",
            f"{other / mine:.2f} of the rate",
        )
        for what, mine in zip(asked, ours, strict=True)
        for against, other in (("a POST that writes one row", bare), ("such a POST of the same server, by key", same))
    ]


def measure() -> list[Measure]:
    """Everything on one installation."""
    with server() as home:
        database = new_database(home)
        _fill(database, CLIENTS, PEOPLE)
        database.run(assignments.rebuild_stale)
        with database.transaction() as tx:
            assert len(accounts_service.known(tx).tree) == CLIENTS * (EACH + 1) + 1
        look_for_garbage_seldom()  # as the server does
        return [*_screens(database, CLIENTS, PEOPLE), _reports(database), *_writes(database)]


def main() -> None:
    """The screens alone, with ten people an account, at a size."""
    accounts = int(sys.argv[1]) if len(sys.argv) > 1 else 100_000
    with server() as home:
        database = new_database(home)
        _fill(database, accounts // (EACH + 1), accounts * 10)
        database.run(assignments.rebuild_stale)
        look_for_garbage_seldom()
        for row in _screens(database, accounts // (EACH + 1), accounts * 10):
            print(f"{row.what}: {row.ours} ({row.against})")


if __name__ == "__main__":
    main()
