"""A month that is kept, corrected: what it costs when a tenth of a percent of the samples come late, against working
the month out whole.

`python -m bench.correction [ACCOUNTS]` takes the installation of `bench.closing`; `python -m bench correction` a small
one.
"""

from __future__ import annotations

import random
import tempfile
import time
from collections.abc import Callable
from datetime import UTC, date, timedelta
from pathlib import Path
from typing import Any

import sqlalchemy as sa

from bench.closing import PRODUCTS, intake, large, month_before_this
from bench.home import new_database, server
from bench.measured import Measure
from fair_ladle.app.data_import import usecases as data_import
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import Database, Transaction
from fair_ladle.app.plumbing.processes import look_for_garbage_seldom, take_short_turns
from fair_ladle.app.pools import service as pools
from fair_ladle.app.pools.service import Product
from fair_ladle.app.statements import totals
from fair_ladle.app.usage import service as usage
from fair_ladle.connectors.sheets_in import read_source
from fair_ladle.core.calendar import month_of

SMALL, ONE_OF = 2_000, 1_000
LATE = timedelta(minutes=7, seconds=7)
"""After another sample; those of a former run are told by their seconds."""
_OF_MONTH = """
SELECT s.product_id, s.account_id, s.category, s.at, s.bytes FROM storage_samples s JOIN accounts a
    ON a.id = s.account_id WHERE s.at >= :begin AND s.at < :end AND a.path LIKE CONCAT(
    (SELECT path FROM accounts WHERE code = :top), '%') AND SECOND(s.at) <> :late
    ORDER BY s.account_id, s.product_id, s.at
"""
Sample = dict[str, Any]


def _samples(tx: Transaction, first: date, last: date, top: str) -> list[Sample]:
    """The samples of a branch (by the code of its top) in a month, by account."""
    wanted = {"begin": first, "end": last + timedelta(days=1), "top": top, "late": LATE.seconds % 60}
    return [dict(row._mapping) for row in tx.connection.execute(sa.text(_OF_MONTH), wanted)]


def _some(samples: list[Sample], count: int) -> list[Sample]:
    return random.Random(5).sample(samples, min(count, len(samples)))


def _of_some_accounts(samples: list[Sample], count: int) -> list[Sample]:
    """All samples of some accounts."""
    accounts = sorted({each["account_id"] for each in samples})
    some = set(random.Random(5).sample(accounts, max(1, len(accounts) * count // len(samples))))
    return [each for each in samples if each["account_id"] in some]


def _late(samples: list[Sample]) -> list[Sample]:
    """Samples, each as if it came late and differed; also from those of a former run."""
    ats, more = [each["at"].replace(tzinfo=UTC) + LATE for each in samples], 10**9 + time.time_ns() % 10**8
    return [each | {"at": at, "bytes": each["bytes"] + more} for each, at in zip(samples, ats, strict=True)]


WAYS: list[tuple[str, str, Callable[[list[Sample], int], list[Sample]]]] = [
    ("of one client", "C0", _some),
    ("of accounts anywhere, all days", "MSP", _of_some_accounts),
    ("anywhere", "MSP", _some),
]


def _seconds(database: Database, products: list[Product], first: date, last: date) -> float:
    begin = time.perf_counter()
    for each in products:
        totals.keep_again(database, each, first, last)
    return time.perf_counter() - begin


def compared(database: Database, accounts: int) -> list[Measure]:
    """What late samples cost in a row of ways to lie: everywhere, in one client's branch."""
    look_for_garbage_seldom()  # as the process of the jobs does
    take_short_turns()
    first = month_before_this()
    last = month_of(f"{first:%Y-%m}")[1]
    with database.transaction() as tx:
        products = pools.products(tx)
        tx.connection.execute(sa.text("DELETE FROM kept_months"))
    whole, found = _seconds(database, products, first, last), []
    what = f"a month of {accounts:,} accounts, {PRODUCTS} products, corrected:"
    for where, top, chosen in WAYS:
        with database.transaction() as tx:
            count = len(_samples(tx, first, last, "MSP"))
            rows = _late(chosen(_samples(tx, first, last, top), count // ONE_OF))
        database.run(usage.record_samples, rows)
        with database.transaction() as tx:
            stale = [each for each, begin, _ in totals.outdated(tx) if begin == first]
        taken = _seconds(database, stale, first, last)
        over = len({each["account_id"] for each in rows})
        said = f"{what} {len(rows):,} of {count:,} samples, {where} ({over:,} accounts)"
        found.append(Measure(said, f"{taken:.2f} s", "worked out whole", f"{whole:.2f} s", f"{taken / whole:.3f}"))
    with database.transaction() as tx:
        found.append(Measure("figures that differ from the facts", str(len(totals.differences(tx)))))
    return found


def measure() -> list[Measure]:
    """A small installation."""
    with server() as home, tempfile.TemporaryDirectory() as folder:
        database = new_database(home)
        database.run(data_import.load, COMMAND_LINE, read_source(intake(Path(folder), SMALL)))
        return compared(database, SMALL)


if __name__ == "__main__":
    large(compared)
