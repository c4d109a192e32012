"""Closing a month, against the same sums written by hand in polars, which writes its statements to tables of the same
form: seconds, memory, and whether they come to the same.

`python -m bench.closing [ACCOUNTS]` makes an installation of that size under `FAIR_LADLE_BENCH` (kept for the next
time): 20 products, ten people an account, a client for every fifth. `python -m bench closing` takes a small one.
"""

from __future__ import annotations

import hashlib
import json
import multiprocessing
import os
import resource
import sys
import tempfile
import time
import zlib
from collections.abc import Callable
from datetime import UTC, date, datetime
from pathlib import Path
from typing import Any

import polars as pl
import sqlalchemy as sa
from rich.console import Console
from rich.table import Table

from bench.home import new_database, server
from bench.http import _program
from bench.installation import Size, write
from bench.measured import Measure
from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.data_import import usecases as data_import
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.own_server import OwnServer
from fair_ladle.app.plumbing.processes import look_for_garbage_seldom, take_short_turns
from fair_ladle.app.plumbing.schema import migrate
from fair_ladle.app.statements import closing
from fair_ladle.connectors.sheets_in import read_source
from fair_ladle.core.calendar import Day, days_of, month_before, month_of

OPERATOR = Actor("bench", "", "MSP")
PRODUCTS, SMALL = 20, 2_000
FREE_UNTIL, PRICES, OVERAGE = 50, (40, 35), 90  # prices in tenths
TABLES = ("closed_statements", "closed_lines")
MICRO = 10**6
TURNS = 2
"""Each goes so often, in turns: the better one counts."""


def month_before_this() -> date:
    """In its days the samples lie."""
    return month_before(datetime.now(UTC).date().replace(day=1))


def intake(folder: Path, accounts: int) -> Path:
    made = folder / f"closing-{accounts}"
    if not made.exists():
        today = datetime.now(UTC).replace(day=1, hour=0, minute=0, second=0, microsecond=0)
        write(made, Size(accounts, accounts * 10, accounts // 50, products=PRODUCTS), today)
    return made


def _apart(work: Callable[[], Any]) -> tuple[Any, float]:
    """What work comes to in a process of its own, and the most memory it and one that it began had, in MB."""
    receive, send = multiprocessing.Pipe(duplex=False)

    def there() -> None:
        found = work()
        mine, beside = (resource.getrusage(of).ru_maxrss for of in (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN))
        send.send((found, (mine + beside) / 1024))

    process = multiprocessing.get_context("fork").Process(target=there)
    process.start()
    found: tuple[Any, float] = receive.recv()
    process.join()
    return found


def _ours(database: Database, first: date) -> tuple[float, float]:
    """Seconds until a month is calculated, and until it is closed."""
    look_for_garbage_seldom()  # as the process of the jobs does
    take_short_turns()
    begin = time.perf_counter()
    prepared = database.snapshot(closing.prepare, OPERATOR, "MSP", f"{first:%Y-%m}")
    calculated = time.perf_counter() - begin
    database.run(closing.close, OPERATOR, prepared, "as always")
    return calculated, time.perf_counter() - begin


class _ByHand:
    """The operator's statements of a month, of what this bench's installations have: seats and storage, `held` and
    averaged, priced in two steps with a price beyond the cap, no charges and no tax."""

    def __init__(self, database: Database, folder: Path, first: date):
        self.database, self.folder, self.first = database, folder, first
        with database.transaction() as tx:
            zone = accounts_service.zone(tx)
        self.days: list[Day] = days_of(first, month_of(f"{first:%Y-%m}")[1], zone)
        self.names = [f"d{n}" for n in range(len(self.days))]
        self.seconds = sum(day.seconds for day in self.days)

    def _read(self, name: str, query: str, **types: Any) -> pl.DataFrame:
        path = self.folder / f"{name}.tsv"
        path.unlink(missing_ok=True)
        with self.database.engine.begin() as connection:
            connection.execute(sa.text(f"{query} INTO OUTFILE '{path}'"))
        return pl.read_csv(path, separator="\t", has_header=False, null_values="\\N", schema=types)

    def _tree(self) -> pl.DataFrame:
        found = self._read(
            "accounts",
            "SELECT a.id, a.code, a.path, p.parent_id FROM accounts a JOIN account_parents p ON p.account_id = a.id",
            id=pl.Int64,
            code=pl.String,
            path=pl.String,
            parent=pl.Int64,
        )
        return found.with_columns(
            depth=pl.col("path").str.len_bytes() // pl.col("path").str.len_bytes().min(),
            place=pl.col("path").rank("ordinal"),
        )

    def _own(self, product: int, measure: str) -> pl.DataFrame:
        begin, end = self.days[0].start, self.days[-1].end
        if measure == "storage":
            rows = self._read(
                "samples",
                "SELECT account_id, CRC32(category), TIMESTAMPDIFF(SECOND, '1970-01-01', at), bytes "
                f"FROM storage_samples WHERE product_id = {product} ORDER BY account_id, category, at",
                account=pl.Int64,
                category=pl.Int64,
                begins=pl.Int64,
                bytes=pl.Int64,
            )
            until = pl.col("begins").shift(-1).over("account", "category").fill_null(2**60)
            rows = rows.with_columns(ends=until)
            of_day = [
                ((pl.col("bytes") // MICRO) * self._part(day)).sum().alias(name)
                for name, day in zip(self.names, self.days, strict=True)
            ]
            rest = [
                ((pl.col("bytes") % MICRO) * self._part(day)).sum().alias(f"r{name}")
                for name, day in zip(self.names, self.days, strict=True)
            ]
            sums = rows.group_by("account").agg(*of_day, *rest)
            rounded = []
            for name, day in zip(self.names, self.days, strict=True):
                whole = pl.col(name) + pl.col(f"r{name}") // MICRO
                halves = 2 * whole + day.seconds + 2 * (pl.col(f"r{name}") % MICRO) // MICRO
                rounded.append((halves // (2 * day.seconds) * day.seconds).alias(name))
            return sums.select("account", *rounded)
        rows = self._read(
            "assignments",
            "SELECT account_id, TIMESTAMPDIFF(SECOND, '1970-01-01', begins), "
            f"IFNULL(TIMESTAMPDIFF(SECOND, '1970-01-01', ends), {2**60}) FROM assignments WHERE product_id = {product} "
            f"AND begins < FROM_UNIXTIME({end}) AND (ends IS NULL OR ends > FROM_UNIXTIME({begin}))",
            account=pl.Int64,
            begins=pl.Int64,
            ends=pl.Int64,
        )
        parts = [self._part(day).sum().alias(name) for name, day in zip(self.names, self.days, strict=True)]
        return rows.group_by("account").agg(*parts)

    @staticmethod
    def _part(day: Day) -> pl.Expr:
        """Seconds of a day from ``begins`` to ``ends``."""
        last, start = pl.min_horizontal("ends", pl.lit(day.end)), pl.max_horizontal("begins", pl.lit(day.start))
        return (last - start).clip(lower_bound=0)

    def _settled(self, tree: pl.DataFrame, product: int, measure: str) -> pl.DataFrame:
        """Every account of the operator's pool: its own use, that of its branch, load and held, by day (o, u, l, h)."""
        owners = self._read("owners", f"SELECT owner_id FROM pools WHERE product_id = {product}", id=pl.Int64)["id"]
        inside = tree.filter(pl.col("depth") == 1)
        levels = [inside]
        for depth in range(2, int(tree["depth"].max()) + 1):  # type: ignore[arg-type]
            here = tree.filter((pl.col("depth") == depth) & ~pl.col("id").is_in(owners.implode()))
            levels.append(here.filter(pl.col("parent").is_in(levels[-1]["id"].implode())))
        last = month_of(f"{self.first:%Y-%m}")[1]
        terms = self._read(
            "terms",
            f"SELECT account_id, reserve, cap, at_cap = 'overage' FROM allocations WHERE product_id = {product} "
            f"AND first_day <= '{self.first}' AND (last_day IS NULL OR last_day >= '{last}')",
            id=pl.Int64,
            reserve=pl.Int64,
            cap=pl.Int64,
            overage=pl.Int64,
        )
        own = self._own(product, measure).rename({name: f"o{name}" for name in self.names} | {"account": "id"})
        below: pl.DataFrame | None = None
        found = []
        for level in reversed(levels):
            rows = level.join(own, on="id", how="left").join(terms.with_columns(present=True), on="id", how="left")
            if below is not None:
                rows = rows.join(below, on="id", how="left")
            else:
                rows = rows.with_columns(**{f"{kind}{name}": pl.lit(0) for name in self.names for kind in ("bu", "bh")})
            # Without a cap, or with another policy, nothing is beyond it.
            rows = rows.with_columns(pl.all().exclude("cap").fill_null(0))
            rows = rows.with_columns(
                *((pl.col(f"o{n}") + pl.col(f"bu{n}")).alias(f"u{n}") for n in self.names),
                *((pl.col(f"o{n}") + pl.col(f"bh{n}")).alias(f"l{n}") for n in self.names),
            ).drop(*(f"b{kind}{n}" for kind in "uh" for n in self.names))
            rows = rows.with_columns(
                pl.max_horizontal(pl.col(f"l{n}"), pl.col("reserve") * day.seconds).alias(f"h{n}")
                for n, day in zip(self.names, self.days, strict=True)
            )
            found.append(rows)
            sums = [pl.col(f"{kind}{n}").sum().alias(f"b{kind}{n}") for kind in "uh" for n in self.names]
            below = rows.group_by("parent").agg(*sums).rename({"parent": "id"})
        return pl.concat(reversed(found), how="diagonal")

    def _lines(self, rows: pl.DataFrame, per_unit: int) -> pl.DataFrame:
        """Each buyer's amount (cents) and quantity (millionths of a unit)."""
        buyers = rows.filter(pl.col("depth") == 2)
        beyond, some = [], pl.col("present").fill_null(False).cast(pl.Boolean)
        for n, day in zip(self.names, self.days, strict=True):
            over = (pl.col(f"l{n}") - pl.col("cap") * day.seconds).clip(lower_bound=0)
            beyond.append(pl.when(pl.col("overage") == 1).then(over).otherwise(0).fill_null(0))
            some = some | (pl.col(f"h{n}") > 0)

        def micro(grains: pl.Expr) -> pl.Expr:
            whole = self.seconds * per_unit
            return (2 * grains // whole * MICRO + (2 * grains % whole * MICRO) // whole + 1) // 2

        counted = [(pl.col(f"h{n}") - over).clip(lower_bound=0) for n, over in zip(self.names, beyond, strict=True)]
        found = buyers.with_columns(
            quantity=micro(pl.sum_horizontal(counted)), over=micro(pl.sum_horizontal(beyond)), some=some
        )
        step, (low, high) = FREE_UNTIL * MICRO, PRICES
        tenths = (
            pl.min_horizontal("quantity", pl.lit(step)) * low
            + (pl.col("quantity") - step).clip(lower_bound=0) * high
            + pl.col("over") * OVERAGE
        )
        cent = MICRO // 10
        return found.filter("some").with_columns(amount=(2 * tenths + cent) // (2 * cent))

    def _shares(self, rows: pl.DataFrame, lines: pl.DataFrame) -> pl.DataFrame:
        """Every account's part (cents) of its buyer's line, by largest remainder."""
        length = int(rows["path"].str.len_bytes().to_numpy().min()) * 2
        top = pl.col("path").str.slice(0, length)
        weights = [pl.col(f"o{n}") + pl.col(f"h{n}") - pl.col(f"l{n}") for n in self.names]
        mine = rows.filter(pl.col("depth") > 1).select("code", "place", weight=pl.sum_horizontal(weights), top=top)
        whole = lines.select("amount", buyer="id", top="path")
        mine = mine.join(whole, on="top").with_columns(every=pl.col("weight").sum().over("buyer"))
        mine = mine.filter(pl.col("every") > 0)
        mine = mine.with_columns(
            part=pl.col("amount") * pl.col("weight") // pl.col("every"),
            rest=pl.col("amount") * pl.col("weight") % pl.col("every"),
        )
        mine = mine.sort("buyer", -pl.col("rest"), -pl.col("weight"), "place").with_columns(
            nth=pl.int_range(pl.len()).over("buyer"), left=(pl.col("amount") - pl.col("part").sum().over("buyer"))
        )
        part = pl.col("part") + (pl.col("nth") < pl.col("left")).cast(pl.Int64)
        return mine.with_columns(part=part).sort("place").filter(pl.col("weight") > 0)

    def work(self) -> tuple[float, float]:
        """Seconds until the month is calculated, and until it is written."""
        begin = time.perf_counter()
        tree = self._tree()
        products = self._read(
            "products", "SELECT id, code, measure FROM products", id=pl.Int64, code=pl.String, measure=pl.String
        )
        kept = []
        for product, code, measure in products.iter_rows():
            per_unit = 1000 if measure == "storage" else 1
            rows = self._settled(tree, product, measure)
            lines = self._lines(rows, per_unit)
            parts = self._shares(rows, lines)
            of_buyer = parts.group_by("buyer", maintain_order=True).agg(
                shares=pl.struct("code", pl.col("weight").alias("quantity"), pl.col("part").alias("amount"))
            )
            day = [
                pl.struct(
                    used=pl.col(f"u{n}"), load=pl.col(f"l{n}"), held=pl.col(f"h{n}"), reserve="reserve", cap="cap"
                )
                for n in self.names
            ]
            said = lines.select(
                "quantity", "amount", "over", buyer="id", product=pl.lit(code), days=pl.concat_list(day)
            )
            kept.append(said.join(of_buyer, on="buyer", how="left"))
        whole = pl.concat(kept)
        calculated = time.perf_counter() - begin
        self._write(whole)
        return calculated, time.perf_counter() - begin

    def _write(self, whole: pl.DataFrame) -> None:
        statements, lines = [], []
        for number, ((buyer,), mine) in enumerate(whole.group_by("buyer", maintain_order=True), start=1):
            document = json.dumps(mine.to_dicts()).encode()
            total = int(mine["amount"].sum())
            statements.append(
                {
                    "id": number,
                    "seller_id": 1,
                    "buyer_id": buyer,
                    "first_day": self.first,
                    "currency": "EUR",
                    "year": self.first.year,
                    "number": number,
                    "tax": "normal",
                    "net": f"{total / 100:.2f}",
                    "total": f"{total / 100:.2f}",
                    "document": zlib.compress(document, 4),
                    "hash": hashlib.sha256(document).hexdigest(),
                }
            )
            lines += [
                {
                    "statement_id": number,
                    "place": place,
                    "kind": "usage",
                    "reference": product,
                    "amount": f"{amount / 100:.2f}",
                    "taxed": "{}",
                }
                for place, (product, amount) in enumerate(zip(mine["product"], mine["amount"], strict=True))
            ]
        with self.database.engine.begin() as connection:
            for name, rows in zip(TABLES, (statements, lines), strict=True):
                columns = list(rows[0])
                insert = f"INSERT INTO hand_{name} ({', '.join(f'`{each}`' for each in columns)}) VALUES "
                for start in range(0, len(rows), 1000):
                    wanted = sa.text(insert + f"({', '.join(f':{each}' for each in columns)})")
                    connection.execute(wanted, rows[start : start + 1000])


def _differences(database: Database) -> int:
    """Statements that do not come to the same."""
    with database.engine.begin() as connection:
        found = connection.scalar(
            sa.text(
                "SELECT COUNT(*) FROM (SELECT buyer_id, total FROM closed_statements UNION ALL "
                "SELECT buyer_id, total FROM hand_closed_statements) each_one "
                "GROUP BY buyer_id, total HAVING COUNT(*) <> 2 LIMIT 1"
            )
        )
        return int(found or 0)


def _empty(database: Database) -> None:
    """Nothing is closed any more, by whomever; what is made now is another process's."""
    with database.engine.begin() as connection:
        for name in TABLES:
            connection.execute(sa.text(f"DROP TABLE IF EXISTS hand_{name}"))
            connection.execute(sa.text(f"CREATE TABLE hand_{name} LIKE {name}"))
        for name in ("closed_lines", "closed_statements", "closed_periods", "statement_numbers"):
            connection.execute(sa.text(f"DELETE FROM {name}"))
    database.engine.dispose()


def _compared(database: Database, accounts: int) -> list[Measure]:
    first = month_before_this()
    by_turns: tuple[list[Any], list[Any]] = [], []
    with tempfile.TemporaryDirectory() as folder:
        Path(folder).chmod(0o777)
        by_hand = _ByHand(database, Path(folder), first)
        for _ in range(TURNS):
            _empty(database)
            by_turns[0].append(_apart(by_hand.work))
            by_turns[1].append(_apart(lambda: _ours(database, first)))
    best = (min(turns, key=lambda found: float(found[0][1])) for turns in by_turns)
    ((their_calculation, theirs), their_memory), ((calculation, ours), memory) = best
    with database.engine.begin() as connection:
        count = connection.scalar(sa.text("SELECT COUNT(*) FROM closed_statements"))
    differ = _differences(database)
    said = f"closing: {count:,} statements of {accounts:,} accounts, {PRODUCTS} products"
    hand = "by hand in polars"
    return [
        Measure(said, f"{ours:.1f} s", hand, f"{theirs:.1f} s", f"{ours / theirs:.2f}"),
        Measure(
            "the calculation alone",
            f"{calculation:.1f} s",
            hand,
            f"{their_calculation:.1f} s",
            f"{calculation / their_calculation:.2f}",
        ),
        Measure("memory", f"{memory:,.0f} MB", hand, f"{their_memory:,.0f} MB", f"{memory / their_memory:.2f}"),
        Measure("totals that differ", str(differ)),
    ]


def measure() -> list[Measure]:
    """A small installation."""
    with server() as home, tempfile.TemporaryDirectory() as folder:
        database = new_database(home)
        database.run(data_import.load, COMMAND_LINE, read_source(intake(Path(folder), SMALL)))
        return _compared(database, SMALL)


def large(compared: Callable[[Database, int], list[Measure]]) -> None:
    """What is compared in an installation of the size that is asked for, kept for the next time."""
    accounts = int(sys.argv[1]) if len(sys.argv) > 1 else 20_000
    folder = Path(os.environ.get("FAIR_LADLE_BENCH") or tempfile.mkdtemp())
    home = folder / f"closing-home-{accounts}"
    home.mkdir(parents=True, exist_ok=True)
    if not (home / "made").exists():
        assert _program(home, "import", str(intake(folder, accounts))).wait() == 0
        (home / "made").touch()
    own = OwnServer(home)
    own.ensure()
    try:
        table = Table("what", "ours", "against", "theirs", "ratio")
        database = Database(own.url())
        migrate(database.engine)
        for row in compared(database, accounts):
            table.add_row(row.what, row.ours, row.against, row.theirs, row.ratio)
        Console(width=150).print(table)
    finally:
        own.stop()


if __name__ == "__main__":
    large(_compared)
