"""What becomes of closed statements: sent once, paid, reminded of, asked about; and what each side is told of it."""

from __future__ import annotations

import threading
from dataclasses import replace
from datetime import date, timedelta
from decimal import Decimal
from email import message_from_bytes, policy
from ipaddress import ip_network
from pathlib import Path

import pytest
import sqlalchemy as sa

from fair_ladle.app.plumbing import outbox
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.receivables import billing_details, listing, payments, questions, sending
from fair_ladle.app.receivables.billing_details import Contact
from fair_ladle.app.receivables.payments import Paid
from fair_ladle.app.statements.documents import closed_document
from fair_ladle.connectors.mail import Smtp, StandIn
from fair_ladle.connectors.pdf_out import statement_pdf
from fair_ladle.connectors.sheets_in import read_table
from tests.app.test_closing import books, bring_in, close, later, rows  # noqa: F401
from tests.conftest import actor_of

TERN = "2026-00002"
"""TERN's statement of January: 0.00, its outage credit pays for it; NORTH's 2026-00001 comes to 30.75."""
NORTH = "2026-00001"


@pytest.fixture
def closed(books: Database, tmp_path: Path) -> Database:  # noqa: F811
    """January and February of MSP are closed; NORTH pays within ten days."""
    bring_in(
        books,
        tmp_path / "terms",
        {
            "accounts": "code,parent,kind,name,billing_email,payment_days\nNORTH,MSP,reseller,North,bills@north.example,10\n"
        },
    )
    for month in ("2026-01", "2026-02"):
        close(books, "MSP", month)
    return books


def state(database: Database, number: str) -> tuple[str, str, str]:
    window = database.snapshot(listing.receivables, COMMAND_LINE, "MSP", None, None, number)
    [row] = window.rows
    return row.state, f"{row.open:f}", row.mailed.state if row.mailed else "unsent"


def test_statements_go_to_who_wants_them_with_pdf_and_csv(closed: Database, tmp_path: Path) -> None:
    clerk = Contact("clerk@north.example", False, True, False)
    there = closed.snapshot(billing_details.billing, actor_of("NORTH"), "NORTH")
    closed.run(billing_details.change, actor_of("NORTH"), "NORTH", there.details, [clerk])
    sent = closed.run(sending.send, actor_of("MSP"), "MSP", None, "2026-01")
    assert (sent.statements, sent.mails, sent.without_contact) == (2, 3, [])
    assert state(closed, NORTH)[2] == "waiting"
    stand_in = StandIn(tmp_path / "mail")
    try:
        smtp = Smtp(stand_in.start(), "us@x.example", (ip_network("127.0.0.1"),))
        assert outbox.send(closed, smtp.deliver, bulk=False) == 0, "other mail does not wait for documents"
        assert outbox.send(closed, smtp.deliver, enclose=sending.enclosures) == 3
    finally:
        stand_in.stop()
    mails = [message_from_bytes(file.read_bytes(), policy=policy.default) for file in (tmp_path / "mail").glob("*.eml")]
    enclosed = {str(each["To"]): sorted(part.get_filename() for part in each.iter_attachments()) for each in mails}
    assert enclosed == {
        "bills@north.example": [f"statement-{NORTH}.csv", f"statement-{NORTH}.pdf"],
        "clerk@north.example": [f"statement-{NORTH}.csv"],
        "bills@tern.example": [f"statement-{TERN}.csv", f"statement-{TERN}.pdf"],
    }
    [north] = [each for each in mails if each["To"] == "clerk@north.example"]
    assert "30.75 EUR, due 15 Apr 2026" in north.get_body(("plain",)).get_content()
    table = next(north.iter_attachments()).get_content()
    assert "Msp,NORTH,MAIL,,held,5.000000,0.000000,25.00,EUR,usage,2026-00001" in table and "MSP" not in table
    assert state(closed, NORTH)[2] == "sent"
    again = closed.run(sending.send, actor_of("MSP"), "MSP", None, "2026-01")
    assert again.mails == 0, "what was sent is not sent again by itself"
    assert closed.run(sending.send, actor_of("MSP"), "MSP", [TERN], None).mails == 1, "unless it is asked for"
    closed.run(outbox.forget, "bills@north.example")
    [life] = closed.snapshot(listing.lives, actor_of("MSP"), "NORTH", "2026-01")
    assert {each.to_address for each in life.mails} == {"a person who was erased", "clerk@north.example"}


DETAILS = [
    ({"country": "Portugal"}, "ISO 3166"),
    ({"iban": "PT50 0002 0123 1234 5678 9015 5"}, "check digits"),
    ({"tax": "exempt"}, "Say why it is exempt"),
    ({"street": "Quay\n1"}, "no line breaks"),
]


@pytest.mark.parametrize(("wrong", "says"), DETAILS, ids=[next(iter(case[0])) for case in DETAILS])
def test_billing_details_are_checked(closed: Database, wrong: dict[str, str], says: str) -> None:
    there = closed.snapshot(billing_details.billing, actor_of("MSP"), "NORTH").details
    with pytest.raises(Refused, match=says):
        closed.run(billing_details.change, actor_of("MSP"), "NORTH", replace(there, **wrong), [])


def test_a_buyer_changes_its_address_and_not_its_terms(closed: Database) -> None:
    north, msp = actor_of("NORTH"), actor_of("MSP")
    there = closed.snapshot(billing_details.billing, north, "NORTH")
    assert (there.details.payment_days, there.sets_terms) == (10, False)
    closed.run(billing_details.change, north, "NORTH", replace(there.details, street="Quay 2"), [])
    with pytest.raises(Refused, match="set by the account that sells"):
        closed.run(billing_details.change, north, "NORTH", replace(there.details, tax="reverse_charge"), [])
    exempt = replace(there.details, tax="exempt", exemption_reason="A school")
    closed.run(billing_details.change, msp, "NORTH", exempt, [])
    assert rows(closed, "NORTH", "2026-03") == {"usage MAIL": "25.00", "tax exempt": "0.00"}


def test_two_who_send_at_once_send_it_once(closed: Database) -> None:
    begun, sent = threading.Event(), []

    def second() -> None:
        begun.set()
        sent.append(closed.run(sending.send, actor_of("MSP"), "MSP", None, None).mails)

    other = threading.Thread(target=second)
    with closed.transaction() as tx:
        sent.append(sending.send(tx, actor_of("MSP"), "MSP", None, None).mails)
        other.start()
        begun.wait()
        other.join(0.3)
        assert other.is_alive(), "it waits for the seller's desk"
    other.join()
    assert sent == [4, 0]


def test_a_closed_statement_is_the_same_document_whatever_changes(closed: Database, tmp_path: Path) -> None:
    def pdf() -> bytes:
        window = closed.snapshot(listing.receivables, COMMAND_LINE, "MSP", None, None, NORTH)
        return statement_pdf([closed.snapshot(closed_document, window.rows[0].statement_id)[1]])

    before = pdf()
    bring_in(
        closed,
        tmp_path / "moved",
        {"accounts": "code,parent,kind,name,street,payment_days\nNORTH,MSP,reseller,North Ltd,Quay 1,30\n"},
    )
    close(closed, "MSP", "2026-03")
    assert pdf() == before


def test_what_is_paid_settles_and_can_be_withdrawn(closed: Database) -> None:
    msp, day = actor_of("MSP"), date(2026, 4, 5)
    assert state(closed, NORTH)[:2] == ("open", "30.75")
    assert state(closed, TERN)[:2] == ("nothing", "0.00")
    closed.run(payments.record, msp, "MSP", [Paid(NORTH, Decimal("10.75"), day, "first part")])
    assert state(closed, NORTH)[:2] == ("open", "20.00")
    closed.clock.shift += timedelta(days=11)
    assert state(closed, NORTH)[0] == "overdue"
    closed.run(payments.record, msp, "MSP", [Paid(NORTH, Decimal("20"), day, "rest")])
    assert state(closed, NORTH)[:2] == ("paid", "0.00")
    [life] = closed.snapshot(listing.lives, msp, "NORTH", "2026-01")
    closed.run(payments.withdraw, msp, "MSP", NORTH, life.payments[1].payment_id)
    assert state(closed, NORTH)[:2] == ("overdue", "20.00")
    with pytest.raises(Refused, match="withdrawn this payment already"):
        closed.run(payments.withdraw, msp, "MSP", NORTH, life.payments[1].payment_id)
    assert closed.snapshot(payments.verify, COMMAND_LINE) == []
    with closed.engine.begin() as connection:
        connection.execute(sa.text("UPDATE payments SET amount = 10.76 WHERE note = 'first part'"))
    assert closed.snapshot(payments.verify, COMMAND_LINE) == [
        ("payments of a statement", f"MSP {NORTH}", "10.7500000000", "10.7600000000")
    ]


REFUSED = [
    ("nothing", NORTH, "0", date(2026, 4, 1), "other than 0"),
    ("half a cent", NORTH, "1.005", date(2026, 4, 1), "at most 2 decimals"),
    ("a day to come", NORTH, "1", date(2026, 4, 6), "to today"),
    ("a day before the month", NORTH, "1", date(2025, 12, 31), "to today"),
    ("money for what owes none", TERN, "1", date(2026, 4, 1), "Nothing is owed"),
    ("money given back for no credit note", NORTH, "-1", date(2026, 4, 1), "takes what was paid"),
    ("a statement that is not there", "2026-00099", "1", date(2026, 4, 1), "2026-00099"),
    ("no number", "Quay", "1", date(2026, 4, 1), "is no statement's number"),
]


@pytest.mark.parametrize(("what", "number", "amount", "day", "says"), REFUSED, ids=[case[0] for case in REFUSED])
def test_payments_are_all_recorded_or_none(
    closed: Database, what: str, number: str, amount: str, day: date, says: str
) -> None:
    good = Paid(NORTH, Decimal("1"), date(2026, 4, 1), "")
    with pytest.raises(Refused, match=says):
        closed.run(payments.record, actor_of("MSP"), "MSP", [good, Paid(number, Decimal(amount), day, "")])
    assert state(closed, NORTH)[1] == "30.75"


BANK = """Date;Amount;Currency;Text
01.04.2026;30,75;EUR;Thanks, 2026-00001
02.04.2026;30,75;EUR;invoice 2026/00001 once more
02.04.2026;20,00;EUR;no. 202600003
03.04.2026;30,75;EUR;2026-00001 and 2026-00003
03.04.2026;30,75;USD;2026-00003
03.04.2026;12,00;EUR;Rent
03.04.2026;30,75;EUR;January
soon;30,75;EUR;2026-00003
04.04.2026;much;EUR;2026-00003
"""


def test_a_bank_file_is_held_against_what_is_open(closed: Database) -> None:
    def read() -> payments.BankFile:
        return closed.snapshot(payments.match, actor_of("MSP"), "MSP", read_table("april.csv", BANK.encode()), {})

    found = read()
    assert [each.state for each in found.lines] == (
        ["fits", "differs", "differs", "several", "other", "other", "maybe", "fault", "fault"]
    )
    assert [each.says for each in found.lines][1:3] == [
        "Another line of this file pays 2026-00001.",
        "30.75 EUR is open.",
    ]
    line = found.lines[0]
    assert (line.amount, line.day) == (Decimal("30.75"), date(2026, 4, 1))
    assert line.amount is not None and line.day is not None
    paid = Paid(NORTH, line.amount, line.day, line.text, line.line)
    closed.run(payments.record, actor_of("MSP"), "MSP", [paid])
    assert [each.state for each in read().lines][:3] == ["known", "paid", "differs"]
    with pytest.raises(Refused, match="taken before"):
        closed.run(payments.record, actor_of("MSP"), "MSP", [paid])
    odd = closed.snapshot(payments.match, actor_of("MSP"), "MSP", read_table("odd.csv", b"a,b\n1,2\n"), {})
    assert odd.lines == [] and odd.header == ["a", "b"], "other columns: nothing is taken for what it is not"


def test_who_is_overdue_is_reminded_once_a_week(closed: Database) -> None:
    msp = actor_of("MSP")
    assert closed.run(sending.remind, msp, "MSP", None).mails == 0
    with pytest.raises(Refused, match="is not overdue"):
        closed.run(sending.remind, msp, "MSP", [NORTH])
    closed.clock.shift += timedelta(days=11)
    assert closed.run(sending.remind, msp, "MSP", None).statements == 2, "January and February of NORTH"
    assert closed.run(sending.remind, msp, "MSP", None).mails == 0
    closed.clock.shift += timedelta(days=7)
    closed.run(payments.record, msp, "MSP", [Paid(NORTH, Decimal("30.75"), date(2026, 4, 20), "")])
    assert closed.run(sending.remind, msp, "MSP", None).statements == 1


def test_a_question_is_answered_once_and_credited_in_the_next_month(closed: Database) -> None:
    north, msp = Actor("Nora", "nora@north.example", "NORTH"), actor_of("MSP")
    ask = ("NORTH", "2026-01", NORTH)
    question = closed.run(questions.ask, north, *ask, ("usage", "MAIL"), "Two of these seats were never used?")
    for line, text, says in ((("usage", "DISK"), "Why?", "no line"), (("usage", "MAIL"), " ", "Write what")):
        with pytest.raises(Refused, match=says):
            closed.run(questions.ask, north, *ask, line, text)
    with pytest.raises(Refused, match="less than that"):
        closed.run(questions.answer, msp, "MSP", question, "All of it back.", Decimal("25.01"))
    reference = closed.run(questions.answer, msp, "MSP", question, "You are right.", Decimal("10"))
    with pytest.raises(Refused, match="has answered this question already"):
        closed.run(questions.answer, msp, "MSP", question, "Once more.", Decimal("10"))
    assert rows(closed, "NORTH", "2026-03") == {
        "usage MAIL": "25.00",
        f"credit {reference}": "-10.00",
        "tax 23": "3.45",
    }
    [life] = closed.snapshot(listing.lives, north, "NORTH", "2026-01")
    [asked] = life.questions
    assert (asked.answer, asked.answered_by, asked.correction) == ("You are right.", "Msp", reference)
    assert f"{life.receivable.total:f}" == "30.75", "a closed statement stays as it is"


def test_each_side_is_told_what_is_its_own(closed: Database) -> None:
    """A buyer sees what is due, paid and asked of its own statements; nothing of others, of mails, or of who did it."""
    closed.run(sending.send, actor_of("MSP"), "MSP", None, None)
    closed.run(payments.record, actor_of("MSP"), "MSP", [Paid(NORTH, Decimal("1"), date(2026, 4, 1), "slow payer")])
    [life] = closed.snapshot(listing.lives, actor_of("NORTH"), "NORTH", "2026-01")
    assert (life.seller, life.runs_seller, life.mails) == ("Msp", False, [])
    assert [(each.note, each.by) for each in life.payments] == [("", None)]
    [life] = closed.snapshot(listing.lives, actor_of("MSP"), "NORTH", "2026-01")
    assert life.runs_seller and life.mails and life.payments[0].note == "slow payer"
    outside = actor_of("NORTH")
    for act in (
        lambda tx: listing.receivables(tx, outside, "MSP", None, None, ""),
        lambda tx: listing.lives(tx, outside, "TERN", "2026-01"),
        lambda tx: sending.send(tx, outside, "MSP", None, None),
        lambda tx: sending.remind(tx, outside, "MSP", None),
        lambda tx: billing_details.billing(tx, outside, "TERN"),
        lambda tx: payments.record(tx, outside, "MSP", [Paid(NORTH, Decimal("1"), date(2026, 4, 1), "")]),
        lambda tx: questions.answer(tx, outside, "MSP", 1, "No.", None),
        lambda tx: payments.match(tx, outside, "MSP", read_table("a.csv", BANK.encode()), {}),
    ):
        with pytest.raises(Refused, match="There is no account"):
            closed.run(act)
