"""Bringing in 1,000,000 assignments, and a month of readings and statements for 1,000 clients."""

from __future__ import annotations

import random
import time
from collections.abc import Iterator

from bench.admissions import source
from bench.home import new_database, server
from bench.measured import Measure, compared
from fair_ladle.app.data_import import usecases as data_import
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.statements.billing import BillingPeriod, parse_month
from fair_ladle.connectors.sheets_in import SheetTable, Source

CLIENTS, PRODUCTS, ASSIGNMENTS = 1000, 8, 1_000_000


def assignments(clients: int, products: int, count: int) -> Iterator[tuple[int, list[str]]]:
    """Rows of assignments spread over the departments and the year."""
    chance = random.Random(5)
    for number in range(count):
        client, department = chance.randrange(clients), chance.randrange(4)
        month = chance.randrange(1, 11)
        begins = f"2026-{month:02d}-{chance.randrange(1, 28):02d}T{chance.randrange(24):02d}:15:00+00:00"
        ends = f"2026-10-{chance.randrange(1, 28):02d}T08:00:00+00:00" if month < 10 and chance.random() < 0.3 else ""
        yield number + 2, [f"C{client}-{department}", f"P{number % products}", f"s{number}", begins, ends]


def intake_of(clients: int, products: int) -> Source:
    """Clients with four departments each, products with lots, allocations and graduated rates."""
    accounts = ["MSP,,operator,Msp,EUR,Europe/Lisbon"]
    allocations: list[str] = []
    for n in range(clients):
        accounts.append(f"C{n},MSP,client,Client {n},,")
        accounts += [f"C{n}-{d},C{n},sub-account,Department {d},," for d in range(4)]
        allocations += [f"C{n},P{p},20,400,overage,2026-01-01" for p in range(products)]
    return source(
        {
            "accounts": ("code,parent,kind,name,currency,time_zone", accounts),
            "products": ("code,name,measure,unit", [f"P{p},Product {p},device,device" for p in range(products)]),
            "lots": (
                "reference,owner,product,quantity,first_day,unit_cost",
                [f"PO-{p},MSP,P{p},500000,2026-01-01,2.5" for p in range(products)],
            ),
            "allocations": ("account,product,reserve,cap,at_cap,first_day", allocations),
            "rates": (
                "seller,buyer,product,first_day,basis,overage_price",
                [f"MSP,,P{p},2026-01-01,held,9" for p in range(products)],
            ),
            "rate_tiers": (
                "seller,buyer,product,first_day,from_quantity,unit_price",
                [f"MSP,,P{p},2026-01-01,{f},{4 - f / 50}" for p in range(products) for f in (0, 50)],
            ),
        }
    )


def _bare_insert(database: Database) -> float:
    """Seconds for as many rows of the same columns and keys, by the driver's own executemany, unchecked."""
    with database.engine.begin() as connection:
        connection.exec_driver_sql("CREATE TABLE bare LIKE assignments")
        rows = [(n % 5000, n % PRODUCTS, f"s{n}", "2026-01-01 08:15:00", None) for n in range(ASSIGNMENTS)]
        begin = time.perf_counter()
        for start in range(0, len(rows), 10_000):
            connection.exec_driver_sql(
                "INSERT INTO bare (account_id, product_id, subject, begins, ends) VALUES (%s, %s, %s, %s, %s)",
                rows[start : start + 10_000],
            )
        return time.perf_counter() - begin


def _bare_sum(database: Database) -> float:
    """Seconds for one aggregate over the same assignments: no days, no tree, no allocations."""
    begin = time.perf_counter()
    with database.engine.begin() as connection:
        connection.exec_driver_sql(
            "SELECT product_id, account_id, SUM(TIMESTAMPDIFF(SECOND, GREATEST(begins, '2026-10-01'), "
            "LEAST(COALESCE(ends, '2026-11-01'), '2026-11-01')))"
            " FROM assignments WHERE begins < '2026-11-01' AND (ends IS NULL OR ends > "
            "'2026-10-01') GROUP BY product_id, account_id"
        ).fetchall()
    return time.perf_counter() - begin


def measure() -> list[Measure]:
    """Times of the whole, from parsed text to commit; and from the database to every amount."""
    with server() as home:
        database = new_database(home)
        everything = intake_of(CLIENTS, PRODUCTS)
        everything.add(
            "assignments",
            SheetTable(
                "assignments",
                ["account", "product", "subject", "from", "to"],
                assignments(CLIENTS, PRODUCTS, ASSIGNMENTS),
            ),
        )
        begin = time.perf_counter()
        database.run(data_import.load, COMMAND_LINE, everything)
        loaded = time.perf_counter() - begin
        bare_load = _bare_insert(database)
        bare_sum = _bare_sum(database)
        begin = time.perf_counter()
        with database.transaction() as tx:
            period = BillingPeriod(tx, *parse_month("2026-10"))
        read = time.perf_counter() - begin
        statements = [period.statement(f"C{n}") for n in range(CLIENTS)]
        priced = time.perf_counter() - begin - read
        lines = sum(len(each.lines) for each in statements)
        database.engine.dispose()
    return [
        compared(f"import of {ASSIGNMENTS:,} assignments, checked", loaded, "inserting as many bare rows", bare_load),
        compared(
            f"a month's readings, {ASSIGNMENTS:,} assignments", read, "the month's seconds summed in SQL", bare_sum
        ),
        Measure(f"{CLIENTS:,} statements, {lines:,} lines with their shares", f"{priced:.1f} s"),
    ]
