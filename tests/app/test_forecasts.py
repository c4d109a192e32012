"""Running months: what they may come to, and budgets that are passed."""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta
from decimal import Decimal
from pathlib import Path

import pytest
import sqlalchemy as sa

from fair_ladle.app.budgets import usecases as budgets
from fair_ladle.app.drafts.change_types import StatusChange
from fair_ladle.app.drafts.preview import apply_changes
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.statements import forecasts
from tests.app.test_closing import books, bring_in, later, rows  # noqa: F401
from tests.conftest import actor_of

SEATS = "account,product,subject,from\n"


def amounts(database: Database, buyer: str, month: str = "2026-04") -> list[str]:
    [found] = database.snapshot(forecasts.forecasts, COMMAND_LINE, buyer, month)
    return [f"{each:f}" for each in (found.so_far, found.range.low, found.range.likely, found.range.high)]


def test_what_stays_as_it_is_comes_to_what_it_came_to(books: Database) -> None:  # noqa: F811
    """NORTH holds 5 at 5.00 with tax, all year; TERN besides has a discount, a credit and a charge."""
    assert amounts(books, "NORTH") == ["30.75"] * 4
    march = sum(Decimal(each) for each in rows(books, "TERN", "2026-03").values())
    assert march > 0 and len(set(amounts(books, "TERN"))) == 1


def test_what_is_allocated_later_in_the_month_is_counted(books: Database, later: Callable[[str, str], None]) -> None:  # noqa: F811
    """NORTH holds 5 for half of April and 11 for the other: 8 at 5.00, with tax."""
    later(
        "allocations",
        "account,product,reserve,cap,at_cap,first_day,last_day\n"
        "NORTH,MAIL,5,20,block,2026-01-01,2026-04-15\nNORTH,MAIL,11,20,block,2026-04-16,\n",
    )
    assert amounts(books, "NORTH") == ["30.75", "49.20", "49.20", "49.20"]


def test_what_begins_later_in_the_month_is_counted(books: Database, tmp_path: Path) -> None:  # noqa: F811
    """NORTH has no storage until 30 GB of it are reserved for the last ten days: 10 at 0.50, untaxed."""
    rates = {
        "allocations": "account,product,reserve,cap,at_cap,first_day\nNORTH,DISK,30,400,block,2026-04-21\n",
        "rates": "seller,buyer,product,first_day,basis\nMSP,NORTH,DISK,2026-04-01,held\n",
        "rate_tiers": "seller,buyer,product,first_day,from_quantity,unit_price\nMSP,NORTH,DISK,2026-04-01,0,0.5\n",
    }
    bring_in(books, tmp_path / "later", rates)
    assert amounts(books, "NORTH") == ["30.75", "35.75", "35.75", "35.75"]


def test_nothing_is_allocated_to_come_where_nothing_is_charged(books: Database) -> None:  # noqa: F811
    """NORTH, which is held 5 at 5.00 with tax, is suspended without charge from the 5th of April, and that day is over."""
    books.run(apply_changes, COMMAND_LINE, [StatusChange(account="NORTH", status="suspended", charged=False)], "a test")
    books.clock.set_to(books.clock.now() + timedelta(days=1))
    assert amounts(books, "NORTH")[-1] == "4.10", "4 of 30 days"


def test_storage_that_grows_goes_on_growing(books: Database, later: Callable[[str, str], None]) -> None:  # noqa: F811
    grown = [
        f"TERN-A,DISK,media,2026-{day:%m-%d}T00:00:00+00:00,{3 * 10**9 * place}"
        for place, day in enumerate(books.clock.now().date() - timedelta(days=back) for back in range(60, -1, -1))
    ]
    later("storage", "account,product,category,at,bytes\n" + "\n".join(grown) + "\n")
    so_far, low, likely, high = (Decimal(each) for each in amounts(books, "TERN"))
    # 3 GB a day at 0.50: the month's middle is 13 days after the middle of the 4 days that are read.
    assert so_far < low <= likely <= high and abs(likely - so_far - Decimal("0.5") * 3 * 13) < 2


def test_only_a_running_month_has_one_and_only_for_who_may_see_it(books: Database) -> None:  # noqa: F811
    assert books.snapshot(forecasts.forecasts, COMMAND_LINE, "TERN", "2026-03") == []
    with pytest.raises(Refused, match="There is no account"):
        books.snapshot(forecasts.forecasts, actor_of("NORTH"), "TERN", "2026-04")


def test_a_budget_is_told_of_before_it_is_passed_and_once(books: Database, later: Callable[[str, str], None]) -> None:  # noqa: F811
    later("assignments", SEATS + "TERN-A,MAIL,ann,2026-03-01T00:00:00+00:00\n")
    books.run(budgets.set_budget, actor_of("MSP"), "NORTH", Decimal("24.99"))
    books.run(budgets.set_budget, actor_of("TERN"), "TERN-A", Decimal("500"))
    assert books.run(budgets.with_budget) == ["NORTH", "TERN-A"]
    for _ in range(2):
        for account in ("NORTH", "TERN-A"):
            books.run(budgets.judge, account)
    with books.engine.connect() as connection:
        told = connection.execute(sa.text("SELECT subject, text FROM notices WHERE kind = 'budget'")).all()
    assert [(each.subject, each.text) for each in told] == [
        (
            "North has passed its budget",
            "It costs 25.00 EUR so far in April 2026, before tax; its budget is 24.99 EUR.".replace("\u00a0", " "),
        )
    ]
    found = books.snapshot(budgets.budget, actor_of("TERN"), "TERN-A")
    assert found.spent is not None and found.spent.so_far == Decimal("55.00"), "50 of storage and a seat"


def test_a_budget_is_changed_by_who_set_it_and_above(books: Database) -> None:  # noqa: F811
    books.run(budgets.set_budget, actor_of("TERN"), "TERN-A", Decimal("100"))
    with pytest.raises(Refused, match="set by an account above"):
        books.run(budgets.set_budget, actor_of("TERN-A"), "TERN-A", Decimal("200"))
    own = books.snapshot(budgets.budget, actor_of("TERN-A"), "TERN-A")
    assert (own.amount, own.spent, own.may_set) == (Decimal("100.00"), None, False), "what TERN pays is TERN's"
    books.run(budgets.set_budget, actor_of("MSP"), "TERN-A", None)
    assert books.run(budgets.with_budget) == []
    with books.transaction() as below, pytest.raises(Refused, match="meanwhile"):
        books.run(budgets.set_budget, actor_of("TERN"), "TERN-A", Decimal("90"))
        with pytest.MonkeyPatch.context() as patched:
            patched.setattr(budgets, "_row", lambda *_: None)  # read before TERN wrote
            budgets.set_budget(below, actor_of("TERN-A"), "TERN-A", Decimal("900"))
    assert books.snapshot(budgets.budget, actor_of("TERN"), "TERN-A").amount == Decimal("90.00")
    for amount, says in (("0", "above 0"), ("1.005", "2 decimals")):
        with pytest.raises(Refused, match=says):
            books.run(budgets.set_budget, actor_of("TERN"), "TERN-A", Decimal(amount))
    with pytest.raises(Refused, match="There is no account"):
        books.run(budgets.set_budget, actor_of("NORTH"), "TERN", Decimal("1"))


def test_more_that_would_pass_a_budget_says_so(books: Database) -> None:  # noqa: F811
    books.run(budgets.set_budget, actor_of("MSP"), "NORTH", Decimal("40"))
    ask = ("NORTH", "MAIL")
    assert books.snapshot(budgets.would_pass, actor_of("NORTH"), *ask, Decimal(3)) == []
    assert books.snapshot(budgets.would_pass, actor_of("NORTH"), *ask, Decimal(4)) == [
        "North would come to 45.00 EUR a month; its budget is 40.00 EUR."
    ]
    assert books.snapshot(budgets.would_pass, actor_of("QUAY"), "QUAY", "MAIL", Decimal(9)) == []
    books.run(budgets.set_budget, actor_of("MSP"), "NORTH", Decimal("1"))
    assert books.snapshot(budgets.would_pass, actor_of("MSP"), "QUAY", "MAIL", Decimal(9)) == [], (
        "QUAY's prices are its own"
    )
