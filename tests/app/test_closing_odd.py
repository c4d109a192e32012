"""Closing on odd intakes: whatever is learned later, what was charged and adjusted comes to what the facts say."""

from __future__ import annotations

import csv
import random
from collections import defaultdict
from collections.abc import Callable
from datetime import date, datetime
from decimal import Decimal
from pathlib import Path

import pytest

from fair_ladle.app.data_import import usecases as data_import
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.statements import closing, seller_months, working_out
from fair_ladle.app.statements import usecases as statements
from fair_ladle.app.statements.ledger import Ledger
from fair_ladle.app.statements.seller_months import is_closed, open_statements
from fair_ladle.connectors.sheets_in import read_source
from fair_ladle.core.statement_lines import Kind
from tests import odd_intake

AT = datetime.fromisoformat("2026-06-03T10:00:00+00:00")
MONTHS = ("2026-02", "2026-03", "2026-04")


def close_all(database: Database, sellers: list[str], month: str) -> int:
    """Close a month for every seller for whom nothing stands in the way, the upper ones first; what is looked at, and
    what is listed some buyers at a time, is what is closed."""
    closed = 0
    for seller in sellers:
        prepared = database.snapshot(closing.prepare, COMMAND_LINE, seller, month)
        seen = database.snapshot(closing.look, COMMAND_LINE, seller, month)
        assert (seen.findings, seen.totals(), seen.digest()) == (
            prepared.findings,
            prepared.totals(),
            prepared.digest(),
        )
        first = prepared.first
        if not database.snapshot(is_closed, seller, first):
            listed = database.snapshot(lambda tx, *of: list(open_statements(tx, *of)), seller, first)
            assert [(each.buyer, each.composed) for each in listed] == [
                (each.buyer, each.composed) for each in prepared.statements
            ]
        if not prepared.blocking:
            database.run(closing.close, COMMAND_LINE, prepared, "looked at")
            closed += 1
    return closed


@pytest.mark.parametrize(("seed", "accounts", "shape"), [(21, 25, "bushy"), (22, 12, "chain")])
def test_charged_and_adjusted_is_what_the_facts_say(
    new_database: Callable[[], Database],
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    caplog: pytest.LogCaptureFixture,
    seed: int,
    accounts: int,
    shape: str,
) -> None:
    monkeypatch.setattr(seller_months, "AT_ONCE", 2)
    database, chance = new_database(), random.Random(seed)
    database.clock.set_to(AT)
    maker = odd_intake.Maker(seed, accounts, shape, "Europe/Lisbon")
    maker.make()
    sellers = [code for code in maker.codes if code in maker.parents.values()]
    for name in ("rates", "rate_tiers"):  # one of them sells without a price
        maker.rows[name] = [row for row in maker.rows[name] if row[0] != sellers[1]]
    folder = maker.write(tmp_path / "odd")
    database.run(data_import.load, COMMAND_LINE, read_source(folder))
    assert sum(close_all(database, sellers, month) for month in MONTHS[:2]) > 2
    assert database.snapshot(statements.verify, COMMAND_LINE) == []
    # What comes late: other bytes, seats that were in use after all, and a lot that was forgotten.
    late = maker.write(tmp_path / "late")
    for name in ("storage", "assignments"):
        with (late / f"{name}.csv").open(newline="") as file:
            rows = list(csv.reader(file))
        few = chance.sample(rows[1:], 6)
        for number, row in enumerate(few):
            if name == "storage":
                row[4] = str(chance.randint(0, 9 * 10**9))
            else:
                row[2:5] = [
                    f"late-{number}",
                    "2026-02-27T09:00:00+00:00",
                    chance.choice(["", "2026-03-09T12:00:00+00:00"]),
                ]
        with (late / f"{name}.csv").open("w", newline="") as file:
            csv.writer(file).writerows([rows[0], *few])
    for each in late.iterdir():
        if each.stem not in ("storage", "assignments"):
            each.unlink()
    database.run(data_import.load, COMMAND_LINE, read_source(late))
    adjusted = balance(database, maker)
    assert adjusted > 0
    beside_comes_to_the_same(database, monkeypatch, caplog, sellers[0])
    close_all(database, sellers, MONTHS[2])
    assert balance(database, maker) > 0
    assert database.snapshot(statements.verify, COMMAND_LINE) == []


def beside_comes_to_the_same(
    database: Database, monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture, seller: str
) -> None:
    """A process beside takes part in working a month out where it sees the same facts, and only there."""
    alone = database.snapshot(closing.prepare, COMMAND_LINE, seller, MONTHS[2])
    with monkeypatch.context() as patched:
        patched.setattr(working_out, "is_large", lambda accounts: True)
        patched.setattr(working_out, "has_another_core", lambda: True)
        assert database.snapshot(closing.prepare, COMMAND_LINE, seller, MONTHS[2]) == alone
        assert "has ended" not in caplog.text, "it took part"
        patched.setattr(working_out, "_facts", lambda tx, first: "others")
        assert database.snapshot(closing.prepare, COMMAND_LINE, seller, MONTHS[2]) == alone
        assert "has ended" in caplog.text, "it did not"


def balance(database: Database, maker: odd_intake.Maker) -> int:
    """For every line of a closed month: charged and adjusted, in closed months and in the open one, it is what the month
    comes to by today's facts. How many adjustments there are."""
    adjusted = 0
    with database.transaction() as tx:
        for buyer in maker.codes[1:]:
            ledger = Ledger(tx, [buyer])
            seller = maker.parents[buyer]
            assert seller is not None
            closed = sorted(ledger.closed.get(seller, {}))
            come_to: dict[tuple[date, str, str, str], Decimal] = defaultdict(Decimal)
            for first in [*closed, *([opened] if (opened := ledger.first_open(seller)) else [])]:
                for each in ledger.of_seller(seller, buyer, first):
                    for kind, reference, by_percent in each.amounts():
                        amount = sum(by_percent.values(), Decimal(0))
                        if kind is Kind.ADJUSTMENT:
                            month, of, what = reference.split(":", 2)
                            come_to[date.fromisoformat(f"{month}-01"), each.currency, of, what] += amount
                            adjusted += 1
                        elif first in closed and kind in (Kind.USAGE, Kind.CHARGE):
                            come_to[first, each.currency, kind.value, reference] += amount
            facts: dict[tuple[date, str, str, str], Decimal] = {}
            for first in closed:
                period = ledger.period(first)
                for line in period.lines(buyer):
                    facts[first, line.currency, "usage", line.product.code] = line.charge.amount
            told = {key: amount for key, amount in come_to.items() if key[2] == "usage" and amount}
            assert told == {key: amount for key, amount in facts.items() if amount}, buyer
    return adjusted
