"""Pools over time, ways out of a shortfall, and the calendar."""

from __future__ import annotations

from datetime import date
from decimal import Decimal

import icalendar
import pytest
import sqlalchemy as sa

from fair_ladle.app.allocations import views
from fair_ladle.app.allocations.positions import positions_at
from fair_ladle.app.drafts import usecases as drafts
from fair_ladle.app.drafts.change_types import AllocationChange, Until
from fair_ladle.app.drafts.reversing import terms_of
from fair_ladle.app.people import service as people
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.pools import service as pools
from fair_ladle.app.purchases import calendars as purchases_calendars
from fair_ladle.app.purchases import planning as purchases_planning
from fair_ladle.app.purchases import reducing
from fair_ladle.app.purchases import usecases as purchases
from fair_ladle.app.sign_in import service as sign_in_service
from fair_ladle.app.sign_in import usecases as sign_in
from fair_ladle.app.today import usecases as today
from fair_ladle.core.calendar import day_start, instant
from fair_ladle.jobs import KeepHeldAhead
from tests.conftest import actor_of, do_job

NEW_YEAR = date(2027, 1, 1)


def test_a_timeline_is_what_positions_say_on_each_day(shared_demo: Database) -> None:
    found = shared_demo.run(purchases.timeline, COMMAND_LINE, "GANNET", "LANTERN-MAIL")
    assert found.points[0].day == date(2025, 11, 25) and any(each.day == NEW_YEAR for each in found.points)
    with shared_demo.transaction() as tx:
        product = [pools.product(tx, "LANTERN-MAIL")]
        for point in [
            found.points[-20],
            next(each for each in found.points if each.day == found.today),
            next(each for each in found.points if each.day == NEW_YEAR),
        ]:
            end_of = point.day if point.day >= found.today else date.fromordinal(point.day.toordinal() + 1)
            zone = positions_at(tx, product, tx.now).snapshot.zone
            at = (
                tx.now
                if point.day == found.today
                else instant(day_start(end_of, zone) * 10**6 - (1 if point.day < found.today else 0))
            )
            there = positions_at(tx, product, at)
            assert (point.promised, point.used, point.supply) == (
                int(there.pool_load()[0]),
                int(there.pool_used()[0]),
                int(there.snapshot.supply.quantity[0]),
            ), point.day


def test_today_the_plan_and_the_timeline_say_the_same_of_a_day_ahead(demo: Database) -> None:
    """90 instead of 58 are reserved until 20 December: from then on less is held than today, and every screen knows."""
    with demo.transaction() as tx:
        there = views.terms(tx, COMMAND_LINE, [("TERN", "LANTERN-MAIL")])[0].version
    was = terms_of(there)
    assert was is not None and there is not None
    lent = AllocationChange(
        account="TERN",
        product="LANTERN-MAIL",
        terms=was.model_copy(update={"reserve": 90, "cap": 95}),
        seen=there.id,
        was=was,
        until=Until(last_day=date(2026, 12, 20)),
        was_until=Until(last_day=None),
    )
    demo.run(drafts.apply_changes, COMMAND_LINE, [lent], "a loan")
    # Nine of those in use end by themselves in the middle of a month.
    with demo.engine.begin() as connection:
        end = sa.text(
            "UPDATE assignments SET ends = '2026-12-15 10:00:00' WHERE ends IS NULL AND product_id ="
            " (SELECT id FROM products WHERE code = 'LANTERN-MAIL') ORDER BY id LIMIT 9"
        )
        assert connection.execute(end).rowcount == 9
    for _ in range(2):
        do_job(demo, KeepHeldAhead())
    timeline = demo.run(purchases.timeline, COMMAND_LINE, "GANNET", "LANTERN-MAIL")
    short = next(each.short for each in timeline.points if each.day == NEW_YEAR)
    plan = demo.run(purchases_planning.plan, COMMAND_LINE, "GANNET", "LANTERN-MAIL", NEW_YEAR)
    day = demo.run(today.today, COMMAND_LINE)
    ending = next(each for each in day.endings if each.product.code == "LANTERN-MAIL" and each.ending.uncovered)
    outlook = next(each for each in day.outlook if each.product.code == "LANTERN-MAIL")
    assert short == plan.short == ending.ending.uncovered == -outlook.free[outlook.months.index(NEW_YEAR)]
    assert 18 < ending.held - ending.ending.held <= 18 + 9, "held now, and then"


def lot_cost(option: purchases_planning.Option) -> Decimal:
    [lot] = option.changes
    return lot.unit_cost  # type: ignore[union-attr]


def test_every_way_out_keeps_what_it_says(shared_demo: Database) -> None:
    plan = shared_demo.run(purchases_planning.plan, COMMAND_LINE, "GANNET", "LANTERN-MAIL", NEW_YEAR)
    assert plan.short == 317 and [each.key for each in plan.options] == [
        "renew",
        "renew needed",
        "buy",
        "take back and renew needed",
        "release and renew needed",
        "release and take back and renew needed",
        "take back",
        "max-min",
        "least harm",
        "release",
        "let run",
    ]
    for option in plan.options:
        if not option.changes:
            continue
        previewed = shared_demo.run(drafts.preview, COMMAND_LINE, option.changes, NEW_YEAR)
        assert previewed.impact is not None and previewed.faults == [], option.key
        after = previewed.impact.after  # caps of storage that follow these seats are settled with them
        place = next(n for n, pool in enumerate(after.snapshot.pools) if pool.product.code == "LANTERN-MAIL")
        assert int(after.shortfalls()[place]) == option.still_short, option.key
        assert not [each for each in previewed.impact.stopping if each.account is not None], (
            f"{option.key} breaks nobody's hard limit"
        )
    renew, needed = plan.options[:2]
    assert renew.cost == plan.ending_cost == Decimal("420") * Decimal(lot_cost(renew)), (
        "the same again at the same price"
    )
    assert [(lot.renews, lot.first_day) for lot in needed.changes] == [("PO-2601", NEW_YEAR)]  # type: ignore[union-attr]
    assert sum(lot.quantity for lot in needed.changes) == plan.short and needed.still_short == 0  # type: ignore[union-attr]
    mixed = [each for each in plan.options if " and " in each.key]
    assert all(each.still_short == 0 and each.cost < needed.cost for each in mixed), "so much less has to be renewed"
    release = next(each for each in plan.options if each.key == "release")
    with shared_demo.transaction() as tx:
        taken = people.by_username(tx, [subject for each in release.changes for subject in each.subjects])  # type: ignore[union-attr]
    assert len(taken) == release.people and not any(each.protected for each in taken.values())
    with pytest.raises(Refused, match="there is nothing to plan"):
        shared_demo.run(purchases_planning.plan, COMMAND_LINE, "GANNET", "DISPATCH", NEW_YEAR)


def test_a_smaller_renewal_says_what_each_account_would_have_to_give(shared_demo: Database) -> None:
    """400 instead of 420: what the renewal leaves uncovered is what the accounts together would give, by either way."""
    ask = (COMMAND_LINE, "GANNET", "LANTERN-MAIL")
    enough = shared_demo.run(reducing.renewal, *ask, 420, 0, NEW_YEAR)
    assert (enough.short, enough.gives) == (0, [])
    small = shared_demo.run(reducing.renewal, *ask, 300, 0, NEW_YEAR)
    assert small.short == 17 and all(each.used <= each.counted for each in small.gives)
    for way in ("to_one_level", "where_least_used"):
        given = [(each, getattr(each, way)) for each in small.gives]
        assert sum(amount for _, amount in given) == small.short and all(
            0 <= amount <= each.counted for each, amount in given
        ), way
    most = max(each.counted - each.to_one_level for each in small.gives if each.to_one_level)
    with shared_demo.transaction() as tx:
        found = positions_at(tx, [pools.product(tx, "LANTERN-MAIL")], tx.now)
    past = {
        code
        for row, code in enumerate(found.snapshot.accounts.tree.codes)
        if found.settled.load[row, 0] > found.snapshot.grid.cap[row, 0]
    }
    assert all(each.counted <= most or each.to_one_level or each.account in past for each in small.gives), (
        "who gives nothing has no more than the level, or is past its cap already"
    )
    with pytest.raises(Refused, match="A quantity from 1"):
        shared_demo.run(reducing.renewal, *ask, 0, 0, NEW_YEAR)


def test_the_calendar_is_for_whoever_knows_the_address(demo: Database) -> None:
    demo.run(sign_in.give_sign_in, COMMAND_LINE, "ada@x.example", "Ada", "GANNET", "correct-ferry-staple")
    with demo.transaction() as tx:
        found = sign_in_service.find_by_email(tx, "ada@x.example")
    assert found is not None
    who = Actor("Ada", "ada@x.example", "GANNET", found.id)
    token = demo.run(purchases_calendars.make_calendar, who)
    calendar = icalendar.Calendar.from_ical(demo.run(purchases_calendars.calendar, token))
    ends = [str(event["summary"]) for event in calendar.walk("VEVENT") if event["dtstart"].dt == date(2026, 12, 31)]
    assert "Lantern Mail: 420 seats end (Gannet & Rowe Managed IT)" in ends
    demo.run(purchases_calendars.make_calendar, who)
    for wrong in (token, "guessed"):
        with pytest.raises(Refused, match="no calendar"):
            demo.run(purchases_calendars.calendar, wrong)


def test_pools_come_by_window_and_words_and_of_ones_branch_alone(shared_demo: Database) -> None:
    def found(
        actor: Actor, offset: int = 0, limit: int | None = None, **sought: str
    ) -> tuple[int, list[tuple[str, str]]]:
        total, rows = shared_demo.snapshot(purchases.pools, actor, purchases.PoolsSought(**sought), offset, limit)
        return total, [(owner, pool.product.code) for pool, owner, _, _ in rows]

    total, every = found(COMMAND_LINE)
    assert total == len(every) > 5 and ("OLDQUAY", "CHARTROOM") in every
    assert found(COMMAND_LINE, 2, 3) == (total, every[2:5])
    assert found(COMMAND_LINE, words="chart quay") == (1, [("OLDQUAY", "CHARTROOM")])
    assert found(COMMAND_LINE, words="po-2613") == (1, [("GANNET", "CHARTROOM")])
    assert found(COMMAND_LINE, product="CHARTROOM")[1] == [("GANNET", "CHARTROOM"), ("OLDQUAY", "CHARTROOM")]
    assert found(actor_of("OLDQUAY")) == (1, [("OLDQUAY", "CHARTROOM")])
    assert found(actor_of("OLDQUAY"), owner="GANNET") == (0, [])
