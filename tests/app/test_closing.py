"""Closing months: numbers without gaps, what stays as it was charged, and what is adjusted afterwards."""

from __future__ import annotations

import threading
from collections.abc import Callable
from datetime import date, datetime, timedelta
from decimal import Decimal
from pathlib import Path

import pytest
import sqlalchemy as sa

from fair_ladle.app.data_import import usecases as data_import
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.pools import service as pools
from fair_ladle.app.prices import usecases as prices
from fair_ladle.app.statements import adjustments, closing, closing_runs, views
from fair_ladle.app.statements import usecases as statements
from fair_ladle.app.statements.month_totals import worked_out
from fair_ladle.app.statements.routes import statement_body
from fair_ladle.connectors.sheets_in import read_source
from tests.conftest import actor_of

INTAKE = {
    "accounts": """code,parent,kind,name,currency,time_zone,billing_email
MSP,,operator,Msp,EUR,Europe/Lisbon,
NORTH,MSP,reseller,North,,,bills@north.example
QUAY,NORTH,client,Quay,,,bills@quay.example
TERN,MSP,client,Tern,,,bills@tern.example
TERN-A,TERN,sub-account,Lettings,,,
""",
    "products": """code,name,measure,tax_class
MAIL,Mail,seat,standard
DISK,Disk,storage,
""",
    "lots": """reference,owner,product,quantity,first_day,unit_cost
PO-1,MSP,MAIL,100,2026-01-01,2
PO-2,MSP,DISK,500,2026-01-01,0.1
""",
    "allocations": """account,product,reserve,cap,at_cap,first_day
TERN,MAIL,10,20,block,2026-01-01
NORTH,MAIL,5,20,block,2026-01-01
QUAY,MAIL,3,20,block,2026-01-01
TERN,DISK,0,400,block,2026-01-01
""",
    "storage": """account,product,category,at,bytes
TERN-A,DISK,files,2026-01-01T00:00:00+00:00,100000000000
""",
    "rates": """seller,buyer,product,first_day,basis,markup
MSP,,MAIL,2026-01-01,held,
MSP,,DISK,2026-01-01,used,
NORTH,,MAIL,2026-01-01,held,20
""",
    "rate_tiers": """seller,buyer,product,first_day,from_quantity,unit_price
MSP,,MAIL,2026-01-01,0,5
MSP,,DISK,2026-01-01,0,0.5
""",
    "charges": """seller,buyer,reference,description,tax_class,unit_price,first_day,every
MSP,TERN,DESK,Service desk,standard,40,2026-01-01,month
""",
    "discounts": """seller,buyer,reference,percent,first_day,ceiling
MSP,TERN,LOYAL,10,2026-01-01,30
""",
    "credits": """seller,buyer,reference,amount,first_day
MSP,TERN,OUTAGE,150,2026-01-01
""",
    "tax_rates": """seller,tax_class,first_day,percent
MSP,standard,2026-01-01,23
NORTH,standard,2026-01-01,23
""",
}


def bring_in(database: Database, folder: Path, files: dict[str, str]) -> None:
    folder.mkdir(exist_ok=True)
    for each in folder.iterdir():
        each.unlink()
    for name, text in files.items():
        (folder / f"{name}.csv").write_text(text)
    database.run(data_import.load, COMMAND_LINE, read_source(folder))


@pytest.fixture
def books(database: Database, tmp_path: Path) -> Database:
    database.clock.set_to(datetime.fromisoformat("2026-04-05T10:00:00+01:00"))
    bring_in(database, tmp_path / "intake", INTAKE)
    return database


@pytest.fixture
def later(books: Database, tmp_path: Path) -> Callable[[str, str], None]:
    """Bring in a table alone."""
    return lambda table, text: bring_in(books, tmp_path / "later", {table: text})


def close(database: Database, seller: str, month: str, reason: str = "looked at") -> list[tuple[str, str, str]]:
    prepared = database.snapshot(closing.prepare, COMMAND_LINE, seller, month)
    closed = database.run(closing.close, COMMAND_LINE, prepared, reason)
    return [(each.buyer, each.number or "", f"{each.total:f}") for each in closed]


def rows(database: Database, buyer: str, month: str) -> dict[str, str]:
    """Every row of a buyer's statement by kind and reference."""
    _, found = database.snapshot(statements.statements, COMMAND_LINE, buyer, month)
    return {
        f"{kind} {reference}": f"{sum(by_percent.values(), Decimal(0)):f}"
        for each in found
        for kind, reference, by_percent in each.amounts()
    }


JANUARY = {
    "usage DISK": "50.00",
    "usage MAIL": "50.00",
    "charge DESK": "40.00",
    "discount LOYAL": "-14.00",
    "credit OUTAGE": "-126.00",
    "tax 23": "0.00",
}


def test_months_are_numbered_without_gaps_and_stay_as_they_were_charged(
    books: Database, later: Callable[[str, str], None]
) -> None:
    assert rows(books, "TERN", "2026-01") == JANUARY
    assert close(books, "MSP", "2026-01") == [("NORTH", "2026-00001", "30.75"), ("TERN", "2026-00002", "0.00")]
    # The ceiling of 30 has 16 left, of which February takes 14; the credit of 150 has 24 left.
    february = JANUARY | {"credit OUTAGE": "-24.00", "tax 23": "15.08"}
    assert rows(books, "TERN", "2026-02") == february
    assert rows(books, "TERN", "2026-03")["discount LOYAL"] == "-2.00"
    later("rate_tiers", "seller,buyer,product,first_day,from_quantity,unit_price\nMSP,,MAIL,2026-01-01,0,9\n")
    later("tax_rates", "seller,tax_class,first_day,percent\nMSP,standard,2026-01-01,19\n")
    assert rows(books, "TERN", "2026-01") == JANUARY, "other prices change no month that is closed"
    assert rows(books, "TERN", "2026-02")["usage MAIL"] == "90.00"
    assert "adjustment 2026-01:usage:MAIL" not in rows(books, "TERN", "2026-02")
    assert [number for _, number, _ in close(books, "MSP", "2026-02")] == ["2026-00003", "2026-00004"]
    assert books.snapshot(statements.verify, COMMAND_LINE) == []


def test_what_is_learned_later_is_adjusted_once_in_the_first_open_month(
    books: Database, later: Callable[[str, str], None]
) -> None:
    close(books, "MSP", "2026-01")
    close(books, "MSP", "2026-02")
    # Half of January there were 200 GB, and one seat more than reserved for TERN all February.
    later(
        "storage",
        "account,product,category,at,bytes\nTERN-A,DISK,media,2026-01-01T00:00:00+00:00,31000000000\n"
        "TERN-A,DISK,media,2026-01-02T00:00:00+00:00,0\n",
    )
    assert rows(books, "TERN", "2026-01") == JANUARY
    march = rows(books, "TERN", "2026-03")
    assert march["adjustment 2026-01:usage:DISK"] == "0.50", "31 GB for one of 31 days, at 0.50"
    # 10 % of it is off too; the ceiling leaves 2, so March's own discount has 1.95 left.
    assert march["adjustment 2026-01:discount:LOYAL"] == "-0.05"
    assert march["discount LOYAL"] == "-1.95"
    assert not any(name.startswith("adjustment 2026-02") for name in march)
    close(books, "MSP", "2026-03")
    assert rows(books, "TERN", "2026-03") == march
    assert not any(name.startswith("adjustment") for name in rows(books, "TERN", "2026-04"))
    later("storage", "account,product,category,at,bytes\nTERN-A,DISK,media,2026-01-01T00:00:00+00:00,62000000000\n")
    april = rows(books, "TERN", "2026-04")
    assert april["adjustment 2026-01:usage:DISK"] == "0.50", "less what was adjusted before"
    why = books.snapshot(adjustments.adjustment, COMMAND_LINE, "TERN", "2026-04", "2026-01:usage:DISK", "EUR")
    assert (why.number, str(why.charged)) == ("2026-00002", JANUARY["usage DISK"])
    assert [(f"{each.month:%m}", each.number, str(each.amount)) for each in why.before] == [
        ("03", "2026-00006", "0.50")
    ]
    assert [(each.day.day, each.now) for each in why.days] == [(1, "162.000000")]
    off = books.snapshot(adjustments.adjustment, COMMAND_LINE, "TERN", "2026-03", "2026-01:discount:LOYAL", "EUR")
    assert (str(off.amount), off.product, off.days) == ("-0.05", None, [])
    for reference in ("2026-02:usage:DISK", "DISK", "", "2026-01:usage:DISK:"):
        with pytest.raises(Refused, match="There is no adjustment"):
            books.snapshot(adjustments.adjustment, COMMAND_LINE, "TERN", "2026-04", reference, "EUR")
    assert books.snapshot(statements.verify, COMMAND_LINE) == []


def test_a_price_that_begins_inside_a_closed_month_is_remarked(books: Database, tmp_path: Path) -> None:
    """It changes nothing of what is closed, and whoever brings it in is told; what was there then is not remarked."""
    close(books, "MSP", "2026-01")
    rates, tiers = (INTAKE[name].splitlines() for name in ("rates", "rate_tiers"))
    said = "until when MSP has closed its months; what is closed stays as it was charged"

    def brought(more: list[str], more_tiers: list[str], name: str) -> list[tuple[str, int | None, str]]:
        folder = tmp_path / name
        folder.mkdir()
        (folder / "rates.csv").write_text("\n".join([*rates, *more]))
        (folder / "rate_tiers.csv").write_text("\n".join([*tiers, *more_tiers]))
        loaded = books.run(data_import.load, COMMAND_LINE, read_source(folder))
        assert all(said in each.expected for each in loaded.remarks)
        return [(each.file, each.row, each.found) for each in loaded.remarks]

    assert brought([], [], "same") == []
    new = ["MSP,TERN,MAIL,2026-01-15,held,", "MSP,,MAIL,2026-02-01,held,"], ["MSP,TERN,MAIL,2026-01-15,0,1"]
    assert brought(new[0], [*new[1], "MSP,,MAIL,2026-02-01,0,6"], "new") == [("rates.csv", 5, "2026-01-15")]
    tiers[1] = tiers[1].replace(",5", ",7")
    assert brought([], [], "other") == [("rates.csv", 2, "2026-01-01")]
    assert rows(books, "TERN", "2026-01") == JANUARY


def test_a_seller_of_before_tells_its_adjustments_to_nobody_beside(
    books: Database, later: Callable[[str, str], None]
) -> None:
    """TERN goes over to NORTH in April; once MSP has closed April it learns something about January."""
    for month in ("2026-01", "2026-02", "2026-03"):
        close(books, "MSP", month)
    later("accounts", "code,parent,kind,name\nTERN,NORTH,client,Tern\n")
    books.clock.shift += timedelta(days=40)
    close(books, "MSP", "2026-04")
    later("storage", "account,product,category,at,bytes\nTERN-A,DISK,media,2026-01-01T00:00:00+00:00,31000000000\n")
    told = {
        who: {each.seller for each in books.snapshot(statements.statements, actor_of(who), "TERN", "2026-05")[1]}
        for who in ("MSP", "NORTH", "TERN")
    }
    assert told == {"MSP": {"MSP", "NORTH"}, "NORTH": {"NORTH"}, "TERN": {"NORTH"}}
    with pytest.raises(Refused, match="There is no account"):
        books.snapshot(statements.statements, actor_of("NORTH"), "TERN", "2026-04")
    _, paid = books.snapshot(prices.own_prices, actor_of("NORTH"), "TERN")
    assert paid and all(each.charged == 0 for each in paid), "what MSP charged in April is not NORTH's to know"


def test_a_markup_closes_after_what_it_is_reckoned_on(books: Database) -> None:
    with pytest.raises(Refused, match="that month closes first"):
        close(books, "NORTH", "2026-01")
    close(books, "MSP", "2026-01")
    # NORTH holds 5 for 25.00, of which QUAY's 3 are 3/5: 15.00, and a fifth more.
    assert rows(books, "QUAY", "2026-01") == {"usage MAIL": "18.00", "tax 23": "4.14"}
    assert close(books, "NORTH", "2026-01") == [("QUAY", "2026-00001", "22.14")]


def test_what_a_markup_is_reckoned_on_stays_with_the_seller(books: Database) -> None:
    """QUAY's admin sees what it owes; what NORTH paid, and what it puts on it, is NORTH's alone."""
    for actor, sees in (("QUAY", False), ("NORTH", True), ("MSP", True)):
        view = books.snapshot(views.statement_view, actor_of(actor), "QUAY", "2026-01")
        [line] = statement_body(view, "2026-01").sheets[0].lines
        assert line.amount == "18.00" and line.rate.is_markup
        assert (line.bought_for, line.rate.markup, line.cost) == (("15", "20", "15.00") if sees else (None, None, None))


def test_what_is_bought_in_another_currency_costs_what_it_is_worth_at_the_months_end(
    books: Database, tmp_path: Path
) -> None:
    lots = "reference,owner,product,quantity,first_day,unit_cost,currency\nPO-3,MSP,MAIL,100,2026-01-01,3,USD\n"
    more = {
        "lots": lots,
        "exchange_rates": "day,from,to,rate\n2026-01-31,USD,EUR,0.9\n2026-01-31,EUR,USD,1.1\n",
        "rates": "seller,buyer,product,first_day,basis,currency,markup\nNORTH,,MAIL,2026-01-01,held,USD,\n",
        "rate_tiers": "seller,buyer,product,first_day,from_quantity,unit_price\nNORTH,,MAIL,2026-01-01,0,8\n",
    }
    bring_in(books, tmp_path / "more", more)
    # TERN holds 10 of 200: 10.00 of 200 euros, and 15.00 of 300 dollars. QUAY has 3/5 of the 25 euros NORTH owes.
    wanted = {"TERN": ("50.00", "EUR", Decimal("23.50")), "QUAY": ("24.00", "USD", Decimal("16.50"))}
    with books.transaction() as tx:
        mail = next(each for each in pools.products(tx) if each.code == "MAIL")
        found = worked_out(tx, mail, date(2026, 1, 1), date(2026, 1, 31))
    assert {each: (str(found.amounts[each][0]), found.amounts[each][1], found.costs[each]) for each in wanted} == wanted


BLOCKED = [
    ("a month that is not over", "2026-04", {}, "is not over"),
    (
        "a tax class without a percentage",
        "2026-01",
        {"products": "code,name,measure,tax_class\nDISK,Disk,storage,luxury\n"},
        "Tax class luxury of Disk has no percentage",
    ),
    (
        "a cost in a currency that nothing exchanges",
        "2026-01",
        {"lots": "reference,owner,product,quantity,first_day,unit_cost,currency\nPO-3,MSP,MAIL,1,2026-01-01,2,USD\n"},
        "no exchange rate into EUR",
    ),
]


@pytest.mark.parametrize(("what", "month", "change", "says"), BLOCKED, ids=[case[0] for case in BLOCKED])
def test_what_stands_in_the_way_is_said_and_nothing_is_numbered(
    books: Database, later: Callable[[str, str], None], what: str, month: str, change: dict[str, str], says: str
) -> None:
    for table, text in change.items():
        later(table, text)
    with pytest.raises(Refused, match=says):
        close(books, "MSP", month)
    with books.engine.connect() as connection:
        assert connection.scalar(sa.text("SELECT COUNT(*) FROM closed_statements")) == 0


def test_months_close_in_order_once_and_what_may_pass_needs_a_reason(
    books: Database, later: Callable[[str, str], None]
) -> None:
    later("accounts", "code,parent,kind,name\nMOSS,MSP,client,Moss\n")
    later("allocations", "account,product,reserve,first_day\nMOSS,MAIL,1,2026-01-01\n")
    prepared = books.snapshot(closing.prepare, COMMAND_LINE, "MSP", "2026-01")
    assert [each.says for each in prepared.findings] == ["Moss has no billing contact."]
    with pytest.raises(Refused, match="Say why"):
        close(books, "MSP", "2026-01", " ")
    close(books, "MSP", "2026-01")
    for month, says in (("2026-03", "February 2026 of Msp comes next"), ("2026-01", "closed already")):
        with pytest.raises(Refused, match=says):
            close(books, "MSP", month)
    with pytest.raises(Refused, match="No such|There is no"):
        books.snapshot(closing.prepare, actor_of("TERN"), "MSP", "2026-02")


def test_two_who_close_at_once_number_it_once(books: Database) -> None:
    """Both prepare, then both write: who comes second waits for the row of numbers, and is refused under its lock."""
    prepared = books.snapshot(closing.prepare, COMMAND_LINE, "MSP", "2026-01")
    begun, told = threading.Event(), []

    def second() -> None:
        begun.set()
        try:
            books.run(closing.close, COMMAND_LINE, prepared, "second")
        except Refused as refused:
            told.append(refused.problem.detail)

    other = threading.Thread(target=second)
    with books.transaction() as tx:
        closing.close(tx, COMMAND_LINE, prepared, "first")
        other.start()
        begun.wait()
        other.join(0.3)
        assert other.is_alive(), "it waits"
    other.join()
    assert told == ["January 2026 of Msp was closed just now."]
    with books.engine.connect() as connection:
        numbers = connection.scalars(sa.text("SELECT number FROM closed_statements ORDER BY number"))
        assert list(numbers) == [1, 2]


MSP = Actor("Mara", "", "MSP", sign_in_id=1)


def begin(database: Database, month: str = "2026-01") -> tuple[int, date]:
    prepared = database.snapshot(closing.prepare, MSP, "MSP", month)
    return database.run(closing_runs.begin, MSP, "MSP", month, prepared.digest(), "looked at")


def state(database: Database) -> str:
    run = database.run(closing_runs.run_of, MSP, "MSP", "2026-01")
    assert run is not None
    return f"{run.state} {run.statements} {run.last_number or ''}".strip()


@pytest.fixture
def working(books: Database, monkeypatch: pytest.MonkeyPatch) -> Database:
    monkeypatch.setattr(closing_runs.sign_in_service, "actor_for", lambda *_: MSP)
    monkeypatch.setattr(closing_runs, "TOLD_EVERY", 0.0)
    return books


def test_closing_goes_on_by_itself_and_numbers_once(working: Database) -> None:
    run = begin(working)
    with pytest.raises(Refused, match="is being closed already"):
        begin(working)
    assert working.run(closing_runs.under_way) == [run]
    for _ in range(2):
        closing_runs.work(working, *run)
    assert state(working) == "done 2 2026-00002" and working.run(closing_runs.under_way) == []
    with pytest.raises(Refused, match="is not being closed"):
        working.run(closing_runs.stop, MSP, "MSP", "2026-01")


def test_what_is_stopped_numbers_nothing_until_it_is_taken_up_again(working: Database) -> None:
    run, asked = begin(working), []

    def going_on() -> bool:
        """Somebody stops it while it goes through the buyers."""
        asked.append(len(asked))
        if len(asked) == 2:
            working.run(closing_runs.stop, MSP, "MSP", "2026-01")
        return True

    closing_runs.work(working, *run, going_on)
    assert state(working) == "stopped 0"
    with working.engine.connect() as connection:
        assert connection.scalar(sa.text("SELECT COUNT(*) FROM closed_statements")) == 0
    closing_runs.work(working, *run)
    assert state(working) == "stopped 0", "nobody works at what is stopped"
    closing_runs.work(working, *working.run(closing_runs.resume, MSP, "MSP", "2026-01"))
    assert state(working) == "done 2 2026-00002"


def test_a_server_that_is_told_to_stop_leaves_it_to_the_next(working: Database) -> None:
    run = begin(working)
    closing_runs.work(working, *run, lambda: False)
    assert working.run(closing_runs.under_way) == [run] and state(working) == "running 0"
    working.run(lambda tx: closing_runs._take(tx, *run))  # a server takes it, and is gone
    closing_runs.work(working, *run)
    assert state(working) == "running 0"
    working.clock.shift += closing_runs.HELD * 2
    closing_runs.work(working, *run)
    assert state(working) == "done 2 2026-00002"


def test_a_month_that_changed_since_it_was_looked_at_is_not_closed(
    working: Database, later: Callable[[str, str], None]
) -> None:
    run = begin(working)
    later("storage", "account,product,category,at,bytes\nTERN-A,DISK,files,2026-01-05T00:00:00+00:00,200000000000\n")
    closing_runs.work(working, *run)
    assert state(working) == "refused 0"
    closing_runs.work(working, *begin(working))
    assert state(working) == "done 2 2026-00002"


TAMPERED = [
    ("UPDATE closed_statements SET total = total + 1 WHERE number = 2", "statement total"),
    ("UPDATE closed_lines SET amount = amount + 1 WHERE place = 0", "statement lines"),
    ("UPDATE closed_statements SET hash = REVERSE(hash)", "closed statement"),
    ("UPDATE closed_periods SET hash = REVERSE(hash)", "closed month"),
    ("UPDATE closed_statements SET number = 7 WHERE number = 2", "statement numbers"),
]


@pytest.mark.parametrize(("harm", "what"), TAMPERED, ids=[case[1] for case in TAMPERED])
def test_verify_finds_what_was_tampered_with(books: Database, harm: str, what: str) -> None:
    close(books, "MSP", "2026-01")
    with books.engine.begin() as connection:
        connection.execute(sa.text(harm))
    assert what in {each[0] for each in books.snapshot(statements.verify, COMMAND_LINE)}


def test_a_month_is_compared_with_any_other_and_the_groups_add_up(books: Database, tmp_path: Path) -> None:
    changes = {
        "rates": "seller,buyer,product,first_day,basis\nMSP,,MAIL,2026-03-01,held\n",
        "rate_tiers": "seller,buyer,product,first_day,from_quantity,unit_price\nMSP,,MAIL,2026-03-01,0,6\n",
        "storage": "account,product,category,at,bytes\nTERN-A,DISK,media,2026-02-01T00:00:00+00:00,20000000000\n",
    }
    bring_in(books, tmp_path / "changes", changes)
    view = books.snapshot(views.statement_view, COMMAND_LINE, "TERN", "2026-03", True, "2026-01")
    [sheet] = statement_body(view, "2026-03").sheets
    told = {each.product: (each.before, each.by_use, each.by_price) for each in sheet.lines}
    assert told == {"DISK": ("50.00", "10.00", "0.00"), "MAIL": ("50.00", "0.00", "10.00")}
    groups = ("use", "price", "new", "ended", "charges", "discounts", "adjustments", "tax")
    total = sum(Decimal(getattr(sheet, f"by_{each}")) for each in groups)
    assert total == Decimal(sheet.total) - Decimal(sheet.before)
    with pytest.raises(Refused, match="is no month"):
        books.snapshot(views.statement_view, COMMAND_LINE, "TERN", "2026-03", True, "January")
