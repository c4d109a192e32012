"""One formula a figure: engine, pools, grid, drafts, purchases, Today and an admission say the same of every pool."""

from __future__ import annotations

import random
from collections.abc import Callable
from datetime import date, timedelta
from decimal import Decimal
from typing import Any

import pytest

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.allocations import views
from fair_ladle.app.allocations.positions import Positions, positions_at
from fair_ladle.app.allocations.routes import grid_body
from fair_ladle.app.assignments import service as assignments
from fair_ladle.app.assignments import storing
from fair_ladle.app.assignments import usecases as admissions
from fair_ladle.app.assignments.eligibility import Wanted
from fair_ladle.app.drafts.change_types import NewLot
from fair_ladle.app.drafts.preview import preview
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import Database, Transaction
from fair_ladle.app.plumbing.prepared import ask
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.pools import service as pools
from fair_ladle.app.purchases import usecases as purchases
from fair_ladle.app.today import usecases as today
from fair_ladle.app.usage import service as usage
from fair_ladle.core.quantities import BYTES_PER_GRAIN

ENOUGH = 30


class Undo(Exception):
    """Leave the database as it was."""


@pytest.fixture(scope="module", params=[(11, 24, "bushy"), (12, 30, "wide"), (13, 12, "chain")], ids=str)
def odd(request: pytest.FixtureRequest, new_odd: Callable[[int, int, str], Database]) -> Database:
    return new_odd(*request.param)


def engine(tx: Transaction) -> Positions:
    return positions_at(tx, pools.products(tx), tx.now)


def test_every_screen_says_the_same_of_a_pool(odd: Database) -> None:
    with odd.transaction() as tx:
        found = engine(tx)
        snapshot = found.snapshot
        owned = {
            (snapshot.accounts.tree.codes[int(row)], pool.product.code): place
            for place, (row, pool) in enumerate(zip(snapshot.roots.rows, snapshot.pools, strict=True))
        }
        load, used = found.pool_load().tolist(), found.pool_used().tolist()
        short, standing = found.shortfalls().tolist(), found.pool_standing().tolist()
        for pool, owner, _, point in purchases.pools(tx, COMMAND_LINE, purchases.PoolsSought())[1]:
            place = owned[owner, pool.product.code]
            timeline = purchases.timeline(tx, COMMAND_LINE, owner, pool.product.code)
            now = next(each for each in timeline.points if each.day == snapshot.day)
            for each in (point, now):
                assert (each.short, each.promised, each.used) == (short[place], load[place], used[place])
                assert each.promisable == int(snapshot.supply.promisable[place])
            for ahead in [each for each in timeline.points if each.day > snapshot.day][:2]:
                there = positions_at(tx, [pool.product], accounts_service.start_of(tx, ahead.day))
                at = next(n for n, each in enumerate(there.snapshot.pools) if each.owner_id == pool.owner_id)
                assert (ahead.promised, ahead.used) == (int(there.pool_load()[at]), int(there.pool_used()[at]))
        day = today.today(tx, COMMAND_LINE)
        assert {(each.owner, each.product.code): each.by for each in day.shortfalls} == {
            at: short[place] for at, place in owned.items() if short[place]
        }
        for outlook in day.outlook:
            assert outlook.free[0] == standing[owned[outlook.owner, outlook.product.code]]
        for idle in day.idle:
            place = owned[idle.owner, idle.product.code]
            assert idle.free == max(0, standing[place]) or short[place]
            assert idle.supply >= idle.free + idle.promised
            if idle.currency == "JPY":
                assert idle.free_cost == idle.free_cost.to_integral_value(), "yen have no decimals"
        body = grid_body(views.grid(tx, COMMAND_LINE))
        for pool_body in body["pools"]:
            if pool_body["owned"]:
                place = owned[body["top"], pool_body["product"]]
                assert (pool_body["free"], pool_body["held"]) == (standing[place], load[place])
        assert len(owned) > 2 and (any(short) or len(snapshot.accounts.tree) < 15)


def test_a_draft_says_what_it_makes_of_a_pool_and_adds_no_currencies(odd: Database) -> None:
    with odd.transaction() as tx:
        found = engine(tx)
        snapshot = found.snapshot
        changes = [
            NewLot(
                owner=snapshot.accounts.tree.codes[int(row)],
                product=pool.product.code,
                reference=f"MORE-{place}",
                quantity=7 * pool.product.per_unit,
                first_day=date(2026, 4, 20),
                unit_cost=Decimal("3.333"),
                currency=pool.currency,
            )
            for place, (row, pool) in enumerate(zip(snapshot.roots.rows, snapshot.pools, strict=True))
        ]
        looked = preview(tx, COMMAND_LINE, changes)
        assert looked.impact is not None and looked.rate_cards is not None and looked.faults == []
        after = looked.impact.after
        said = {(owner, product.code): (before, now) for owner, product, before, now in looked.impact.pools()}
        for place, pool in enumerate(after.snapshot.pools):
            owner = int(after.snapshot.roots.rows[place])
            assert said[owner, pool.product.code][1] == after.pool_standing().tolist()[place]
        told = looked.impact.money(looked.rate_cards)
        for each in told:
            places = 0 if each.currency == "JPY" else 2
            for amount in (each.charged_before, each.charged_after, each.cost_before, each.cost_after):
                assert amount == round(amount, places), (each.account, each.currency)
        retains = {each.code for each in snapshot.products if not each.spreads_idle}
        owners = {(change.owner, change.currency) for change in changes if change.product in retains}
        assert owners <= {(each.account, each.currency) for each in told}, "what it costs, in its own currency"


def test_an_admission_lets_through_what_the_grid_says(odd: Database) -> None:
    chance = random.Random(1)
    with odd.transaction() as tx:
        found = engine(tx)
    snapshot = found.snapshot
    tried = 0
    cells: list[tuple[int, int, Any]] = [
        (row, column, product)
        for column, product in enumerate(snapshot.products)
        if not product.is_storage
        for row in range(len(snapshot.accounts.tree))
        if snapshot.owner[row, column] >= 0
    ]
    for row, column, product in chance.sample(cells, min(len(cells), 40)):
        code, room = snapshot.accounts.tree.codes[row], int(found.headroom.room[row, column])
        odd.run(lambda tx, product=product: assignments.rebuild_stale(tx, [product]))
        with odd.transaction() as tx:
            assert assignments.room(tx, COMMAND_LINE, code, product).real == room, (code, product.code)
        for amount, fits in ((room, True), (room + 1, False)):
            if not 0 < amount <= ENOUGH or not product.stands_alone or product.measure == "item":
                continue
            units = [Wanted(code, product.code, f"X-{n}") for n in range(amount)]

            def attempt(tx: Transaction, units: list[Wanted] = units) -> None:
                admissions.assign(tx, COMMAND_LINE, units)
                raise Undo

            with pytest.raises(Undo if fits else Refused):
                odd.run(attempt)
            tried += 1
    assert tried > 5


@pytest.mark.parametrize("asked", [(11, 24, "bushy"), (13, 12, "chain"), (204, 10, "chain")], ids=str)
def test_one_after_the_other_goes_through_where_the_facts_have_room(
    new_odd: Callable[[int, int, str], Database], asked: tuple[int, int, str]
) -> None:
    """Bytes of pools that are overcommitted, in shortfall or none of both, while lots and graces begin and end: as much
    as there is room for, and no more."""
    database, chance, tried = new_odd(*asked), random.Random(str(asked)), [0, 0]
    for _ in range(60):
        if chance.random() < 0.05:
            database.clock.shift += timedelta(hours=chance.choice((1, 30, 24 * 9)))
        database.run(assignments.rebuild_stale)
        with database.transaction() as tx:
            product = chance.choice([each for each in pools.products(tx) if each.is_storage])
            found = positions_at(tx, [product], tx.now)
            snapshot, row = found.snapshot, chance.randrange(len(found.snapshot.accounts.tree))
            account_id = int(snapshot.accounts.ids[row])
            there = next(iter(ask(tx.connection, usage.standing(product, account_id, ["new"], tx.now))))
        if snapshot.owner[row, 0] < 0:
            continue
        room, total = int(found.headroom.room[row, 0]), there.total or 0
        wanted = max(1, chance.choice((room, room + 1, room // 2, 1)))
        size = (usage.grains(total) + wanted) * BYTES_PER_GRAIN - total
        code = snapshot.accounts.tree.codes[row]
        try:
            database.run(storing.change_sizes, COMMAND_LINE, code, product, {"new": size})
            fits = True
        except Refused as refused:
            if "ladder" not in refused.problem.more:
                continue  # it is suspended
            fits = False
        assert fits == (wanted <= room), (code, product.code, wanted, room)
        tried[fits] += 1
    assert min(tried) > 2
    assert database.run(admissions.verify, COMMAND_LINE) == []
