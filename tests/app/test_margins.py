"""What sellers earn, what of their pools nobody held, and where a seat is charged: as statements and the other
calculation say."""

from __future__ import annotations

from collections import defaultdict
from datetime import UTC, date
from decimal import Decimal

import pytest

from fair_ladle.app.accounts import service as accounts
from fair_ladle.app.people_admin import listing as people
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.statements import buyers, margins, trace, usecases
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


@pytest.mark.parametrize("account", ["OLDQUAY", "OLDQUAY-CREW"])
def test_a_seat_leads_to_every_statement_it_is_charged_in(demo: Database, account: str) -> None:
    actor = Actor("Maren", "", account)
    person = demo.snapshot(people.listing, actor, people.Asked(account="OLDQUAY-CREW", product="FIELD-FULL")).rows[0]
    found = demo.snapshot(trace.trace, actor, person.person.username, "FIELD-FULL", MONTH)
    holdings = demo.snapshot(people.person, actor, person.person.username).holdings
    since = next(each.since for each in holdings if each.product.code == "FIELD-FULL").replace(tzinfo=UTC)
    with demo.transaction() as tx:
        hours = (
            accounts.start_of(tx, date(2026, 11, 1)) - max(since, accounts.start_of(tx, FIRST))
        ).total_seconds() / 3600
    assert found.of_hours == 745, "a month with the hour that comes twice"
    assert float(found.hours) == pytest.approx(hours, abs=0.001)
    told = {each.buyer: (each.part, each.line, each.total) for each in found.charged_in}
    wanted = {}
    for buyer in ("OLDQUAY", "OLDQUAY-CREW"):
        if account in ("OLDQUAY", buyer):
            for each in demo.snapshot(usecases.statements, actor, buyer, MONTH)[1]:
                for line in each.lines:
                    parts = [share.amount for share in line.shares if share.account == "OLDQUAY-CREW"]
                    if line.product.code == "FIELD-FULL" and parts:
                        wanted[buyer] = (parts[0], line.charge.amount, each.total)
    assert told == wanted and ("OLDQUAY" in told) == (account == "OLDQUAY")
    for who, username in ((Actor("Tilde", "", "TERN"), person.person.username), (actor, "nobody")):
        with pytest.raises(Refused, match="no person"):
            demo.snapshot(trace.trace, who, username, "FIELD-FULL", MONTH)


def test_buyers_in_any_order_with_their_sums(demo: Database) -> None:
    every = demo.snapshot(buyers.overview, OPERATOR, MONTH)
    codes = [each.buyer for each in every.buyers]
    assert codes == [code for code in Reference(INTAKE).order if code in codes], "by tree"
    assert [each.buyer for each in buyers.found(every, "LIBRARY northf")] == ["NORTHFOLD"]
    for sort, figure in buyers.SORTS.items():
        for down in (True, False):
            found = buyers.in_order(list(every.buyers), sort, down)
            figures = [figure(each) for each in found]
            known = [each for each in figures if each is not None]
            assert known == sorted(known, reverse=down) and None not in figures[: len(known)], (sort, down)
            assert sorted(each.buyer for each in found) == sorted(codes)

    own = [each for each in every.buyers if each.seller == "GANNET"]
    assert len(own) < len(codes), "a reseller's buyers are in the list, and not in the operator's sums"
    [told] = buyers.sums(every, every.buyers)
    assert (told.buyers, told.amount, told.before) == (len(own), sum(e.amount for e in own), sum(e.before for e in own))
    assert told.costed - told.cost == sum(each.margin for each in own if each.margin is not None) != 0
    assert {each.of for each in own} == {told.amount}
    mine = demo.snapshot(buyers.overview, BRAMBLE, MONTH)
    assert [each.seller for each in mine.buyers if each.buyer == "BRAMBLE"] == ["Gannet & Rowe Managed IT"]
    assert [each for each in mine.buyers if each.seller == "BRAMBLE"] == [
        each for each in every.buyers if each.seller == "BRAMBLE"
    ]
