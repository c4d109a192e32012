"""Bad intakes: every fault with its place and what would be right, the same whichever way it comes; nothing changed."""

from __future__ import annotations

import csv
import io
import json
import zipfile
from collections.abc import Callable, Iterator
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest
import sqlalchemy as sa
from openpyxl import Workbook, load_workbook

from fair_ladle.app.data_import import usecases as data_import
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.prices import usecases as prices
from fair_ladle.connectors import sheets_in, sheets_out
from fair_ladle.connectors.sheets_in import Fault, Unreadable, read_source
from fair_ladle.connectors.sheets_out import Cell, Totals, as_csv, as_xlsx, print_parts, xlsx_parts
from tests.conftest import actor_of

GOOD = {
    "accounts": "code,parent,kind,name,currency,time_zone,admin_email,billing_email\nMSP,,operator,Msp,EUR,Europe/Lisbon,,\nTERN,MSP,client,Tern,,,,\nTERN-A,TERN,sub-account,Lettings,,,,\n",
    "products": "code,name,vendor,measure,unit,family,requires,components,successor\nMAIL,Mail,V,seat,seat,,,,\nDISK,Disk,V,storage,GB,,,,\n",
    "lots": "reference,owner,product,quantity,first_day,last_day,unit_cost,currency,true_up,overcommit\nPO-1,MSP,MAIL,10,2026-01-01,,2.40,EUR,,\nPO-2,MSP,DISK,1.5,2026-01-01,,0.1,EUR,,150\n",
    "allocations": "account,product,reserve,cap,at_cap,burst,grace_days,first_day,last_day\nTERN,MAIL,2,5,block,,,2026-01-01,\n",
    "people": "account,username,display_name,email,status,invited_at,last_seen_at,title,department,protected\nTERN-A,ada,Ada,ada@tern.example,active,,,,,\n",
    "groups": 'account,code,name,rule,members,precedence\nTERN,LEADS,Leads,"title eq ""Manager""",CREW;ada,10\nTERN,CREW,Crew,,ada,20\n',
    "assignments": "account,product,subject,from,to\nTERN-A,MAIL,ada,2026-02-01T00:00:00+00:00,\n",
    "storage": "account,product,category,at,bytes\nTERN-A,DISK,mail,2026-02-01T00:00:00+00:00,1000\n",
    "rates": "seller,buyer,product,first_day,basis,aggregate,tier_mode,included,overage_price,minimum,fixed_fee,currency\nMSP,,MAIL,2026-01-01,held,average,graduated,,,,,\n",
    "rate_tiers": "seller,buyer,product,first_day,from_quantity,unit_price\nMSP,,MAIL,2026-01-01,0,3.9\n",
    "charges": "seller,buyer,reference,description,tax_class,quantity,unit_price,currency,first_day,last_day,every,fees\nMSP,TERN,SETUP,Set-up,standard,,250,,2026-02-10,,once,\n",
    "discounts": "seller,buyer,reference,product,percent,first_day,last_day,ceiling,currency\nMSP,TERN,WELCOME,MAIL,10,2026-02-01,2026-04-30,99.5,\n",
    "credits": "seller,buyer,reference,amount,currency,first_day,last_day\nMSP,TERN,OUTAGE,12.5,EUR,2026-02-01,\n",
    "tax_rates": "seller,tax_class,first_day,percent\nMSP,standard,2026-01-01,23\n",
    "exchange_rates": "day,from,to,rate\n2026-01-01,EUR,USD,1.08\n",
}

# what is wrong, the table, what is replaced by what, where (row, column), and what is said
FAULTS = [
    ("a wrong column", "allocations", ("grace_days", "grace"), (1, "grace"), "an unknown column"),
    ("a column missing", "assignments", (",subject", ""), (1, "subject"), "a column missing"),
    ("an unknown account", "assignments", ("TERN-A,", "TERN-B,"), (2, "account"), "TERN-B"),
    ("an unknown product", "lots", ("MSP,DISK", "MSP,DISC"), (3, "product"), "DISC"),
    ("a cycle in the tree", "accounts", ("TERN,MSP", "TERN,TERN-A"), (4, "parent"), "TERN under TERN-A under TERN"),
    ("two operators", "accounts", ("TERN,MSP,client", "TERN,,operator"), (3, "kind"), "TERN"),
    ("a cap under its reserve", "allocations", (",2,5,", ",6,5,"), (2, "cap"), "5"),
    (
        "overlapping versions",
        "allocations",
        ("2026-01-01,\n", "2026-01-01,\nTERN,MAIL,0,9,block,,,2026-03-01,\n"),
        (3, "first_day"),
        "2026-03-01",
    ),
    *(
        (
            what,
            "allocations",
            ("first_day,last_day\nTERN,MAIL,2,5,block,,,2026-01-01,", f"first_day,last_day,per,each\nTERN,{rest}"),
            (2, column),
            said,
        )
        for what, rest, column, said in (
            ("seats that a cap of seats follows", "MAIL,2,5,block,,,2026-01-01,,MAIL,1", "per", "MAIL"),
            ("a cap that follows storage", "DISK,0,1,block,,,2026-01-01,,DISK,1", "per", "DISK"),
            ("so much each of nothing", "DISK,0,1,block,,,2026-01-01,,,1", "per", "nothing"),
            ("seats that bring nothing said", "DISK,0,1,block,,,2026-01-01,,MAIL,", "each", "nothing"),
            ("a reserve over the cap without seats", "DISK,1,,block,,,2026-01-01,,MAIL,1", "cap", "nothing"),
            ("seats of a product that is not there", "DISK,0,1,block,,,2026-01-01,,NONE,1", "per", "NONE"),
        )
    ),
    ("a negative quantity", "lots", ("MAIL,10", "MAIL,-10"), (2, "quantity"), "-10"),
    ("half a seat", "lots", ("MAIL,10", "MAIL,10.5"), (2, "quantity"), "10.5"),
    ("more than there can be", "lots", ("MAIL,10", "MAIL,1000000000000"), (2, "quantity"), "1000000000000"),
    ("a date that is none", "lots", ("10,2026-01-01", "10,2026-02-30"), (2, "first_day"), "2026-02-30"),
    ("an instant without offset", "assignments", ("+00:00", ""), (2, "from"), "2026-02-01T00:00:00"),
    (
        "two products of a family that succeed each other",
        "products",
        ("MAIL,Mail,V,seat,seat,,,,\n", "MAIL,Mail,V,seat,seat,F,,,MAX\nMAX,Max,V,seat,seat,F,,,MAIL\n"),
        (2, "successor"),
        "MAX",
    ),
    ("a currency that is none", "lots", ("2.40,EUR", "2.40,EURO"), (2, "currency"), "EURO"),
    ("a currency without a minor unit", "credits", ("12.5,EUR", "12.5,XAU"), (2, "currency"), "XAU"),
    ("a charge below nothing", "charges", (",250,", ",-250,"), (2, "unit_price"), "-250"),
    ("a charge to somebody else's buyer", "charges", ("MSP,TERN,", "TERN,TERN,"), (2, "buyer"), "TERN"),
    ("a charge from no day", "charges", ("2026-02-10", ""), (2, "first_day"), "nothing"),
    ("more than all off", "discounts", ("MAIL,10,", "MAIL,100.5,"), (2, "percent"), "100.5"),
    ("a discount that ends before it begins", "discounts", ("2026-04-30", "2026-01-31"), (2, "last_day"), "2026-01-31"),
    ("a ceiling finer than a cent", "discounts", ("99.5", "99.555"), (2, "ceiling"), "99.555"),
    ("a credit finer than a yen", "credits", ("12.5,EUR", "12.5,JPY"), (2, "amount"), "12.5"),
    ("one percentage twice", "tax_rates", (",23\n", ",23\nMSP,standard,2026-01-01,21\n"), (3, None), "standard"),
    ("a currency worth nothing", "exchange_rates", ("1.08", "0"), (2, "rate"), "0"),
    ("a currency against itself", "exchange_rates", ("EUR,USD", "EUR,EUR"), (2, "to"), "EUR"),
    (
        "a markup beside tiers",
        "rates",
        (
            "fixed_fee,currency\nMSP,,MAIL,2026-01-01,held,average,graduated,,,,,\n",
            "fixed_fee,currency,markup\nMSP,,MAIL,2026-01-01,held,average,,,,,,,15\n",
        ),
        (2, None),
        "tiers of a markup",
    ),
    (
        "something included in a markup",
        "rates",
        (
            "fixed_fee,currency\nMSP,,MAIL,2026-01-01,held,average,graduated,,,,,\n",
            "fixed_fee,currency,markup\nMSP,,MAIL,2026-01-01,held,average,,5,,,,,15\n",
        ),
        (2, "included"),
        "5",
    ),
    (
        "a bank account mistyped",
        "accounts",
        (
            "billing_email\nMSP,,operator,Msp,EUR,Europe/Lisbon,,\nTERN,MSP,client,Tern,,,,\nTERN-A,TERN,sub-account,Lettings,,,,\n",
            "billing_email,iban\nMSP,,operator,Msp,EUR,Europe/Lisbon,,,PT50000201231234567890155\nTERN,MSP,client,Tern,,,,,\nTERN-A,TERN,sub-account,Lettings,,,,,\n",
        ),
        (2, "iban"),
        "PT50000201231234567890155",
    ),
    ("overcommitted seats", "lots", ("EUR,,\n", "EUR,,120\n"), (2, "overcommit"), "120"),
    ("bytes of seats", "storage", ("DISK", "MAIL"), (2, "product"), "MAIL"),
    ("assigned storage", "assignments", ("MAIL", "DISK"), (2, "product"), "DISK"),
    (
        "an end before the beginning",
        "assignments",
        ("+00:00,", "+00:00,2026-01-01T00:00:00+00:00"),
        (2, "to"),
        "2026-01-01",
    ),
    (
        "a last day before the first",
        "allocations",
        ("2026-01-01,\n", "2026-01-01,2025-12-31\n"),
        (2, "last_day"),
        "2025-12-31",
    ),
    ("a reserve of who owns the pool", "allocations", ("TERN,MAIL", "MSP,MAIL"), (2, "reserve"), "2"),
    ("grace without its days", "allocations", ("block", "grace"), (2, "grace_days"), "nothing"),
    ("a rate without tiers", "rate_tiers", ("2026-01-01", "2026-01-02"), (2, None), "no tiers"),
    ("tiers that do not begin at 0", "rate_tiers", (",0,3.9", ",5,3.9"), (2, "from_quantity"), "5"),
    ("one account twice", "accounts", ("TERN-A,TERN", "TERN,TERN"), (4, None), "TERN again"),
    ("no pool upwards", "lots", ("PO-1,MSP", "PO-1,TERN-A"), (2, "product"), "MAIL"),
    ("a cell too many", "storage", (",1000", ",1000,7"), (2, None), "6 cells"),
    ("a rule that is no filter", "groups", ("title eq ", "title is "), (2, "rule"), "title is "),
    ("a rule on what people do not have", "groups", ("title eq", "shoes eq"), (2, "rule"), "shoes eq"),
    ("a group inside itself", "groups", ("Crew,,ada", "Crew,,LEADS"), (2, "members"), "CREW;ada"),
    ("a username that is kept for seats set aside", "people", (",ada,", ",aside:ada,"), (2, "username"), "aside:ada"),
    ("a time zone that is none", "accounts", ("Europe/Lisbon", "Europe/Lisboa"), (2, "time_zone"), "Europe/Lisboa"),
]


def as_folder(files: dict[str, str], path: Path) -> Path:
    path.mkdir()
    for name, text in files.items():
        (path / f"{name}.csv").write_text(text, encoding="utf-8")
    return path


def as_zip(files: dict[str, str], path: Path) -> Path:
    with zipfile.ZipFile(path.with_suffix(".zip"), "w") as archive:
        for name, text in files.items():
            archive.writestr(f"intake/{name}.csv", text)
    return path.with_suffix(".zip")


def as_workbook(files: dict[str, str], path: Path) -> Path:
    workbook = Workbook()
    workbook.remove(workbook.active)
    for name, text in files.items():
        sheet = workbook.create_sheet(name)
        for row in csv.reader(io.StringIO(text)):
            sheet.append([int(cell) if cell.isdigit() else cell or None for cell in row])
    workbook.save(path.with_suffix(".xlsx"))
    return path.with_suffix(".xlsx")


WAYS: list[Callable[[dict[str, str], Path], Path]] = [as_folder, as_zip, as_workbook]


@pytest.fixture(scope="module")
def empty(new_database: Callable[[], Database]) -> Database:
    return new_database()


def faults_of(database: Database, path: Path) -> list[Fault]:
    with pytest.raises((data_import.FaultyIntake, Unreadable)) as caught:
        database.run(data_import.load, COMMAND_LINE, read_source(path))
    with database.engine.connect() as connection:
        assert connection.scalar(sa.text("SELECT COUNT(*) FROM accounts")) == 0
    return list(caught.value.faults)


@pytest.mark.parametrize(("what", "table", "change", "place", "found"), FAULTS, ids=[case[0] for case in FAULTS])
def test_a_fault_is_told_with_its_place(
    empty: Database,
    tmp_path: Path,
    what: str,
    table: str,
    change: tuple[str, str],
    place: tuple[int, str | None],
    found: str,
) -> None:
    files = GOOD | {table: GOOD[table].replace(*change, 1)}
    assert files[table] != GOOD[table]
    ways = WAYS if what != "a cell too many" else WAYS[:2]
    told = [faults_of(empty, way(files, tmp_path / way.__name__)) for way in ways]
    assert any((fault.row, fault.column) == place and found in fault.found and fault.expected for fault in told[0]), (
        told[0]
    )
    assert told.count(told[0]) == len(told), "the same faults whichever way it comes"


def test_all_faults_are_told_at_once(empty: Database, tmp_path: Path) -> None:
    files = GOOD | {
        "lots": GOOD["lots"].replace("MAIL,10", "MAIL,-1"),
        "assignments": GOOD["assignments"].replace("TERN-A", "NOWHERE"),
        "rates": "\xff\xfe",
    }
    folder = as_folder({name: text for name, text in files.items() if name != "rates"}, tmp_path / "bad")
    (folder / "rates.csv").write_bytes(GOOD["rates"].encode("utf-16"))
    assert {(fault.file, fault.row) for fault in faults_of(empty, folder)} == {
        ("lots.csv", 2),
        ("assignments.csv", 2),
        ("rates.csv", 1),
    }


def test_an_archive_that_unpacks_to_too_much(empty: Database, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(sheets_in, "MOST_UNPACKED", 10**6)
    bomb = tmp_path / "bomb.zip"
    with zipfile.ZipFile(bomb, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("accounts.csv", "0" * (2 * 10**6))
    assert bomb.stat().st_size < 10_000
    assert "unpacks to" in faults_of(empty, bomb)[0].found


@pytest.mark.parametrize("trick", ["formula", "entity", "not a workbook"])
def test_a_workbook_of_more_than_values(empty: Database, tmp_path: Path, trick: str) -> None:
    path = as_workbook(GOOD, tmp_path / "book")
    if trick == "formula":
        workbook = load_workbook(path)
        workbook["lots"]["D2"] = "=1+1"
        workbook.save(path)
        assert faults_of(empty, path) == [Fault("lots.csv", 2, "D", "a formula", "the value itself, no formula")]
        return
    if trick == "not a workbook":
        path.write_bytes(b"PK\x03\x04 nothing of the kind")
        assert faults_of(empty, path)[0].found == "another kind of file"
        return
    tricky = tmp_path / "tricky.xlsx"
    with zipfile.ZipFile(path) as source, zipfile.ZipFile(tricky, "w") as target:
        for name in source.namelist():
            content = source.read(name)
            if name == "xl/workbook.xml":
                head = b'<!DOCTYPE x [<!ENTITY e SYSTEM "file:///etc/passwd">]>'
                content = content.replace(b"<workbook", head + b"<workbook", 1)
            target.writestr(name, content)
    assert "declarations" in faults_of(empty, tricky)[0].found


@pytest.mark.parametrize("way", WAYS)
def test_a_good_intake_loads_once_and_a_changed_one_says_what_changed(
    database: Database, tmp_path: Path, way: Callable[[dict[str, str], Path], Path]
) -> None:
    first = database.run(data_import.load, COMMAND_LINE, read_source(way(GOOD, tmp_path / "a"))).tables
    assert {name: merged.created for name, merged in first.items()} == {
        "accounts": 3,
        "products": 2,
        "lots": 2,
        "allocations": 1,
        "people": 1,
        "groups": 2,
        "assignments": 1,
        "storage": 1,
        "rates": 1,
        "rate_tiers": 1,
        **dict.fromkeys(("charges", "discounts", "credits", "tax_rates", "exchange_rates"), 1),
    }
    changed = GOOD | {
        "allocations": GOOD["allocations"].replace(",2,5,", ",2,6,"),
        "rate_tiers": GOOD["rate_tiers"].replace("3.9", "4"),
    }
    second = database.run(data_import.load, COMMAND_LINE, read_source(way(changed, tmp_path / "b"))).tables
    assert {name for name, merged in second.items() if merged.changed} == {"allocations", "rate_tiers"}
    assert not any(merged.created for merged in second.values())


def test_an_intake_of_some_hundreds_of_accounts_loads(database: Database, tmp_path: Path) -> None:
    more = "".join(f"TERN-{n},TERN,sub-account,Branch {n},,,,\n" for n in range(300))
    folder = as_folder(GOOD | {"accounts": GOOD["accounts"] + more}, tmp_path / "many")
    assert database.run(data_import.load, COMMAND_LINE, read_source(folder)).tables["accounts"].created == 303
    with database.engine.connect() as connection:
        inside = "path LIKE CONCAT((SELECT path FROM accounts WHERE code = 'TERN'), '%')"
        assert connection.scalar(sa.text(f"SELECT COUNT(*) FROM accounts WHERE {inside}")) == 302


def test_a_price_of_what_no_buyer_can_draw_is_remarked(database: Database, tmp_path: Path) -> None:
    rates = (
        GOOD["rates"]
        + "TERN,,DISK,2026-01-01,held,average,graduated,,,,,\nTERN,,MAIL,2026-01-01,held,average,graduated,,,,,\n"
    )
    tiers = GOOD["rate_tiers"] + "TERN,,DISK,2026-01-01,0,1\nTERN,,MAIL,2026-01-01,0,5\n"
    lots = GOOD["lots"].replace("PO-2,MSP,DISK", "PO-2,TERN-A,DISK")
    folder = as_folder(GOOD | {"rates": rates, "rate_tiers": tiers, "lots": lots}, tmp_path / "undrawn")
    loaded = database.run(data_import.load, COMMAND_LINE, read_source(folder))
    assert [(each.row, each.found, each.expected) for each in loaded.remarks] == [
        (3, "DISK", "a pool at TERN or above it; without one no buyer can draw it, and nobody is charged")
    ]
    seen = database.snapshot(prices.prices, COMMAND_LINE, "TERN")
    assert [each.code for each in seen.products if each.id in seen.drawn] == ["MAIL"]


def test_breaches_in_the_data_are_no_faults(database: Database, tmp_path: Path) -> None:
    many = "".join(f"TERN-A,MAIL,p{n},2026-02-01T00:00:00+00:00,\n" for n in range(30))
    files = GOOD | {"assignments": GOOD["assignments"] + many}
    database.run(data_import.load, COMMAND_LINE, read_source(as_folder(files, tmp_path / "full")))


def test_only_the_operator_brings_intakes_in(shared_demo: Database, tmp_path: Path) -> None:
    with pytest.raises(Refused, match="Only the operator"):
        shared_demo.run(data_import.load, actor_of("TERN"), read_source(as_folder(GOOD, tmp_path / "x")))


def test_a_long_table_goes_on_in_the_next_sheet_and_comes_row_by_row(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(sheets_out, "MOST_ROWS", 4)
    monkeypatch.setattr(sheets_out, "ROWS_AT_ONCE", 2)
    asked: list[int] = []

    def rows() -> Iterator[list[int]]:
        for number in range(9):
            asked.append(number)
            yield [number]

    parts = xlsx_parts("people", ["number"], rows())
    assert next(parts) == b"" and asked == [0, 1], "whoever waits is looked for meanwhile"
    workbook = load_workbook(io.BytesIO(b"".join(parts)))
    assert workbook.sheetnames == ["people", "people 2", "people 3"]
    told = [[row[0].value for row in sheet.iter_rows()] for sheet in workbook]
    assert told == [["number", 0, 1, 2, 3], ["number", 4, 5, 6, 7], ["number", 8]]
    assert load_workbook(io.BytesIO(as_xlsx("none", ["number"], []))).active["A1"].value == "number"


def test_totals_are_formulas_that_say_what_they_come_to() -> None:
    rows = [["MAIL", None, Decimal("10.10"), "EUR"], ["MAIL", "A", Decimal("10.10"), "EUR"], ["DISK", None, 2, "USD"]]
    made = as_xlsx("t", ["product", "account", "amount", "currency"], rows, Totals(("amount",), "currency", "account"))
    shown = [
        list(workbook.active.values) for workbook in (load_workbook(io.BytesIO(made), data_only=d) for d in (0, 1))
    ]
    assert [row[2] for row in shown[1][4:]] == [10.10, 2]
    assert shown[0][4][:3] == ("Total EUR", None, '=SUMIFS($C$2:$C$4,$D$2:$D$4,"EUR",$B$2:$B$4,"=")')


def test_what_is_printed_tells_figures_from_text_and_ends(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(sheets_out, "MOST_PRINTED", 4)
    monkeypatch.setattr(sheets_out, "ROWS_AT_ONCE", 2)
    columns, totals = ["number", "name", "amount", "currency"], Totals(("amount",), "currency")

    def printed(count: int) -> dict[str, Any]:
        rows: list[list[Cell]] = [["007", '="x', Decimal("10.10"), "EUR"] for _ in range(count)]
        found: dict[str, Any] = json.loads(b"".join(print_parts(columns, rows, totals)))
        return found

    row = ["007", '="x', {"figure": "10.10"}, "EUR"]
    total = ["Total EUR", None, {"figure": "40.40"}, None]
    assert printed(4) == {"columns": columns, "rows": [row] * 4, "totals": [total], "more": False}
    assert printed(3)["rows"] == [row] * 3 and printed(0)["rows"] == printed(0)["totals"] == []
    assert printed(5) == {"columns": columns, "rows": [row] * 4, "totals": [], "more": True}, "and no total of some"


def test_nothing_written_runs_as_a_formula() -> None:
    rows = [["=1+1", "@x", "-2", None, 5]]
    assert as_csv(["a", "b", "c", "d", "e"], rows).decode().splitlines()[1] == "'=1+1,'@x,'-2,,5"
    cells = load_workbook(io.BytesIO(as_xlsx("t", ["a", "b", "c", "d", "e"], rows))).active[2]
    assert [(cell.value, cell.data_type) for cell in cells[:3]] == [("=1+1", "s"), ("@x", "s"), ("-2", "s")]
