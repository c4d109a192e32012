"""Prices by draft: from a day ahead, for one buyer or all, by whoever sells, and what is told of them to whom."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable
from dataclasses import replace
from datetime import date, timedelta
from decimal import Decimal
from functools import partial
from typing import Any

import pytest
from fastapi.testclient import TestClient

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.drafts import usecases as drafts
from fair_ladle.app.drafts.change_types import RateChange, TierTerms
from fair_ladle.app.drafts.evaluate import rate_of
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.limits import FREE, Limits
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.pools import service as pools
from fair_ladle.app.prices import usecases as prices
from fair_ladle.app.prices.usecases import BuyersSought
from fair_ladle.app.statements import views
from fair_ladle.app.statements.rate_cards import RateCards, what_more_costs
from fair_ladle.app.statements.usecases import statements
from fair_ladle.app.usage import service as usage
from tests.app.test_account_life import admin
from tests.app.test_keys import signs_in
from tests.conftest import actor_of

DECEMBER = date(2026, 12, 1)
OPERATOR = actor_of("GANNET")


def card(price: str = "12", **other: Any) -> RateChange:
    terms: dict[str, Any] = {
        "seller": "GANNET",
        "buyer": "TERN",
        "product": "FIELD-CORE",
        "first_day": DECEMBER,
        "basis": "held",
        "aggregate": "average",
        "tier_mode": "graduated",
        "tiers": (TierTerms(from_quantity=Decimal(0), unit_price=Decimal(price)),),
    }
    return RateChange.model_validate(terms | other)


def applied(database: Database, change: RateChange, account: str = "GANNET", limits: Limits = FREE) -> int:
    actor = replace(admin(database, account), limits=limits)
    draft = database.run(drafts.edit, actor, None, 0, [change])
    database.run(drafts.apply, actor, draft.row.id, draft.row.revision)
    return int(draft.row.id)


def reversed_again(database: Database, draft_id: int) -> None:
    actor = admin(database, "GANNET")
    back = database.run(drafts.reverse, actor, draft_id)
    database.run(drafts.apply, actor, back.row.id, back.row.revision)


def newest(database: Database, buyer: str | None) -> tuple[date, str] | None:
    """First day and first step of the newest card of FIELD-CORE."""
    found = database.snapshot(prices.versions, OPERATOR, "GANNET", buyer, "FIELD-CORE")
    return (found[0].rate.first_day, f"{found[0].rate.tiers[0].unit_price}") if found else None


def test_a_price_from_next_month_is_charged_then_and_can_be_taken_back(demo: Database) -> None:
    november = demo.snapshot(views.statement_view, OPERATOR, "TERN", "2026-11").sheets[0].statement.total
    draft_id = applied(demo, card())
    assert newest(demo, "TERN") == (DECEMBER, "12")
    assert demo.snapshot(views.statement_view, OPERATOR, "TERN", "2026-11").sheets[0].statement.total == november
    demo.clock.shift += timedelta(days=40)
    [sheet] = demo.snapshot(views.statement_view, OPERATOR, "TERN", "2026-12").sheets
    line = next(each.line for each in sheet.lines if each.line.product.code == "FIELD-CORE")
    assert line.rate.buyer == "TERN" and line.charge.amount == (line.charge.quantity * 12).quantize(Decimal("0.01"))
    demo.clock.shift -= timedelta(days=40)
    reversed_again(demo, draft_id)
    assert newest(demo, "TERN") is None


def test_a_price_of_the_same_day_is_replaced_and_comes_back(demo: Database) -> None:
    applied(demo, card("11", buyer=None))
    was = card("11", buyer=None)
    terms = {name: getattr(was, name) for name in ("basis", "aggregate", "tier_mode", "tiers")}
    draft_id = applied(demo, card("13", buyer=None, was=terms))
    assert newest(demo, None) == (DECEMBER, "13")
    reversed_again(demo, draft_id)
    assert newest(demo, None) == (DECEMBER, "11")


REFUSED = [
    ("a price from today", "GANNET", FREE, card(first_day=date(2026, 11, 24)), "begins tomorrow at the earliest"),
    ("to a buyer of somebody else", "GANNET", FREE, card(buyer="HAZEL"), "no buyer of GANNET"),
    (
        "for what the buyer owns",
        "GANNET",
        FREE,
        card(buyer="OLDQUAY", product="CHARTROOM"),
        "a pool of CHARTROOM of its",
    ),
    ("in no currency", "GANNET", FREE, card(currency="XXX"), "no currency"),
    ("by the buyer", "TERN", FREE, card(), "There is no account"),
    ("by a delegate who may not", "GANNET", Limits(prices=False), card(), "does not let you change prices"),
]


@pytest.mark.parametrize(("what", "account", "limits", "change", "says"), REFUSED, ids=[case[0] for case in REFUSED])
def test_what_is_no_price(
    demo: Database, what: str, account: str, limits: Limits, change: RateChange, says: str
) -> None:
    with pytest.raises(Refused) as refused:
        applied(demo, change, account, limits)
    said = refused.value.problem.detail + str(refused.value.problem.more)
    assert says in said
    assert newest(demo, "TERN") is None


@pytest.mark.parametrize("wrong", [{"markup": "5"}, {"tiers": ()}, {"tiers": (), "markup": "5", "included": "1"}])
def test_tiers_or_a_markup(wrong: dict[str, Any]) -> None:
    with pytest.raises(ValueError, match="tier|markup"):
        card(**wrong)


def test_what_a_price_would_have_charged_is_what_it_charges(shared_demo: Database) -> None:
    change = card(first_day=date(2026, 10, 1))
    [found] = shared_demo.snapshot(prices.would_charge, OPERATOR, rate_of(change))
    with shared_demo.transaction() as tx:
        present = views.statement_view(tx, OPERATOR, "TERN", "2026-10").sheets[0]
    line = next(each.line for each in present.lines if each.line.product.code == "FIELD-CORE")
    assert found.was == line.charge.amount
    assert found.would_be == (line.charge.quantity * 12).quantize(Decimal("0.01"))
    assert found.would_be_over_year >= found.would_be


def test_a_draft_says_what_a_price_makes_of_a_month(demo: Database) -> None:
    looked = demo.run(drafts.preview, OPERATOR, [card("1000")])
    assert looked.impact is not None and looked.rate_cards is not None
    [money] = looked.impact.money(looked.rate_cards)
    assert money.account == "TERN" and money.charged_after > money.charged_before * 10


def test_a_sellers_buyers_come_by_window_and_its_prices_as_a_file(app: TestClient, demo: Database) -> None:
    found = partial(demo.snapshot, prices.buyers, OPERATOR, "GANNET")
    total, every = found(BuyersSought(), 0, None)
    assert total == len(every) == demo.snapshot(prices.prices, OPERATOR, "GANNET").count > 9
    parts = [each for offset in range(0, total, 4) for each in found(BuyersSought(), offset, 4)[1]]
    assert parts == every and {each.kind for each in every} == {"client", "reseller"}
    [marrow] = found(BuyersSought("vet marrow"), 0, 5)[1]
    assert [(each.rate.product, each.rate.first_day) for each in marrow.cards] == [("LANTERN-MAIL", date(2026, 10, 1))]
    assert found(BuyersSought(only="MARROW"), 0, 5) == (1, [marrow])
    assert {each.kind for each in found(BuyersSought(kind="reseller"), 0, 5)[1]} == {"reseller"}

    _, client = signs_in(demo, app, "GANNET")
    asked = client.get("/api/prices/buyers/GANNET/export", params={"find": "marrow"})
    rows = {(each["buyer"], each["product"]): each for each in csv.DictReader(io.StringIO(asked.text))}
    mail, general = rows["MARROW", "LANTERN-MAIL"], rows["MARROW", "FIELD-FULL"]
    assert (mail["since"], mail["price_is"], mail["currency"]) == ("2026-10-01", "its own", "EUR")
    assert (general["price"], general["price_is"]) == (rows["", "FIELD-FULL"]["price"], "general")
    assert {buyer for buyer, _ in rows} == {"", "MARROW"}
    assert client.get("/api/prices/buyers/NOWHERE/export").status_code == 404


def test_a_buyer_sees_what_it_pays_and_nothing_of_others(shared_demo: Database) -> None:
    seller, mine = shared_demo.snapshot(prices.own_prices, actor_of("HAZEL"), "HAZEL")
    assert seller == "Bramble IT Partners" and {each.card.rate.buyer for each in mine} <= {None, "HAZEL"}
    assert {each.card.rate.seller for each in mine} == {"BRAMBLE"}, "not what its seller's seller charges"
    for seller in ("GANNET", "BRAMBLE"):
        with pytest.raises(Refused, match="There is no account"):
            shared_demo.snapshot(prices.prices, actor_of("HAZEL"), seller)
        with pytest.raises(Refused, match="There is no account"):
            shared_demo.snapshot(prices.buyers, actor_of("HAZEL"), seller, BuyersSought(), 0, 9)
    with pytest.raises(Refused, match="There is no account"):
        shared_demo.snapshot(prices.own_prices, actor_of("HAZEL"), "OTTERY")


def test_the_calculator_says_what_the_rate_says(shared_demo: Database) -> None:
    with shared_demo.transaction() as tx:
        rate = RateCards(tx, accounts_service.known(tx)).rate("OLDQUAY", "LANTERN-MAIL", DECEMBER)
    assert rate is not None
    # 3.90 up to 50, 3.40 from there on: 35 and 20 more are 15 at 3.90 and 5 at 3.40.
    assert what_more_costs(rate, Decimal(35), Decimal(20), "EUR") == Decimal("75.50")
    assert what_more_costs(rate, Decimal(55), Decimal(-10), "EUR") == Decimal("-36.50")


@pytest.mark.parametrize(
    ("buyer", "product", "units"),
    [("TERN", "FIELD-CORE", 3), ("OLDQUAY", "FIELD-FULL", 9), ("HAZEL", "WATCHGLASS", 40)],
)
def test_what_more_would_do_to_a_bill_is_what_it_does(
    new_demo: Callable[[], Database], buyer: str, product: str, units: int
) -> None:
    """More in use all month: the line and the total, with discounts and tax, differ by what was said before."""
    database = new_demo()

    def amounts() -> tuple[Decimal, Decimal]:
        _, (found,) = database.snapshot(statements, COMMAND_LINE, buyer, "2026-10")
        line = next(each for each in found.lines if each.product.code == product)
        return line.charge.amount, found.total

    asked = [units, -units, 0]
    more, fewer, none = database.snapshot(views.with_more, admin(database, buyer), buyer, "2026-10", product, asked)
    assert (none.line, none.total) == (0, 0) and fewer.line <= 0 <= more.line
    line, total = amounts()
    with database.transaction() as tx:
        begins, ends = (accounts_service.start_of(tx, date(2026, month, 1)) for month in (10, 11))
        of = {"product_id": pools.product(tx, product).id, "account_id": accounts_service.ids_by_code(tx)[buyer]}
        seats = [of | {"subject": f"more-{n}", "begins": begins, "ends": ends} for n in range(units)]
        usage.load_assignments(tx, seats, lambda _: None)
    now_line, now_total = amounts()
    assert (now_line - line, now_total - total) == (more.line, more.total)
    assert (more.line == 0) == (buyer == "TERN"), "where a promise is not used up, more costs nothing more"
    back = database.snapshot(views.with_more, COMMAND_LINE, buyer, "2026-10", product, [-units])[0]
    assert (back.line, back.total) == (-more.line, -more.total)
    with pytest.raises(Refused, match="There is no account"):
        database.snapshot(views.with_more, actor_of("MARROW"), buyer, "2026-10", product, [1])
