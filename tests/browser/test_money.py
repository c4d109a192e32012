"""Month's end by the keyboard: a price from next month, what one pays, a month that is checked, closed and sent, what is
paid, and a disputed line that is answered and credited."""

from __future__ import annotations

import re
from datetime import date
from decimal import Decimal
from pathlib import Path

from playwright.sync_api import expect

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.pools import service as pools
from fair_ladle.app.statements import closing
from fair_ladle.app.usage import service as usage
from tests.browser.conftest import Open, press, serious_findings


def test_a_price_from_next_month(open_page: Open) -> None:
    page = open_page(at="/prices")
    press(page.get_by_role("button", name="Lantern Mail, Tern Housing Association"))
    panel = page.get_by_role("region", name="Price")
    expect(panel).to_contain_text("No price of its own; the general one applies: 3.90, 3.40 from 50")
    panel.get_by_label("Unit price of step 1", exact=True).fill("abc")
    expect(panel.get_by_role("button", name="Add to draft")).to_be_disabled()
    panel.get_by_label("Unit price of step 1", exact=True).fill("4.5")
    expect(panel.get_by_role("region", name="What it would have charged")).to_contain_text("Tern Housing Association")
    press(panel.get_by_role("button", name="Add to draft"))
    draft = page.get_by_role("region", name="Draft")
    expect(draft).to_contain_text("1 change")
    page.keyboard.press("Control+Enter")
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("from 1 Dec 2026")
    expect(dialog).to_contain_text("Tern Housing Association")
    press(dialog.get_by_role("button", name="Apply now"))
    expect(draft).to_have_count(0)
    expect(panel.get_by_role("row", name=re.compile("1 Dec 2026.*4.50"))).to_be_visible()
    expect(page.get_by_role("button", name="Lantern Mail, Tern Housing Association")).to_contain_text("another 1 Dec")


def test_what_one_pays_and_what_more_would_cost(open_page: Open) -> None:
    page = open_page("OLDQUAY", "/prices")
    row = page.get_by_role("row", name=re.compile("^Fieldbook Dispatch"))
    expect(row).to_contain_text("+144.00")
    page.get_by_label("A month with").fill("-3")
    expect(row).to_contain_text("−21.60")


STUB = """() => { window.print = () => {
  window.printed = document.querySelector('.printsheet').textContent
  window.dispatchEvent(new Event('afterprint'))
} }"""


def test_all_buyers_in_an_order_and_on_paper(open_page: Open) -> None:
    page = open_page(at="/statements?month=2026-10")
    grid = page.get_by_role("grid", name="Statements of October 2026")
    press(grid.get_by_role("button", name="Before tax, EUR"))
    first = grid.get_by_role("row").nth(1)
    expect(first).to_contain_text("Tern Housing Association")
    expect(grid.get_by_role("row").last).to_contain_text("10 buyers of Gannet & Rowe")
    press(grid.get_by_role("button", name="Buyer"))
    expect(first).to_contain_text("Bramble")
    page.evaluate(STUB)

    def printed(how: str) -> str:
        press(page.get_by_role("button", name="Export"))
        press(page.get_by_role("button", name=how, exact=True))
        page.wait_for_function("() => window.printed !== undefined")
        text: str = page.evaluate("() => [window.printed, window.printed = undefined][0]")
        return text

    without, costs = printed("Print"), printed("Print with costs")
    assert without.startswith("StatementsOctober 2026 · 13 rows · Gannet & Rowe") and "Total EUR" in without
    assert "Margin" in costs and "Margin" not in without and "Cost" not in without
    expect(page.locator(".printsheet")).to_have_count(0)
    press(page.get_by_role("button", name="Export"))
    press(page.get_by_role("button", name="Columns…"))
    dialog = page.get_by_role("dialog", name="Columns to export")
    for column in ("Seller", "Seller name", "Buyer", "Month before"):
        dialog.get_by_label(column, exact=True).uncheck()
    assert serious_findings(page) == []
    press(dialog.get_by_role("button", name="Save"))
    assert "rowsGannet" not in (some := printed("Print")) and "NameAmountCurrencyBramble IT Partners" in some
    press(page.get_by_role("button", name="Export"))
    with page.expect_download() as kept:
        page.get_by_role("link", name="CSV", exact=True).click()
    assert Path(kept.value.path()).read_text().splitlines()[0] == "name,amount,cost,margin,currency,number"
    page.goto("/people?account=TERN")
    page.get_by_role("grid", name="People").wait_for()
    page.evaluate(STUB)
    assert "of Tern Housing Association · 78 rows" in printed("Print"), "what it is narrowed to"


def test_a_month_is_checked_and_closed(open_page: Open) -> None:
    page = open_page(at="/statements?month=2026-10")
    press(page.get_by_role("button", name="Close Oct"))
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("10 statements, ")
    press(dialog.get_by_role("button", name="Close October 2026"))
    expect(page.get_by_role("status").filter(has_text="closed")).to_contain_text(
        "October 2026 is closed: 10 statements, 2026-00001 to 2026-00010."
    )
    expect(page.get_by_role("button", name="Close Oct")).to_have_count(0)
    press_link = page.get_by_role("link", name="Tern Housing Association")
    press_link.focus()
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="Tern Housing Association")).to_be_focused()
    expect(page.locator(".sums")).to_contain_text("2026-00010")
    expect(page.get_by_role("region", name="Payment and questions")).to_contain_text("not sent")
    page.keyboard.press("g")
    page.keyboard.press("b")
    press(page.get_by_role("button", name="Send 10 not sent"))
    expect(page.get_by_role("status", name="Last action")).to_contain_text("10 statements on the way, 10 mails.")
    grid = page.get_by_role("grid", name="Closed statements")
    expect(grid.get_by_role("row", name=re.compile("Tern Housing Association.*on the way"))).to_be_visible()
    expect(page.get_by_role("button", name=re.compile("^Send"))).to_have_count(0)
    assert serious_findings(page) == []
    page.goto("/statements?month=2026-12")
    expect(page.get_by_role("button", name=re.compile("^Close"))).to_have_count(0)


def closed_october(database: Database) -> None:
    prepared = database.snapshot(closing.prepare, COMMAND_LINE, "GANNET", "2026-10")
    if not prepared.blocking:  # another test of this installation may have closed it
        database.run(closing.close, COMMAND_LINE, prepared, "looked at")


def test_a_disputed_line_is_answered_and_credited(open_page: Open, database_of_address: Database) -> None:
    closed_october(database_of_address)
    page = open_page("OLDQUAY", "/statements/OLDQUAY?month=2026-10&line=DEEPSHELF")
    life = page.get_by_role("region", name="Payment and questions")
    expect(life).not_to_contain_text("sent")
    press(life.get_by_role("button", name="Ask about a line"))
    dialog = page.get_by_role("dialog")
    expect(dialog.get_by_label("Line")).to_have_value("1")
    dialog.get_by_label("Question").fill("We deleted the media in September.")
    assert serious_findings(page) == []
    press(dialog.get_by_role("button", name="Ask", exact=True))
    expect(life.get_by_role("list", name="Open questions")).to_contain_text("No answer yet")

    page = open_page("GANNET", "/payments?state=asked")
    page.get_by_role("grid", name="Closed statements").press("Enter")
    life = page.get_by_role("region", name="Payment and questions")
    press(life.get_by_role("button", name="Answer"))
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("Deepshelf Storage: We deleted the media in September.")
    dialog.get_by_label("Answer", exact=True).fill("Right, here is the rest of October back.")
    dialog.get_by_label("Credit before tax, EUR").fill("99999")
    press(dialog.get_by_role("button", name="Answer"))
    expect(dialog.get_by_role("alert")).to_contain_text("comes to less than that")
    dialog.get_by_label("Credit before tax, EUR").fill("12.5")
    press(dialog.get_by_role("button", name="Answer"))
    expect(life).to_contain_text("1 answered question")
    expect(page.get_by_role("status", name="Last action")).to_contain_text("12.50 EUR is credited")
    page.goto("/statements/OLDQUAY?month=2026-11")
    expect(page.get_by_role("row", name=re.compile("Credit Q1-.*−12.50"))).to_be_visible()


def test_a_bill_by_vendor_with_more_and_what_it_adjusts(open_page: Open, database_of_address: Database) -> None:
    closed_october(database_of_address)
    with database_of_address.transaction() as tx:
        at = accounts_service.start_of(tx, date(2026, 10, 10))
        late = {"product_id": pools.product(tx, "DEEPSHELF").id, "category": "late", "at": at, "bytes": 10**12}
        usage.load_samples(tx, [late | {"account_id": accounts_service.ids_by_code(tx)["OLDQUAY"]}])
    page = open_page("OLDQUAY", "/statements/OLDQUAY?month=2026-10&line=FIELD-FULL")
    more = page.get_by_role("table", name=re.compile("^What more or fewer would .* to this bill"))
    expect(more.get_by_role("row", name=re.compile("^1 seat more")).get_by_role("cell").nth(1)).to_have_text("+22.40")
    more.get_by_label("How many seats more").fill("-2")
    expect(more.get_by_role("row").last.get_by_role("cell").nth(1)).to_have_text("−44.80")
    page.goto("/statements/OLDQUAY?month=2026-11")
    press(page.get_by_role("button", name="Deepshelf Storage, October 2026"))
    expect(page.get_by_text("This adjustment")).to_be_visible()
    press(page.get_by_role("button", name=re.compile("^Samples of 10 Oct 2026")))
    expect(page.get_by_role("region", name="Evidence")).to_contain_text("1 000 000 000 000")
    assert serious_findings(page) == []
    press(page.get_by_role("button", name="By vendor"))
    expect(page.get_by_role("row", name=re.compile("^3 vendors"))).to_be_visible()
    assert serious_findings(page) == []


def test_a_payment_by_hand_and_from_a_bank_file(open_page: Open, database_of_address: Database) -> None:
    closed_october(database_of_address)
    page = open_page(at="/payments")
    grid = page.get_by_role("grid", name="Closed statements")
    row = grid.get_by_role("row", name=re.compile("Tern Housing Association"))
    number = re.search("2026-[0-9]{5}", row.inner_text())
    assert number is not None
    before = Decimal(re.sub(r"[^\d.]", "", row.get_by_role("gridcell").nth(5).inner_text()))
    grid.press("Space")
    press(page.get_by_role("region", name="Chosen statements").get_by_role("button", name="Record payment"))
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text(number[0])
    dialog.get_by_label("Amount, EUR").fill("100")
    press(dialog.get_by_role("button", name="Record payment"))
    expect(page.get_by_role("status", name="Last action")).to_contain_text("100.00 EUR recorded")
    left = before - 100
    expect(row.get_by_role("gridcell").nth(5)).to_have_text(re.compile(f"{left:,.2f}".replace(",", r"\s")))
    press(page.get_by_role("button", name="Bank file"))
    text = f"Date,Amount,Reference\n2026-11-20,{left},Thanks {number[0]}\n2026-11-21,5,Rent\n"
    file = {"name": "bank.csv", "mimeType": "text/csv", "buffer": text.encode()}
    dialog.get_by_label("CSV or XLSX").set_input_files(files=[file])  # type: ignore[list-item]
    expect(dialog.get_by_role("status")).to_contain_text("2 rows: 1 fit a statement")
    assert serious_findings(page) == []
    press(dialog.get_by_role("button", name="Record 1 payment"))
    expect(row).to_contain_text("paid")


def test_a_charge_by_hand(open_page: Open) -> None:
    page = open_page(at="/prices?show=terms")
    charges = page.get_by_role("region", name="Terms", exact=True)
    press(charges.get_by_role("button", name="Add charge"))
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Buyer").select_option(label="Tern Housing Association")
    dialog.get_by_label("Reference").fill("SITE-VISIT")
    dialog.get_by_label("Unit price").fill("90")
    dialog.get_by_label("First day").fill("2026-11-12")
    dialog.get_by_label("Last day").fill("2026-11-01")
    press(dialog.get_by_role("button", name="Save"))
    expect(dialog.get_by_role("alert")).to_contain_text("a day not before the first")
    dialog.get_by_label("Last day").fill("")
    press(dialog.get_by_role("button", name="Save"))
    expect(charges.get_by_role("row", name=re.compile("SITE-VISIT.*90.00"))).to_be_visible()
    press(charges.get_by_role("button", name="Add charge"))
    again = {"Reference": "SITE-VISIT", "Unit price": "95", "First day": "2026-11-12"}
    dialog.get_by_label("Buyer").select_option(label="Tern Housing Association")
    for label, text in again.items():
        dialog.get_by_label(label).fill(text)
    press(dialog.get_by_role("button", name="Save"))
    expect(dialog.get_by_role("alert")).to_contain_text("There is a charge TERN SITE-VISIT already")
    press(dialog.get_by_role("button", name="Cancel"))
    press(charges.get_by_role("button", name="Remove TERN SITE-VISIT"))
    press(page.get_by_role("status", name="Last action").get_by_role("button", name="Undo"))
    expect(charges.get_by_role("row", name=re.compile("SITE-VISIT.*90.00"))).to_be_visible()
    page.goto("/statements/TERN?month=2026-11")
    expect(page.get_by_role("row", name=re.compile("SITE-VISIT.*90.00"))).to_be_visible()


def test_exchange_rates_from_a_file(open_page: Open) -> None:
    page = open_page(at="/prices?show=terms")
    rates = page.get_by_role("region", name="Terms", exact=True)
    press(rates.get_by_role("button", name=re.compile("^Exchange rates")))
    press(rates.get_by_role("button", name="Load exchange rates"))
    dialog = page.get_by_role("dialog")

    def choose(text: str) -> None:
        file = {"name": "october.csv", "mimeType": "text/csv", "buffer": f"day,from,to,rate\n{text}".encode()}
        dialog.get_by_label("CSV or XLSX").set_input_files(files=[file])  # type: ignore[list-item]
        press(dialog.get_by_role("button", name="Load"))

    choose("2026-11-02,USD,EUR,0.93\n2026-11-03,USD,EUR,none\n")
    expect(dialog.get_by_role("row", name=re.compile("3 rate none"))).to_be_visible()
    assert serious_findings(page) == []
    choose("2026-11-02,USD,EUR,0.93\n2026-11-03,USD,EUR,0.94\n")
    said = "october.csv loaded: 2 new, 0 changed, 0 unchanged."
    expect(page.get_by_role("status", name="Last action")).to_contain_text(said)
    expect(rates.get_by_role("row", name=re.compile("3 Nov 2026.*0.94"))).to_be_visible()
    page.goto("/log")
    expect(page.get_by_role("row", name=re.compile("Loaded exchange rates from october"))).to_be_visible()


def test_whose_statement_it_is_and_what_books_call_it(open_page: Open) -> None:
    page = open_page(at="/accounts/TERN")
    press(page.get_by_role("button", name="Billing details"))
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Bank account (IBAN)").fill("PT50 0002 0123 1234 5678 9015 5")
    dialog.get_by_label("Days to pay").fill("21")
    press(dialog.get_by_role("button", name="Save"))
    expect(dialog.get_by_role("alert")).to_contain_text("check digits")
    dialog.get_by_label("Bank account (IBAN)").fill("")
    assert serious_findings(page) == []
    press(dialog.get_by_role("button", name="Save"))
    expect(page.get_by_role("status", name="Last action")).to_contain_text("billing details saved")
    press(page.get_by_role("button", name="Set budget"))
    page.get_by_label("A month before tax, EUR").fill("1.5")
    page.keyboard.press("Enter")
    expect(page.get_by_role("region", name="Budget")).to_contain_text("Passed by")
    page.goto("/statements?month=2026-10")
    press(page.get_by_role("button", name="Export"))
    press(page.get_by_role("button", name="Journal accounts"))
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Account for Tax owed").fill("2433")
    assert serious_findings(page) == []
    press(dialog.get_by_role("button", name="Save"))
    expect(page.get_by_role("status", name="Last action")).to_contain_text("Journal accounts saved")
