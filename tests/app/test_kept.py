"""What is kept of months and days that are over holds until a fact of theirs changes, and is then made anew."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date, timedelta
from decimal import Decimal

import pytest

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.drafts.change_types import NewLot, StatusChange
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.pools import service as pools
from fair_ladle.app.statements import totals
from fair_ladle.app.statements import views as statements
from fair_ladle.app.usage import service as usage
from fair_ladle.core.calendar import month_of
from fair_ladle.jobs import KeepMonths
from tests.app.test_account_life import admin, applied
from tests.conftest import do_job

MONTHS = [date(2026, 11, 1), date(2026, 10, 1), date(2026, 9, 1)]


@pytest.fixture(autouse=True)
def nothing_in_memory(monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    monkeypatch.setattr(totals._totals, "get", lambda key, make: make())
    yield


def outdated(database: Database) -> set[tuple[str, date]]:
    return database.snapshot(lambda tx: {(each.code, first) for each, first, _ in totals.outdated(tx)})


def kept_agrees(database: Database) -> None:
    """What is kept is what the facts come to; and it is what is shown."""
    with database.transaction() as tx:
        for first in MONTHS:
            last = month_of(f"{first:%Y-%m}")[1]
            for product in pools.products(tx):
                worked_out = totals.worked_out(tx, product, first, last)
                assert totals.product_totals(tx, product, first, last) == worked_out
                for buyer in ["TERN", "OLDQUAY", "NOBODY"]:
                    costs = totals.costs_of(tx, [product], first, last, buyer)
                    assert costs == ({product.code: worked_out.costs[buyer]} if buyer in worked_out.amounts else {})


def test_what_a_month_comes_to_is_kept_until_something_of_it_changes(
    demo: Database, monkeypatch: pytest.MonkeyPatch
) -> None:
    everything = {(each.code, first) for each in demo.run(pools.products) for first in MONTHS}
    assert outdated(demo) == everything
    do_job(demo, KeepMonths())
    assert outdated(demo) == set()
    kept_agrees(demo)
    before = demo.run(statements.overview, admin(demo, "GANNET"), "2026-10")
    with monkeypatch.context() as patched:
        patched.setattr(totals, "worked_out", None)
        assert demo.run(statements.overview, admin(demo, "GANNET"), "2026-10") == before, "and nothing is worked out"

    lot = NewLot(
        owner="GANNET",
        product="WATCHGLASS",
        reference="MORE",
        quantity=50_000,
        first_day=date(2026, 11, 24),
        unit_cost=Decimal(3),
        currency="EUR",
    )
    applied(demo, admin(demo, "GANNET"), lot, StatusChange(account="TERN", status="suspended", charged=False))
    assert {first for _, first in outdated(demo)} == {MONTHS[0]}, "a purchase of today changes no month that is over"
    kept_agrees(demo)

    with demo.transaction() as tx:
        account, product = accounts_service.ids_by_code(tx)["TERN"], pools.product(tx, "COLDVAULT")
        at = accounts_service.start_of(tx, date(2026, 10, 20)) + timedelta(hours=5)
        late = {"product_id": product.id, "account_id": account, "category": "late", "at": at, "bytes": 10**13}
        usage.load_samples(tx, [late])
    assert outdated(demo) == everything
    kept_agrees(demo)
    do_job(demo, KeepMonths())
    assert outdated(demo) == set()
    kept_agrees(demo)
    after = demo.run(statements.overview, admin(demo, "GANNET"), "2026-10")
    assert [each.buyer for each, was in zip(after.buyers, before.buyers, strict=True) if each.amount != was.amount] == [
        "TERN"
    ]
