"""What is kept of samples taken every night, of which one in twenty says something new, against a row for each: size,
and a month's reading."""

from __future__ import annotations

import random
import time
from datetime import UTC, date, datetime, timedelta
from typing import Any

import sqlalchemy as sa

from bench.admissions import source
from bench.home import new_database, server
from bench.measured import Measure
from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.data_import import usecases as data_import
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import Database, Transaction
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.usage import service as usage
from fair_ladle.app.usage.tables import storage_samples
from fair_ladle.core.calendar import Day, days_of

ACCOUNTS, EACH, DAYS, CHANGED = 200, 50, 62, 0.05
TABLES = {"KEPT": ("storage_samples", "sample_rounds", "sample_sets"), "ROWS": ("storage_samples",)}


def _nights(ids: list[int], product_id: int, first: date) -> list[list[dict[str, Any]]]:
    chance = random.Random(4)
    size = {(account, n): chance.randrange(10**10) for account in ids for n in range(EACH)}
    nights = []
    for day in range(DAYS):
        at = datetime.combine(first + timedelta(days=day), datetime.min.time(), UTC) + timedelta(hours=2)
        for key in size:
            if chance.random() < CHANGED:
                size[key] += 10**6
        nights.append(
            [
                {"product_id": product_id, "account_id": account, "category": f"home/p{n}", "at": at, "bytes": bytes_}
                for (account, n), bytes_ in size.items()
            ]
        )
    return nights


def _size(tx: Transaction, tables: tuple[str, ...]) -> tuple[int, int]:
    tx.connection.execute(sa.text(f"OPTIMIZE TABLE {', '.join(tables)}")).all()
    wanted = sa.text(
        "SELECT SUM(data_length + index_length), SUM(table_rows) FROM information_schema.tables "
        "WHERE table_schema = DATABASE() AND table_name IN :names"
    ).bindparams(sa.bindparam("names", expanding=True))
    found = tx.connection.execute(wanted, {"names": tables}).one()
    return int(found[0]), int(found[1])


def _month(database: Database, days: list[Day]) -> float:
    def read(tx: Transaction) -> None:
        usage.own_by_day(tx, accounts_service.known(tx), pools_service.product(tx, "DISK"), days)

    database.snapshot(read)
    begin = time.perf_counter()
    database.snapshot(read)
    return time.perf_counter() - begin


def _measured(home: Any, tables: dict[str, Any]) -> list[Measure]:
    found = []
    for every in (False, True):
        database = new_database(home)
        database.run(data_import.load, COMMAND_LINE, source(tables))
        with database.transaction() as tx:
            ids = [each for code, each in accounts_service.ids_by_code(tx).items() if code != "MSP"]
            product, zone = pools_service.product(tx, "DISK"), accounts_service.zone(tx)
        today = datetime.now(UTC).date()
        nights = _nights(ids, product.id, today - timedelta(days=DAYS))
        begin = time.perf_counter()
        for rows in nights:
            if every:
                with database.engine.begin() as connection:
                    connection.execute(sa.insert(storage_samples), rows)
            else:
                database.run(usage.record_samples, rows)
        took = time.perf_counter() - begin
        days = days_of(today - timedelta(days=32), today - timedelta(days=2), zone)
        with database.transaction() as tx:
            size, count = _size(tx, TABLES["ROWS" if every else "KEPT"])
        found.append((size, count, took, _month(database, days)))
    (size, count, took, month), (their_size, their_count, theirs, their_month) = found
    said = f"samples: {ACCOUNTS * EACH:,} series, {DAYS} nights, {CHANGED:.0%} changed"
    each = "a row for each"
    return [
        Measure(said, f"{size / 2**20:.1f} MB", each, f"{their_size / 2**20:.1f} MB", f"{size / their_size:.2f}"),
        Measure("rows", f"{count:,}", each, f"{their_count:,}", f"{count / their_count:.2f}"),
        Measure("taking them in", f"{took:.1f} s", "bare inserts", f"{theirs:.1f} s", f"{took / theirs:.1f}"),
        Measure("a month's reading", f"{month:.3f} s", each, f"{their_month:.3f} s", f"{month / their_month:.2f}"),
    ]


def measure() -> list[Measure]:
    """Both ways, each in a database of its own."""
    tables = {
        "accounts": (
            "code,parent,kind,name,currency,time_zone",
            ["MSP,,operator,Msp,EUR,UTC", *(f"C{n},MSP,client,Client {n},," for n in range(ACCOUNTS))],
        ),
        "products": ("code,name,measure,unit", ["DISK,Disk,storage,GB"]),
        "lots": ("reference,owner,product,quantity,first_day", ["PO,MSP,DISK,5000000,2026-01-01"]),
    }
    with server() as home:
        return _measured(home, tables)
