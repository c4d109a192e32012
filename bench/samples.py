"""What is kept of samples taken every night, of which a few in a hundred say something new, against a row for each:
size, and a month's reading; and that both grow with what changes.

`python -m bench.samples ACCOUNTS NIGHTS` does it at a size, fifty series an account, as storage systems report: what
the first night and each later one keeps, and what it takes.
"""

from __future__ import annotations

import random
import sys
import time
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from typing import Any

import sqlalchemy as sa

from bench.admissions import source
from bench.home import new_database, server
from bench.measured import Measure
from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.assignments import service as assignments
from fair_ladle.app.assignments import storing
from fair_ladle.app.data_import import usecases as data_import
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import Database, Transaction
from fair_ladle.app.plumbing.processes import look_for_garbage_seldom
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.usage import service as usage
from fair_ladle.app.usage.tables import storage_samples
from fair_ladle.core.calendar import days_of

ACCOUNTS, EACH, NIGHTS, CHANGED, SELDOM = 200, 50, 62, 0.05, 0.01
AT_ONCE = 5000
KEPT, EVERY = ("storage_samples", "sample_rounds", "sample_sets"), ("storage_samples",)


def _tables(accounts: int) -> dict[str, Any]:
    return {
        "accounts": (
            "code,parent,kind,name,currency,time_zone",
            ["MSP,,operator,Msp,EUR,UTC", *(f"C{n},MSP,client,Client {n},," for n in range(accounts))],
        ),
        "products": ("code,name,measure,unit", ["DISK,Disk,storage,GB"]),
        "lots": ("reference,owner,product,quantity,first_day", ["PO,MSP,DISK,50000000,2026-01-01"]),
    }


def _nights(ids: list[int], product_id: int, first: date, nights: int, changed: float) -> Iterator[list[Any]]:
    chance = random.Random(4)
    size = {(account, n): chance.randrange(10**10) for account in ids for n in range(EACH)}
    for night in range(nights):
        at = datetime.combine(first + timedelta(days=night), datetime.min.time(), UTC) + timedelta(hours=2)
        for key in size:
            if chance.random() < changed:
                size[key] += 10**6
        yield [
            {"product_id": product_id, "account_id": account, "category": f"home/p{n}", "at": at, "bytes": bytes_}
            for (account, n), bytes_ in size.items()
        ]


def _size(tx: Transaction, tables: tuple[str, ...]) -> tuple[int, int]:
    tx.connection.execute(sa.text(f"OPTIMIZE TABLE {', '.join(tables)}")).all()
    wanted = sa.text(
        "SELECT SUM(data_length + index_length), SUM(table_rows) FROM information_schema.tables "
        "WHERE table_schema = DATABASE() AND table_name IN :names"
    ).bindparams(sa.bindparam("names", expanding=True))
    found = tx.connection.execute(wanted, {"names": tables}).one()
    return int(found[0]), int(found[1])


def _month(database: Database, until: date) -> float:
    def read(tx: Transaction) -> None:
        days = days_of(until - timedelta(days=30), until, accounts_service.zone(tx))
        usage.own_by_day(tx, accounts_service.known(tx), pools_service.product(tx, "DISK"), days)

    database.snapshot(read)
    begin = time.perf_counter()
    database.snapshot(read)
    return time.perf_counter() - begin


@dataclass(frozen=True)
class _Kept:
    size: int
    rows: int
    took: float
    month: float


def _begun(home: Any, accounts: int) -> tuple[Database, list[int], Product]:
    database = new_database(home)
    database.run(data_import.load, COMMAND_LINE, source(_tables(accounts)))
    with database.transaction() as tx:
        ids = [each for code, each in accounts_service.ids_by_code(tx).items() if code != "MSP"]
        return database, ids, pools_service.product(tx, "DISK")


def _comes(database: Database, product: Product, night: datetime) -> None:
    """It is an hour later than the night's samples were taken, and the day's job has been through."""
    database.clock.set_to(night + timedelta(hours=1))
    database.run(assignments.rebuild_stale)
    database.run_repeatable(usage.age_stored, product)


def _taken(home: Any, changed: float, every: bool = False) -> _Kept:
    database, ids, product = _begun(home, ACCOUNTS)
    today = datetime.now(UTC).date()
    took = 0.0
    for rows in _nights(ids, product.id, today - timedelta(days=NIGHTS), NIGHTS, changed):
        _comes(database, product, rows[0]["at"])
        begin = time.perf_counter()
        if every:
            with database.engine.begin() as connection:
                connection.execute(sa.insert(storage_samples), rows)
        else:
            database.run(usage.record_samples, rows)
        took += time.perf_counter() - begin
    with database.transaction() as tx:
        size, count = _size(tx, EVERY if every else KEPT)
    return _Kept(size, count, took, _month(database, today - timedelta(days=2)))


def measure() -> list[Measure]:
    """Each in a database of its own."""
    with server() as home:
        ours, seldom, theirs = _taken(home, CHANGED), _taken(home, SELDOM), _taken(home, CHANGED, every=True)
    said = f"samples: {ACCOUNTS * EACH:,} series, {NIGHTS} nights, {CHANGED:.0%} changed"
    return [
        *_beside(said, ours, "a row for each", theirs),
        *_beside(said, ours, f"{SELDOM:.0%} changed", seldom),
    ]


def _beside(said: str, ours: _Kept, against: str, other: _Kept) -> Iterator[Measure]:
    def row(what: str, figure: str, name: str, by: float = 1) -> Measure:
        one, two = getattr(ours, name), getattr(other, name)
        return Measure(what, figure.format(one / by), against, figure.format(two / by), f"{one / two:.2f}")

    yield row(said, "{:.1f} MB", "size", 2**20)
    yield row("rows", "{:,.0f}", "rows")
    yield row("taking them in", "{:.1f} s", "took")
    yield row("a month's reading", "{:.3f} s", "month")


def main() -> None:
    """Night by night, at a size."""
    accounts, nights = (*(int(each) for each in sys.argv[1:]), *(2_000, 4)[len(sys.argv) - 1 :])
    with server() as home:
        database, ids, product = _begun(home, accounts)
        database.run(assignments.rebuild_stale)
        look_for_garbage_seldom()
        before, today = 0, datetime.now(UTC).date()
        for number, rows in enumerate(_nights(ids, product.id, today - timedelta(days=nights), nights, CHANGED)):
            _comes(database, product, rows[0]["at"])
            begin = time.perf_counter()
            for start in range(0, len(rows), AT_ONCE):
                database.run(storing.report_sizes, product, rows[start : start + AT_ONCE])
            took = time.perf_counter() - begin
            with database.transaction() as tx:
                size, count = _size(tx, KEPT)
            print(
                f"night {number + 1}: {len(rows):,} series, {took:.0f} s, {len(rows) / took:,.0f} a second; "
                f"{(size - before) / 2**20:.1f} MB more, {count:,} rows in all; "
                f"a month read in {_month(database, today - timedelta(days=1)):.2f} s",
                flush=True,
            )
            before = size


if __name__ == "__main__":
    main()
