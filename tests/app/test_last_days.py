"""The last day of an allocation: until then these terms, after it those before, or nothing."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from datetime import date

import pytest

from fair_ladle.app.allocations import views
from fair_ladle.app.assignments import usecases as assignments
from fair_ladle.app.drafts import usecases as drafts
from fair_ladle.app.drafts.change_types import AllocationChange, Until
from fair_ladle.app.drafts.preview import apply_changes
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.limits import Ceiling, Limits
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.today import usecases as today
from tests.app.test_drafts import TODAY, actor, allocation, kept

__all__ = ["actor"]
XMAS, NEW_YEAR = date(2026, 12, 24), date(2026, 12, 31)


def apply(demo: Database, who: Actor, change: AllocationChange) -> int:
    draft = kept(demo, who, change)
    demo.run(drafts.apply, who, draft.row.id, draft.row.revision)
    return int(draft.row.id)


def versions(demo: Database, who: Actor) -> list[tuple[date, date | None, int | None]]:
    """First day, last day and cap of TERN's sessions from today on, the earliest first."""
    with demo.transaction() as tx:
        found = views.history(tx, who, "TERN", "CHARTROOM")
    rows = [each.version for each in found]
    return sorted((row.first_day, row.last_day, row.cap) for row in rows if not row.last_day or row.last_day >= TODAY)


def until(was: date | None, last_day: date | None) -> dict[str, Until]:
    return {"until": Until(last_day=last_day), "was_until": Until(last_day=was)}


def test_a_raise_until_a_day_ends_by_itself(demo: Database, actor: Callable[[str], Actor]) -> None:
    who = actor("GANNET")
    [(_, _, cap)] = versions(demo, who)
    assert cap is not None
    raised = allocation(demo, "TERN", "CHARTROOM", cap=cap + 5).model_copy(update=until(None, XMAS))
    draft = apply(demo, who, raised)
    after = date(2026, 12, 25)
    assert versions(demo, who) == [(TODAY, XMAS, cap + 5), (after, None, cap)]
    [ending] = [each for each in demo.run(today.today, who).allocations_ending if each.account == "TERN"]
    assert (ending.last_day, ending.cap, ending.follows, ending.then_cap) == (XMAS, cap + 5, True, cap)
    again = allocation(demo, "TERN", "CHARTROOM", cap=cap + 7)
    apply(demo, who, again)
    assert versions(demo, who)[0] == (TODAY, XMAS, cap + 7), "other terms keep the day"
    longer = allocation(demo, "TERN", "CHARTROOM").model_copy(update=until(XMAS, NEW_YEAR))
    second = apply(demo, who, longer)
    assert versions(demo, who) == [(TODAY, NEW_YEAR, cap + 7), (date(2027, 1, 1), None, cap)]
    back = demo.run(drafts.reverse, who, second)
    demo.run(drafts.apply, who, back.row.id, back.row.revision)
    assert versions(demo, who) == [(TODAY, XMAS, cap + 7), (after, None, cap)]
    good = allocation(demo, "TERN", "CHARTROOM", cap=cap).model_copy(update=until(XMAS, None))
    apply(demo, who, good)
    assert versions(demo, who) == [(TODAY, None, cap)], "for good: nothing else is due"
    assert draft and demo.run(assignments.verify, COMMAND_LINE) == []


def test_the_same_terms_until_a_day_end_there(demo: Database, actor: Callable[[str], Actor]) -> None:
    who = actor("GANNET")
    [(first, _, cap)] = versions(demo, who)
    ends = allocation(demo, "TERN", "CHARTROOM").model_copy(update=until(None, XMAS))
    apply(demo, who, ends)
    assert versions(demo, who) == [(TODAY, XMAS, cap)] and first < TODAY
    past = allocation(demo, "TERN", "CHARTROOM").model_copy(update=until(XMAS, date(2026, 11, 1)))
    with pytest.raises(Refused, match="the last day is over"):
        apply(demo, who, past)


def test_a_ceiling_lets_nobody_move_a_last_day(demo: Database, actor: Callable[[str], Actor]) -> None:
    """A later one keeps a raise for good; a sooner one brings on what somebody else planned."""
    who = actor("GANNET")
    apply(demo, who, allocation(demo, "TERN", "CHARTROOM", cap=9).model_copy(update=until(None, XMAS)))
    bounded = replace(who, limits=Limits(ceilings={"CHARTROOM": Ceiling(at_once=5)}))
    longer = allocation(demo, "TERN", "CHARTROOM").model_copy(update=until(XMAS, NEW_YEAR))
    sooner = longer.model_copy(update=until(XMAS, date(2026, 12, 1)))
    for changed, why in (
        (longer, "does not let you move a last day"),
        (sooner, "does not let you move a last day"),
        (longer.model_copy(update=until(None, NEW_YEAR)), "Changed by someone else"),
    ):
        with pytest.raises(Refused, match=why):
            demo.run(apply_changes, bounded, [changed], "another day")
    with pytest.raises(Refused, match="does not let you change caps"):
        demo.run(apply_changes, replace(who, limits=Limits(caps=False)), [sooner], "another day")
    assert versions(demo, who)[0][1] == XMAS
