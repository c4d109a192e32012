"""A day's jobs by the keyboard alone, each in at most twelve presses from Today until it is done; typing, and Tab within
a form, do not count."""

from __future__ import annotations

import re

from playwright.sync_api import Locator, Page, expect

from tests.browser.conftest import Open

MOST = 12


class Keys:
    """A keyboard that counts."""

    def __init__(self, page: Page):
        self.page, self.presses = page, 0
        page.get_by_role("navigation", name="Screens").wait_for()
        expect(page.locator("#screen h1")).to_be_visible()

    def press(self, *keys: str) -> None:
        for key in keys:
            self.page.keyboard.press(key)
            self.presses += 1

    def type(self, text: str) -> None:
        self.page.keyboard.type(text)

    def tab_to(self, there: Locator) -> None:
        expect(there).to_be_enabled()
        for _ in range(40):
            if there.evaluate("(one) => one === document.activeElement"):
                return
            self.page.keyboard.press("Tab")
        raise AssertionError("no Tab leads there")

    def go(self, words: str, hit: str) -> None:
        """Ctrl K, words, and Enter once what is meant stands first."""
        expect(self.page.get_by_role("dialog")).to_have_count(0)
        self.press("Control+k")
        expect(self.page.get_by_role("combobox", name="Go to")).to_be_focused()
        self.type(words)
        expect(self.page.get_by_label("Results").get_by_role("option").first).to_contain_text(re.compile(hit))
        self.press("Enter")

    def apply(self) -> None:
        """Review the draft and apply it."""
        draft = self.page.get_by_role("region", name="Draft")
        expect(draft).to_contain_text(re.compile("[0-9]+ breach"))
        self.press("Control+Enter")
        expect(self.page.get_by_role("button", name="Apply now")).to_be_focused()
        self.press("Enter")
        expect(draft).to_have_count(0)
        self.done()

    def done(self) -> None:
        assert self.presses <= MOST, self.presses
        expect(self.page.locator(":focus")).to_have_count(1)


def in_cell(keys: Keys, text: str) -> None:
    expect(keys.page.locator(":focus")).to_have_attribute("aria-description", re.compile(text))


def test_five_more_seats(open_page: Open) -> None:
    keys = Keys(open_page())
    keys.go("larkhill fieldbook full", "Fieldbook Full · Larkhill Theatre Trust")
    in_cell(keys, "Larkhill Theatre Trust, Fieldbook Full: ")
    keys.type("+5")
    keys.press("Enter")
    keys.apply()


def test_a_client_and_its_people(open_page: Open) -> None:
    page = open_page()
    keys = Keys(page)
    keys.go("new client", "New client")
    expect(page.get_by_role("dialog").get_by_role("textbox")).to_be_focused()
    keys.type("Plover Chandlery;;;PLOVER")
    keys.tab_to(page.get_by_role("dialog").get_by_role("button", name="Add to draft"))
    keys.press("Enter")
    keys.apply()
    keys.go("import people", "Import people")
    rows = page.get_by_label("Or paste rows")
    keys.tab_to(rows)
    keys.type("name,email,account\nAda Plover,ada@plover.example,PLOVER\n")
    keys.tab_to(page.get_by_role("button", name="Preview these rows"))
    keys.press("Enter")
    keys.tab_to(page.get_by_role("button", name="Import 1 person"))
    keys.press("Enter")
    expect(page.get_by_role("status").first).to_contain_text("Finished.")
    keys.done()


def test_a_purchase_that_ends_is_renewed(open_page: Open) -> None:
    keys = Keys(open_page())
    keys.go("renew fieldbook full", "Renew PO-2605 · Fieldbook Full")
    expect(keys.page.get_by_role("dialog").get_by_label(re.compile("^Quantity"))).to_be_focused()
    keys.press("Enter")
    keys.apply()


def test_the_form_that_opens_is_that_of_the_pool_one_came_for(open_page: Open) -> None:
    page = open_page(at="/pools")
    page.get_by_role("button", name=re.compile("^Fieldbook Full")).wait_for()
    page.route("**/api/pools?*product=FIELD-FULL*", lambda _: None)
    page.keyboard.press("Control+k")
    page.get_by_role("combobox", name="Go to").fill("renew fieldbook full")
    hit = page.get_by_label("Results").get_by_role("option").first
    expect(hit).to_contain_text("Renew PO-2605")
    page.keyboard.press("Enter")
    page.wait_for_timeout(500)
    page.unroute("**/api/pools?*product=FIELD-FULL*")  # lets go what it held
    expect(page.get_by_role("dialog", name=re.compile("Renew PO-2605"))).to_be_visible()


def test_fifty_are_bought_and_shared_out(open_page: Open) -> None:
    page = open_page()
    keys = Keys(page)
    keys.go("buy lantern", "Buy Lantern Mail")
    dialog = page.get_by_role("dialog")
    keys.tab_to(dialog.get_by_label("Order reference"))
    keys.type("PO-2700")
    keys.tab_to(dialog.get_by_label(re.compile("^Quantity")))
    keys.type("50")
    keys.press("Enter")
    expect(page.get_by_role("region", name="Draft")).to_contain_text("1 change")
    keys.go("share lantern", "Share out Lantern Mail")
    expect(page.get_by_label("How much, seats")).to_be_focused()
    keys.type("50")
    expect(page.get_by_role("dialog").get_by_role("status")).to_contain_text("50 of 50")
    keys.press("Enter")
    expect(page.get_by_role("dialog")).to_have_count(0)
    keys.apply()


def test_over_its_cap_is_mended(open_page: Open) -> None:
    keys = Keys(open_page())
    keys.go("bramble fieldbook full", "Fieldbook Full · Bramble IT Partners")
    in_cell(keys, "25 seats counted, cap 22")
    keys.type("25")
    keys.press("Enter")
    in_cell(keys, "cap 25 seats")
    keys.apply()


def test_the_tenth_clients_largest_line(open_page: Open) -> None:
    keys = Keys(open_page())
    keys.go("statement tern", "Tern Housing Association")
    expect(keys.page.get_by_role("heading", name="Tern Housing Association")).to_be_focused()
    expect(keys.page.get_by_role("link", name="All statements")).to_be_visible()
    keys.press("l")
    expect(keys.page).to_have_url(re.compile("line="))
    keys.done()


def test_one_leaves_and_one_joins(open_page: Open) -> None:
    page = open_page("OLDQUAY")
    keys = Keys(page)
    keys.go("jonas vane", "Jonas Vane")
    expect(page.get_by_role("heading", name="Jonas Vane")).to_be_focused()
    keys.go("remove", "Remove")
    expect(page.get_by_role("button", name="Remove 1 of 1")).to_be_focused()
    keys.press("Enter")
    expect(page.get_by_role("dialog").get_by_role("button", name="Close").last).to_be_focused()
    keys.press("Enter")
    expect(page.get_by_role("dialog")).to_have_count(0)
    keys.done()
    keys.presses = 0
    keys.go("add a person", "Add a person")
    dialog = page.get_by_role("dialog")
    expect(dialog.get_by_label("Name", exact=True)).to_be_focused()
    keys.type("Jona Vance")
    keys.tab_to(dialog.get_by_label("E-mail address"))
    keys.type("jona.vance@x.example")
    keys.tab_to(dialog.get_by_label("Account"))
    keys.type("Crew Office")
    keys.tab_to(dialog.get_by_role("button", name=re.compile("^Add|^Invite")).last)
    keys.press("Enter")
    expect(dialog).to_have_count(0)
    keys.go("jona vance", "Jona Vance")
    expect(page.get_by_role("heading", name="Jona Vance")).to_be_focused()
    keys.go("assign", "Assign")
    expect(page.get_by_label("Product", exact=True)).to_be_focused()
    keys.type("Fieldbook Core")
    keys.tab_to(page.get_by_role("button", name="Assign 1 of 1"))
    keys.press("Enter")
    expect(page.get_by_role("dialog")).to_contain_text("given a seat")
    keys.done()


def test_idle_seats_are_taken_back(open_page: Open) -> None:
    page = open_page()
    keys = Keys(page)
    keys.press("g", "i")
    keys.tab_to(page.get_by_label("Name", exact=True))
    keys.type("Not seen for long")
    keys.press("Enter")
    expect(page.get_by_role("button", name="Run it now")).to_be_visible()
    keys.go("run it", "Run it now")
    keys.done()


def test_a_client_asks_and_the_operator_answers(open_page: Open) -> None:
    page = open_page("OLDQUAY")
    keys = Keys(page)
    keys.go("ask dispatch", "Ask for more Fieldbook Dispatch")
    amount = page.get_by_label("seats", exact=True)
    expect(amount).to_be_focused()
    keys.type("1")
    keys.tab_to(page.get_by_label("Why"))
    keys.type("A second van")
    keys.tab_to(page.get_by_role("button", name="Send"))
    keys.press("Enter")
    expect(page.get_by_text("Old Quay Ferries asks for 1 seat of Fieldbook Dispatch")).to_be_visible()
    keys.done()
    operator = open_page()
    keys = Keys(operator)
    expect(operator.get_by_text("Old Quay Ferries asks for 1 seat of Fieldbook Dispatch")).to_be_visible()
    keys.press("a")
    expect(operator.get_by_label("Approve, seats")).to_be_focused()
    expect(operator.get_by_role("button", name="Approve", exact=True)).to_be_enabled()
    keys.press("Enter")
    expect(operator.get_by_label("Last action")).to_contain_text(
        "Approved: 1 seat of Fieldbook Dispatch, Old Quay Ferries"
    )
    keys.done()


def test_what_was_applied_is_undone(open_page: Open) -> None:
    keys = Keys(open_page())
    keys.go("pennant watchglass", "Watchglass Guard · Pennant Rowing Club")
    in_cell(keys, "Pennant Rowing Club, Watchglass Guard: ")
    keys.type("+3")
    keys.press("Enter")
    keys.apply()
    keys.presses = 0
    keys.press("g", "d")
    expect(keys.page.get_by_role("button", name="Reverse")).to_be_visible()
    keys.go("reverse", "Reverse")
    keys.apply()


def test_how_it_was_on_a_day(open_page: Open) -> None:
    keys = Keys(open_page())
    keys.go("31 oct", "Allocations as of 31 Oct 2026")
    expect(keys.page.get_by_role("heading", name="As of 31 Oct 2026")).to_be_visible()
    keys.done()


def test_a_device_is_lost(open_page: Open) -> None:
    page = open_page()
    keys = Keys(page)
    keys.go("lt-01129", "lt-01129")
    expect(page.get_by_role("grid", name="Devices")).to_be_focused()
    keys.press("Space")
    expect(page.get_by_role("region", name="Chosen devices")).to_contain_text("1 chosen")
    keys.go("revoke", "Revoke")
    expect(page.get_by_role("button", name="Revoke 1")).to_be_focused()
    keys.press("Enter")
    expect(page.get_by_label("Last action")).to_contain_text("1 device revoked")
    keys.done()
