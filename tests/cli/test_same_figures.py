"""Every figure of the commands against a second calculation, on the real intake and on odd ones."""

from __future__ import annotations

import csv
import io
from collections import Counter
from collections.abc import Iterator
from datetime import UTC, date, datetime
from decimal import Decimal
from fractions import Fraction
from typing import Any

import pytest
from typer.testing import CliRunner

from fair_ladle.app.plumbing.database import Database
from fair_ladle.cli import commands
from tests import odd_intake
from tests.conftest import INTAKE, TIMES
from tests.reference import DECIMALS
from tests.reference_statements import Statements

CASES = [
    ("the demo's intake", None, 0, "", "", "2026-10", "2026-11-24T12:00:00+00:00"),
    ("a chain 60 deep", 11, 60, "chain", "Europe/Lisbon", "2026-03", "2026-03-30T09:00:00+01:00"),
    ("bushy", 12, 40, "bushy", "America/New_York", "2026-03", "2026-03-18T12:00:00+00:00"),
    ("wide, with no summer time", 13, 45, "wide", "Asia/Kolkata", "2026-03", "2026-04-02T00:00:00+05:30"),
    ("midnight that does not exist", 14, 25, "bushy", "Africa/Cairo", "2026-04", "2026-04-24T12:00:00+02:00"),
]


MOST_BUYERS = 24 * TIMES
"""Of more, every third is read, and those with more than usage: each of a deep chain's statements takes as long as the
chain is deep."""


@pytest.fixture(scope="module", params=CASES, ids=lambda case: case[0])
def case(
    request: pytest.FixtureRequest, new_database: Any, tmp_path_factory: pytest.TempPathFactory
) -> Iterator[tuple[Statements, str, str]]:
    name, seed, accounts, shape, zone, month, at = request.param
    folder = INTAKE if seed is None else odd_intake.write(tmp_path_factory.mktemp(shape), seed, accounts, shape, zone)
    database: Database = new_database()
    commands.open_database, kept = (lambda: database), commands.open_database  # type: ignore[assignment]
    run("import", str(folder))
    yield Statements(folder), month, at
    commands.open_database = kept


def run(*arguments: str) -> list[dict[str, str]]:
    result = CliRunner().invoke(commands.app, [*arguments, "--csv"], catch_exceptions=False)
    assert result.exit_code == 0, result.output
    return list(csv.DictReader(io.StringIO(result.stdout)))


def period(month: str) -> tuple[date, date]:
    first = date.fromisoformat(f"{month}-01")
    return first, date.fromordinal(date(first.year + first.month // 12, first.month % 12 + 1, 1).toordinal() - 1)


def test_positions(case: tuple[Statements, str, str]) -> None:
    reference, _, at = case
    for product in reference.measure:
        per = reference.per_unit(product)
        wanted = reference.positions(product, datetime.fromisoformat(at).astimezone(UTC))
        found = {row["account"]: row for row in run("positions", "--product", product, "--at", at)}
        assert list(found) == [code for code in reference.order if code in wanted]
        for code, figures in wanted.items():
            row = found[code]
            for name in ("reserve", "own", "load", "held", "headroom"):
                assert Fraction(row[name]) * per == figures[name], (product, code, name)
            assert (Fraction(row["cap"]) * per if row["cap"] else None) == figures["cap"]
            assert (row["bound_by"], row["state"]) == (figures["bound_by"], figures["state"]), (product, code)


def test_readings(case: tuple[Statements, str, str]) -> None:
    reference, month, _ = case
    for product in reference.measure:
        per = reference.per_unit(product)
        wanted = reference.readings(product, *period(month))
        found = {
            (date.fromisoformat(row["day"]), row["account"]): row
            for row in run("readings", "--product", product, "--month", month)
        }
        assert found.keys() == wanted.keys()
        for key, figures in wanted.items():
            for name in ("own", "load", "held", "reserve", "supply"):
                exact = Fraction(figures[name], figures["seconds"] * per)
                assert abs(Fraction(found[key][name]) - exact) <= Fraction(1, 2 * 10**6), (product, key, name)


def test_statements(case: tuple[Statements, str, str]) -> None:
    reference, month, _ = case
    kinds: Counter[str] = Counter()
    buyers = reference.order[1:]
    besides = {row["buyer"] for name in ("charges", "discounts", "credits") for row in reference.data[name]}
    every = 1 if len(buyers) < MOST_BUYERS else 3
    for buyer in [each for place, each in enumerate(buyers) if place % every == 0 or each in besides]:
        found = run("statement", "--buyer", buyer, "--month", month)
        wanted = reference.month(buyer, period(month)[0])
        usage = [row for row in found if row["kind"] == "usage"]
        lines = [row for _, rows in sorted(wanted.lines.items()) for row in rows]
        assert [(row["product"], row["account"]) for row in usage] == [(row[0], row[1]) for row in lines], buyer
        for row, (product, _, quantity, past_cap, minor) in zip(usage, lines, strict=True):
            assert Fraction(row["quantity"]) == quantity, (buyer, product)
            assert in_minor(row) == minor, (buyer, product, row)
            if past_cap is not None:
                assert Fraction(row["overage_quantity"]) == past_cap
        told = {(row["currency"], row["kind"], row["product"]): in_minor(row) for row in found if not row["account"]}
        assert told == {(of, *key): amount for of, rows in wanted.rows.items() for key, amount in rows.items()}, buyer
        kinds.update(row["kind"] for row in found if not row["account"])
    assert kinds["usage"] > 10
    some = ["charge", "discount", "tax", *(["credit"] if len(reference.data["credits"]) > 5 else [])]
    assert min(kinds[kind] for kind in some) > 0, kinds


def in_minor(row: dict[str, str]) -> int:
    return int(Decimal(row["amount"]).scaleb(DECIMALS.get(row["currency"], 2)))


@pytest.mark.parametrize("idle", ["", "retained", "spread"])
def test_costs(case: tuple[Statements, str, str], idle: str) -> None:
    reference, month, _ = case
    for product in reference.measure:
        found = [
            (
                *(row["owner"], row["account"], Fraction(row["held_quantity"])),
                *(in_minor({"amount": row["cost"], **row}), row["currency"]),
            )
            for row in run("costs", "--product", product, "--month", month, "--idle", idle)
        ]
        assert found == reference.costs(product, *period(month), spread=idle == "spread" if idle else None)


def test_a_second_import_changes_nothing(case: tuple[Statements, str, str]) -> None:
    for row in run("import", str(case[0].folder)):
        assert (row["created"], row["changed"]) == ("0", "0"), row
