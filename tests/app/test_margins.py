"""What sellers earn, and what of their pools nobody held: the same as statements and the other calculation say."""

from __future__ import annotations

from collections import defaultdict
from datetime import date
from decimal import Decimal

from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.statements import margins, usecases
from fair_ladle.jobs import KeepMonths
from tests.conftest import INTAKE, do_job
from tests.reference import Reference

MONTH, FIRST, LAST = "2026-10", date(2026, 10, 1), date(2026, 10, 31)
OPERATOR, BRAMBLE = Actor("Ines", "", "GANNET"), Actor("Rook", "", "BRAMBLE")


def test_charged_and_idle_are_what_statements_and_costs_say(demo: Database) -> None:
    do_job(demo, KeepMonths())
    rows = demo.snapshot(margins.margins, OPERATOR, MONTH)
    lines: dict[tuple[str, str, str], list[Decimal]] = defaultdict(list)
    for buyer in Reference(INTAKE).order[1:]:
        _, statements = demo.snapshot(usecases.statements, OPERATOR, buyer, MONTH)
        for statement in statements:
            for line in statement.lines:
                lines[statement.seller, line.product.code, line.currency].append(line.charge.amount)
    assert {(each.seller, each.product, each.currency): (each.buyers, each.charged) for each in rows} == {
        key: (len(amounts), sum(amounts)) for key, amounts in lines.items()
    }
    assert any(each.cost is not None and each.cost < each.charged for each in rows)

    reference = Reference(INTAKE)
    pools = demo.snapshot(margins.pools, OPERATOR, MONTH)
    wanted: dict[tuple[str, str, str], list[int]] = defaultdict(lambda: [0, 0, 0])
    for product in reference.measure:
        for owner, account, _, minor, currency in reference.costs(product, FIRST, LAST):
            sums = wanted[product, owner, currency]
            sums[0] += minor
            sums[1] += minor if account == owner else 0
            sums[2] += minor if account == "idle" else 0
    assert {
        (each.month.product, each.month.owner, each.month.currency): [
            int(amount.scaleb(2)) for amount in (each.month.cost, each.month.own, each.month.idle)
        ]
        for each in pools.rows
    } == wanted
    assert len(pools.months) == 12 and pools.months[-1] == FIRST
    before = demo.snapshot(margins.pools, OPERATOR, "2026-09")
    assert [each.idle[-2] for each in pools.rows] == [each.month.idle for each in before.rows], "as it was kept"


def test_a_reseller_sees_its_own_margins_alone(demo: Database) -> None:
    rows = demo.snapshot(margins.margins, BRAMBLE, MONTH)
    assert {each.seller for each in rows} == {"BRAMBLE"}
    assert {each.month.owner for each in demo.snapshot(margins.pools, BRAMBLE, MONTH).rows} <= {"BRAMBLE"}
    assert demo.snapshot(margins.margins, Actor("Head", "", "OLDQUAY-CREW"), MONTH) == []
    assert demo.snapshot(usecases.verify, COMMAND_LINE) == []
