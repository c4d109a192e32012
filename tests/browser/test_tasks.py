"""The main tasks in a real browser, by keyboard wherever a person would use it."""

from __future__ import annotations

import csv
import gzip
import re
from collections import Counter
from collections.abc import Callable
from pathlib import Path

import pytest
from playwright.sync_api import Page, Route, expect

from fair_ladle.app.allocations import views
from fair_ladle.app.drafts import usecases as drafts
from fair_ladle.app.drafts.change_types import AllocationChange, Terms
from fair_ladle.app.drafts.preview import apply_changes
from fair_ladle.app.drafts.reversing import terms_of
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database, Transaction
from tests.browser.conftest import PASSWORD, WEB, press, serious_findings

Open = Callable[..., Page]
SCREENS = [
    ("sign in", None, "/today", "heading", "Sign in"),
    ("today", "GANNET", "/today", "heading", "Tuesday 24 November"),
    (
        "allocations",
        "GANNET",
        "/allocations?open=OLDQUAY&account=OLDQUAY-ENGINEERING&product=WATCHGLASS",
        "heading",
        "Engineering Yard",
    ),
    ("drafts", "GANNET", "/drafts", "heading", "Drafts"),
    ("a product", "OLDQUAY", "/products/FIELD-FULL", "heading", "Contents"),
    ("pools", "GANNET", "/pools?product=LANTERN-MAIL", "table", "Lots"),
    ("an account", "GANNET", "/accounts/NORTHFOLD", "heading", "Northfold Library Consortium"),
    ("a client's own account", "OLDQUAY", "/accounts/OLDQUAY", "heading", "Old Quay Ferries"),
    (
        "as of another day",
        "GANNET",
        "/allocations?account=OLDQUAY&product=WATCHGLASS&on=2027-01-15",
        "heading",
        "As of 15 Jan 2027",
    ),
    ("statements", "GANNET", "/statements?month=2026-10", "grid", "Statements of October 2026"),
    (
        "a statement",
        "GANNET",
        "/statements/NORTHFOLD?month=2026-10&line=FIELD-CORE&day=2026-10-15",
        "region",
        "Evidence",
    ),
    ("by department", "GANNET", "/statements/NORTHFOLD?month=2026-10&by=department", "columnheader", "Department"),
    ("prices", "GANNET", "/prices", "table", "Prices of Gannet & Rowe Managed IT a unit and month"),
    ("a price", "GANNET", "/prices?product=LANTERN-MAIL", "region", "What it would have charged"),
    ("what one pays", "OLDQUAY", "/prices", "region", "What you pay"),
    ("charges and tax", "GANNET", "/prices?show=terms", "region", "Terms"),
    ("payments before a month is closed", "GANNET", "/payments", "heading", "Payments"),
    ("margins", "GANNET", "/margins?month=2026-10", "heading", "Margin"),
    ("people", "GANNET", "/people?account=OLDQUAY&seen=60", "grid", "People"),
    ("a person", "OLDQUAY", "/people/jonas.vane", "heading", "Jonas Vane"),
    ("groups", "GANNET", "/groups?group=OLDQUAY%2FOLDQUAY-LEADS", "region", "Members"),
    ("waiting for a seat", "OLDQUAY", "/queue", "heading", "Waiting list"),
    ("idle seats", "GANNET", "/idle", "heading", "Idle seats"),
    ("bringing people in", "GANNET", "/people-import", "region", "A table"),
    ("joining by address", "OLDQUAY", "/domains", "region", "Domains"),
    ("asking to join", None, "/joining", "heading", "Join your organisation"),
    ("an address that leads nowhere", "GANNET", "/nowhere", "heading", "No such page"),
    ("devices", "GANNET", "/devices", "grid", "Devices"),
    ("sessions", "OLDQUAY", "/sessions", "heading", "Sessions"),
    ("numbers", "GANNET", "/numbers", "grid", "Numbers"),
    ("keys", "GANNET", "/keys", "region", "Create activation key"),
    ("storage", "GANNET", "/storage", "grid", "Accounts"),
    ("storage of people", "OLDQUAY", "/storage?what=people&product=DEEPSHELF", "grid", "People"),
    ("shared folders", "GANNET", "/storage?what=folders&product=DEEPSHELF", "grid", "Shared folders"),
    ("storage systems", "GANNET", "/storage-systems", "region", "Storage systems"),
    ("a notice that is none", None, "/keep/guessed", "heading", "This notice has expired"),
    ("an invitation that is none", None, "/join/guessed", "heading", "This invitation cannot be used"),
    ("log", "GANNET", "/log", "table", "Log, newest first"),
    ("the server’s figures", "GANNET", "/server", "table", "Jobs"),
    ("a client's allocations", "OLDQUAY", "/allocations", "treegrid", "Accounts against pools"),
]


@pytest.mark.parametrize(("what", "account", "at", "role", "name"), SCREENS, ids=[case[0] for case in SCREENS])
def test_screens_have_no_serious_finding(
    open_page: Open, what: str, account: str | None, at: str, role: str, name: str
) -> None:
    page = open_page(account, at, looks_only=True)
    for light in ("light", "dark"):
        page.emulate_media(color_scheme=light, reduced_motion="reduce")  # type: ignore[arg-type]
        page.get_by_role(role, name=name, exact=True).first.wait_for()  # type: ignore[arg-type]
        page.wait_for_load_state("networkidle")
        page.evaluate(
            "Promise.allSettled(document.getAnimations().map((each) => each.finished))"
        )  # colours on their way count for nothing
        assert serious_findings(page, colours_alone=light == "dark") == [], light
    low = (
        "[...document.querySelectorAll('button, .seg a, .btn, select')].filter((each) => { const at = "
        "each.getBoundingClientRect(); return at.width && at.height && at.height < 24 && !each.closest('svg') })"
        ".map((each) => each.innerText || each.ariaLabel)"
    )
    assert page.evaluate(low) == [], "what is pressed is 24 pixels high"
    page.set_viewport_size({"width": 390, "height": 800})
    page.reload()
    page.get_by_role(role, name=name, exact=True).first.wait_for()  # type: ignore[arg-type]
    assert page.evaluate("document.documentElement.scrollWidth") <= 390, "nothing pushes a phone's page sideways"
    if account is not None:
        assert page.evaluate("document.documentElement.scrollHeight") <= 800, "nor makes it longer than what it shows"
    lying_over = (
        "[...document.querySelectorAll('.workspace > *, .today > *, .pools > *')].some((part, n, all) => "
        "all[n + 1]?.parentElement === part.parentElement && part.getBoundingClientRect().top + part.scrollHeight > "
        "all[n + 1].getBoundingClientRect().top + 1 && getComputedStyle(part).overflowY === 'visible' "
        "|| part.getBoundingClientRect().width < 300)"
    )
    assert page.evaluate(lying_over) is False, "and no part of it lies over another or is squeezed"


def test_a_range_reaches_rows_that_are_not_there_yet(open_page: Open) -> None:
    page = open_page(at="/allocations?open=*&account=GANNET&product=WATCHGLASS")
    page.get_by_role("heading", name="Gannet & Rowe Managed IT").wait_for()
    grid = page.get_by_role("treegrid")
    rows = int(grid.get_attribute("aria-rowcount") or 0) - 2  # without the head and the owner of the pool
    assert rows > 45 and page.locator(".arow").count() < rows, "more than a window has"
    page.locator(".cell.sel").focus()
    page.keyboard.press("ArrowDown")
    page.keyboard.type("999")
    page.keyboard.press("Enter")
    page.keyboard.press("Control+Shift+ArrowDown")
    page.keyboard.press("Control+d")
    expect(page.get_by_role("region", name="Draft")).to_contain_text(f"{rows} changes")
    last = page.locator(".cell.sel")
    expect(last).to_have_attribute("aria-description", re.compile("cap 999 devices"))
    page.keyboard.press("Control+ArrowUp")
    page.keyboard.press("ArrowDown")
    expect(page.locator(".cell.sel")).to_have_attribute("aria-description", re.compile("cap 999 devices"))
    page.keyboard.press("Control+z")
    draft = page.get_by_role("region", name="Draft")
    expect(draft).to_contain_text("1 change")
    draft.get_by_role("button", name="Discard").click()
    expect(draft).to_have_count(0)


def test_a_branch_is_shut_and_opened_by_keyboard(open_page: Open) -> None:
    page = open_page(at="/allocations?open=*&pools=all")
    page.locator(".arow [role=gridcell]").first.click()
    for key in ("ArrowDown", "ArrowLeft"):
        page.keyboard.press(key)
    branch = page.get_by_role("row", name="Bramble IT Partners")
    for key, opened in (("ArrowLeft", "false"), ("ArrowRight", "true"), ("ArrowLeft", "false"), ("ArrowRight", "true")):
        page.keyboard.press(key)
        expect(branch).to_have_attribute("aria-expanded", opened)
        expect(branch.get_by_role("rowheader")).to_be_focused()


def test_changing_a_cap_by_keyboard(open_page: Open) -> None:
    page = open_page()
    page.keyboard.press("g")
    page.keyboard.press("a")
    page.get_by_role("treegrid").wait_for()
    page.keyboard.press("/")
    page.keyboard.type("engineering")
    page.keyboard.press("Enter")
    expect(page.locator(":focus")).to_have_role("gridcell")
    for _ in range(2):
        page.keyboard.press("ArrowDown")
    page.keyboard.press("End")
    expect(page.locator(":focus")).to_have_attribute(
        "aria-description", re.compile(r"Engineering Yard, Watchglass Guard: 18 devices counted, cap 14")
    )
    page.get_by_role("heading", name="Engineering Yard").wait_for()
    expect(page.get_by_text("Engineering Yard is 4 devices over its cap of 14")).to_be_visible()
    page.keyboard.type("18")
    page.keyboard.press("Enter")
    draft = page.get_by_role("region", name="Draft")
    expect(draft).to_contain_text("1 change")
    expect(draft).to_contain_text("1 breach cleared")
    expect(page.locator(":focus")).to_have_attribute("aria-description", re.compile("cap 18 devices"))
    page.keyboard.press("Control+z")
    expect(draft).to_have_count(0)
    page.keyboard.press("Control+y")
    expect(draft).to_contain_text("1 breach cleared")
    press(page.get_by_role("button", name="Review and apply"))
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("is back within its cap of Watchglass Guard; 3 devices come off hold")
    press(dialog.get_by_role("button", name="Apply now"))
    expect(draft).to_have_count(0)
    expect(page.locator(".cell.sel")).to_have_attribute("aria-description", re.compile("cap 18 devices"))
    page.locator("body").press("g")
    page.keyboard.press("l")
    rows = page.get_by_role("table", name="Log, newest first").get_by_role("row")
    made = rows.filter(has_text="14 devices → 18 devices").first
    expect(made).to_contain_text("Ines Vane")
    expect(made).to_contain_text("Engineering Yard")
    page.locator("body").press("g")
    page.keyboard.press("d")
    press(page.get_by_role("complementary", name="Selected draft").get_by_role("button", name="Reverse"))
    expect(draft).to_contain_text(re.compile("Reverses: .+: .+ 1 change"))
    expect(draft).to_contain_text("1 new or worse")
    draft.get_by_role("button", name="Discard").click()
    expect(draft).to_have_count(0)


def test_editing_like_a_spreadsheet(open_page: Open) -> None:
    """Ranges, relative amounts, filling down, copying and pasting a block, and a block that does not fit; all by
    keys."""
    page = open_page(at="/allocations?account=PENNANT&product=WATCHGLASS&pools=DISPATCH,WATCHGLASS")
    page.get_by_role("heading", name="Pennant Rowing Club").wait_for()
    draft = page.get_by_role("region", name="Draft")
    page.locator(".cell.sel").focus()

    def says(text: str) -> None:
        expect(page.locator(":focus")).to_have_attribute("aria-description", re.compile(text))

    def paste(text: str) -> None:
        page.locator(":focus").evaluate(
            "(cell, text) => { const data = new DataTransfer(); data.setData('text/plain', text);"
            " cell.dispatchEvent(new ClipboardEvent('paste', "
            "{clipboardData: data, bubbles: true, cancelable: true})) }",
            text,
        )

    says("Pennant Rowing Club, Watchglass Guard: 7 devices counted, cap 9")
    page.keyboard.press("Shift+ArrowDown")
    paste("+5")
    expect(draft).to_contain_text("2 changes")
    says("Quillon Stage Armoury, Watchglass Guard: 16 devices counted, cap 26")
    page.keyboard.press("ArrowUp")
    says("cap 14 devices")
    page.keyboard.type("1.5")
    page.keyboard.press("Enter")
    expect(page.get_by_label("cap of Pennant Rowing Club, Watchglass Guard, devices")).to_have_attribute(
        "aria-invalid", "true"
    )
    page.keyboard.press("Escape")
    for _ in range(3):
        page.keyboard.press("Shift+ArrowDown")
    page.keyboard.press("Control+d")
    expect(draft).to_contain_text("4 changes")
    page.keyboard.press("Control+z")
    expect(draft).to_contain_text("2 changes")
    page.keyboard.press("Escape")

    paste("1\t2\t3\r\n4\t5\t6\r\n")
    expect(page.get_by_role("alert")).to_contain_text(
        "The block is 2 × 3 (rows × columns); from here there is room for 1 × 1. Nothing was pasted."
    )
    paste("a few")
    expect(page.get_by_role("alert")).to_contain_text(
        "“a few” for Tern Housing Association, Watchglass Guard: a whole number of devices"
    )
    expect(draft).to_contain_text("2 changes")
    paste("10/95")
    expect(draft).to_contain_text("3 changes")
    says("cap 95 devices, reserve 10 devices")
    page.reload()
    expect(draft).to_contain_text("3 changes")
    draft.get_by_role("button", name="Discard").click()
    expect(draft).to_have_count(0)


def test_the_draft_is_where_it_stays_before_its_screen_is_there(open_page: Open) -> None:
    page = open_page(at="/allocations?account=TERN&product=CHARTROOM")
    page.get_by_label("Cap", exact=True).fill("9")
    draft = page.get_by_role("region", name="Draft")
    expect(draft).to_contain_text("cleared")
    held: list[Route] = []
    page.route(re.compile(r"/assets/AllocationsScreen-[^/]*\.js"), lambda route: held.append(route))
    page.goto("/allocations?account=TERN")
    expect(draft).to_contain_text("cleared")
    expect(page.get_by_text("Loading the screen")).to_be_visible()
    early = draft.bounding_box()
    for each in held:
        each.continue_()
    page.get_by_role("heading", name="Tern Housing Association").wait_for()
    assert held and draft.bounding_box() == early
    draft.get_by_role("button", name="Discard").click()
    expect(draft).to_have_count(0)


def test_a_clash_is_shown_side_by_side(open_page: Open, database_of_address: Database) -> None:
    page = open_page(at="/allocations?account=TERN&product=CHARTROOM")
    page.get_by_role("heading", name="Tern Housing Association").wait_for()
    page.get_by_label("Cap", exact=True).fill("9")
    draft = page.get_by_role("region", name="Draft")
    expect(draft).to_contain_text("1 change")
    database_of_address.run(change_a_cap, "TERN", "CHARTROOM", 7)
    page.reload()
    expect(page.locator(".cell.sel")).to_be_focused()  # arrived: nothing takes the keys any more
    expect(draft).to_contain_text("1 changed by someone else meanwhile")
    press(draft.get_by_role("button", name="Review and apply"))
    clash = page.get_by_role("region", name="Changed meanwhile")
    expect(clash).to_contain_text("Otis Calder")
    clash.get_by_role("button", name="Keep yours").click()
    expect(clash).to_have_count(0)
    page.get_by_role("dialog").get_by_role("button", name="Apply now").click()
    expect(draft).to_have_count(0)
    expect(page.locator(".cell.sel")).to_have_attribute("aria-description", re.compile("cap 9 sessions"))


def test_the_address_keeps_its_cell_until_the_rows_are_there(open_page: Open) -> None:
    page = open_page(at="/today")
    page.route("**/api/allocations/rows", lambda _: None)
    page.goto(re.sub("/today.*", "/allocations?account=TERN&product=CHARTROOM", page.url))
    page.wait_for_timeout(500)
    assert "account=TERN" in page.url and "product=CHARTROOM" in page.url
    page.unroute("**/api/allocations/rows")  # lets go what it held
    page.get_by_role("heading", name="Tern Housing Association").wait_for()


def test_sharing_out_by_keyboard(open_page: Open) -> None:
    page = open_page(at="/allocations?account=GANNET&product=LANTERN-MAIL")
    page.get_by_role("heading", name="Gannet & Rowe Managed IT").wait_for()
    page.locator(".cell.sel").focus()
    page.keyboard.press("s")
    dialog = page.get_by_role("dialog")
    page.keyboard.type("40")
    gets = dialog.get_by_role("table", name="Shares")
    expect(gets).to_contain_text("7 to be back within its cap")
    dialog.get_by_label("What is set by hand of Tern Housing Association").fill("20")
    expect(gets).to_contain_text("set by hand")
    expect(dialog.get_by_role("status")).to_contain_text("40 of 40 seats shared out")
    press(dialog.get_by_role("button", name="Add to draft"))
    draft = page.get_by_role("region", name="Draft")
    expect(draft).to_contain_text("4 breaches cleared")
    draft.get_by_role("button", name="Discard").click()
    expect(draft).to_have_count(0)


def test_notices_are_dismissed_by_keyboard_one_and_all(open_page: Open) -> None:
    page = open_page(at="/today?only=notices")
    dismiss = page.get_by_role("button", name=re.compile("^Dismiss: "))
    for _ in range(60):  # until the job that enforces has been through
        expect(page.get_by_role("heading", level=1)).to_be_visible()
        if dismiss.count() > 1:
            break
        page.wait_for_timeout(1000)
        page.reload()
    one, other = (dismiss.nth(n).get_attribute("aria-label") or "" for n in (0, 1))
    press(page.get_by_role("button", name=one, exact=True).first)
    expect(page.get_by_role("button", name=one, exact=True)).to_have_count(0)
    expect(page.get_by_role("button", name=other, exact=True)).to_have_count(1)
    press(page.get_by_role("button", name="Dismiss all"))
    expect(page.get_by_role("button", name=other, exact=True)).to_have_count(0)


def test_a_shortfall_is_planned_and_a_lot_bought_by_keyboard(open_page: Open) -> None:
    page = open_page()
    page.keyboard.press("g")
    page.keyboard.press("p")
    press(page.get_by_role("button", name=re.compile("^Lantern Mail")))
    press(page.get_by_role("button", name=re.compile("^Short by 317 seats from 1 Jan")))
    plan = page.get_by_role("region", name="Plan for 1 Jan 2027")
    expect(plan).to_contain_text("Buy 317 seats")
    press(plan.get_by_role("button", name="Add to draft: Buy 317 seats"))
    draft = page.get_by_role("region", name="Draft")
    expect(draft).to_contain_text("1 change")
    press(draft.get_by_role("button", name="Review and apply"))
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("Lantern Mail")
    dialog.get_by_label("or on").fill("2027-01-01")
    press(dialog.get_by_role("button", name="Apply on that day"))
    expect(draft).to_have_count(0)
    page.locator("body").press("g")
    page.keyboard.press("d")
    expect(page.get_by_role("table").first).to_contain_text("on 1 Jan 2027")


def test_asking_and_granting_by_keyboard(open_page: Open) -> None:
    page = open_page("OLDQUAY")
    page.keyboard.press("g")
    page.keyboard.press("c")
    press(page.get_by_role("row", name=re.compile("Lantern Mail")).get_by_role("button", name="Ask for more"))
    page.get_by_label("seats", exact=True).fill("9")
    page.get_by_label("Why").fill("Nine winter crew")
    press(page.get_by_role("button", name="Send"))
    expect(page.get_by_role("region", name="Requests")).to_contain_text("asks for 9 seats of Lantern Mail")
    parent = open_page()
    press(parent.get_by_role("button", name="Answer"))
    parent.get_by_label("Approve, seats").fill("5")
    parent.get_by_label("Comment").fill("Five now")
    press(parent.get_by_role("button", name="Approve in part"))
    expect(parent.get_by_text("Requests waiting")).to_have_count(0)
    page.reload()
    requests = page.get_by_role("region", name="Requests")
    expect(requests).to_contain_text("5 seats granted")
    expect(requests).to_contain_text("Five now")


def test_what_only_the_seller_lacks_is_asked_for_and_the_draft_waits(
    open_page: Open, database_of_address: Database
) -> None:
    seen = database_of_address.run(lambda tx: views.cell(tx, COMMAND_LINE, "OLDQUAY", "WATCHGLASS").version)
    uncapped = AllocationChange(
        account="OLDQUAY", product="WATCHGLASS", terms=Terms(), seen=seen.id if seen else None, was=terms_of(seen)
    )
    database_of_address.run(apply_changes, COMMAND_LINE, [uncapped], "no cap of its own")
    page = open_page("OLDQUAY", "/allocations?account=OLDQUAY-CREW&product=WATCHGLASS")
    page.get_by_role("heading", name="Crew Office").wait_for()
    page.get_by_label("Reserve").fill("5000")
    draft = page.get_by_role("region", name="Draft")
    press(draft.get_by_role("button", name="Review and apply"))
    dialog = page.get_by_role("dialog")
    press(dialog.get_by_role("button", name="Apply now"))
    expect(dialog.get_by_role("alert")).to_have_text(
        "Not available now; ask Gannet & Rowe Managed IT. The draft stays as it is."
    )
    dialog.get_by_label("devices", exact=True).fill("5")
    dialog.get_by_label("Why").fill("A new quay")
    press(dialog.get_by_role("button", name="Send"))
    expect(dialog.get_by_role("status")).to_contain_text("Gannet & Rowe Managed IT was asked for more Watchglass")
    press(dialog.get_by_role("button", name="Back"))
    expect(draft).to_contain_text("1 change")
    press(draft.get_by_role("button", name="Discard"))


def test_a_client_is_created_after_another_ones_shape(open_page: Open) -> None:
    page = open_page(at="/accounts/BRAMBLE")
    press(page.get_by_role("button", name="New sub-account"))
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Copy departments, allocations and rates from").select_option("account WICKET")
    dialog.get_by_label("One per line").fill("Plover Chandlery; ada@plover.example; accounts@plover.example")
    press(dialog.get_by_role("button", name="Add to draft"))
    draft = page.get_by_role("region", name="Draft")
    expect(draft).to_contain_text(re.compile("[0-9]+ changes"))
    draft.get_by_role("button", name="Review and apply").click()
    expect(page.get_by_role("dialog")).to_contain_text("create client Plover Chandlery below Bramble IT Partners")
    page.get_by_role("dialog").get_by_role("button", name="Back").click()
    draft.get_by_role("button", name="Discard").click()
    expect(draft).to_have_count(0)


def change_a_cap(tx: Transaction, account: str, product: str, cap: int) -> None:
    """Somebody else's change, made at once."""
    who = Actor("Otis Calder", "", None)
    there = views.terms(tx, who, [(account, product)])[0].version
    was = terms_of(there)
    assert there is not None and was is not None
    change = AllocationChange(
        account=account, product=product, terms=was.model_copy(update={"cap": cap}), seen=there.id, was=was
    )
    drafts.apply_changes(tx, who, [change], "meanwhile")


def test_a_change_that_would_break_a_limit_says_so_and_is_not_applied(open_page: Open) -> None:
    page = open_page(at="/allocations?account=LARKHILL&product=FIELD-FULL")
    page.get_by_role("heading", name="Larkhill Theatre Trust").wait_for()
    page.get_by_label("Cap", exact=True).fill("16")
    draft = page.get_by_role("region", name="Draft")
    expect(draft).to_contain_text("1 new or worse")
    draft.get_by_role("button", name="Review and apply").click()
    expect(page.get_by_role("dialog").get_by_role("alert")).to_contain_text("would be 1 seat over its cap")
    expect(page.get_by_role("dialog").get_by_role("button", name="Apply now")).to_be_disabled()
    page.keyboard.press("Escape")
    page.get_by_label("Reserve").fill("many")
    expect(page.get_by_text("whole number")).to_be_visible()
    draft.get_by_role("button", name="Discard").click()
    expect(draft).to_have_count(0)


def test_from_total_to_assignment(open_page: Open, tmp_path: Path) -> None:
    page = open_page()
    page.keyboard.press("g")
    page.keyboard.press("s")
    page.get_by_role("heading", name="Statements").wait_for()
    page.get_by_role("link", name="Northfold Library Consortium").focus()
    page.keyboard.press("Enter")
    expect(page.get_by_text("1 723.54 EUR")).to_be_visible()
    press(page.get_by_role("button", name="Fieldbook Core"))
    expect(page.get_by_text("35.00 at 9.90, the price from 25 on for all")).to_be_visible()
    page.get_by_role("button", name=re.compile("^1 Oct")).focus()
    page.keyboard.press("ArrowRight")
    page.keyboard.press("Enter")
    expect(page.get_by_role("region", name="Behind Friday 2 October")).to_contain_text("20.000000 seats in use")
    expect(page.get_by_role("region", name="Evidence").get_by_role("row")).to_have_count(21)
    assert "day=2026-10-02" in page.url, "the address holds the view"
    page.get_by_role("button", name="Export").click()
    with page.expect_download() as kept:
        page.get_by_role("link", name="CSV").click()
    kept.value.save_as(tmp_path / "statement.csv")
    rows = list(csv.DictReader((tmp_path / "statement.csv").open()))
    assert sum(float(row["amount"]) for row in rows if not row["account"]) == pytest.approx(1723.54)


def test_today_leads_to_where_it_is_dealt_with(open_page: Open) -> None:
    page = open_page()
    expect(page.get_by_text("Fieldbook Core falls short by 176 seats")).to_be_visible()
    client = page.get_by_role("region", name="Larkhill Theatre Trust")
    client.get_by_role("article").filter(has_text="Watchglass").first.get_by_role("link", name="Ladder").click()
    expect(page.get_by_role("list", name="Limits up to the supply")).to_be_visible()
    expect(page.locator(".cell.sel")).to_have_count(1)


def test_a_clients_admin_sees_and_does_just_what_is_theirs(open_page: Open) -> None:
    page = open_page("OLDQUAY", "/allocations?account=OLDQUAY&product=WATCHGLASS")
    page.get_by_role("heading", name="Old Quay Ferries").wait_for()
    expect(page.get_by_text("What Old Quay Ferries gets is its parent’s to give.")).to_be_visible()
    expect(page.get_by_label("Cap", exact=True)).to_have_count(0)
    expect(page.get_by_text("Ask Gannet & Rowe Managed IT for more")).to_be_visible()
    page.keyboard.press("Control+k")
    page.get_by_role("combobox", name="Go to").fill("tern housing")
    expect(page.get_by_text("No results. Try fewer words.")).to_be_visible()
    page.keyboard.press("Escape")
    page.goto("/statements?month=2026-10")
    expect(page.get_by_role("columnheader", name="Margin")).to_have_count(0)
    page.get_by_role("link", name="Old Quay Ferries").click()
    expect(page.get_by_text("What it cost")).to_have_count(0)
    page.goto("/statements/TERN?month=2026-10")
    expect(page.get_by_role("alert")).to_contain_text("There is no account 'TERN' here.")


def test_the_keys_are_listed_and_one_can_sign_out(open_page: Open) -> None:
    page = open_page(None, "/")  # a session of its own: pages of the others' go on asking
    page.get_by_label("E-mail address").fill("gannet@x.example")
    page.get_by_label("Password", exact=True).fill(PASSWORD)
    page.keyboard.press("Enter")
    page.get_by_role("navigation", name="Screens").wait_for()
    page.keyboard.press("?")
    expect(page.get_by_role("dialog", name="Keys")).to_contain_text("Go anywhere")
    page.keyboard.press("Escape")
    expect(page.get_by_role("dialog")).to_have_count(0)
    page.keyboard.press("Control+k")
    expect(page.get_by_role("combobox", name="Go to")).to_be_focused()
    page.keyboard.type("engineering yard")
    expect(page.get_by_role("option")).to_have_count(1)
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="Engineering Yard")).to_be_visible()
    page.get_by_role("button", name="Ines Vane").click()
    page.get_by_role("button", name="Sign out").click()
    expect(page.get_by_role("heading", name="Sign in")).to_be_visible()


def test_an_act_says_what_it_did_and_is_undone_or_reversed(open_page: Open) -> None:
    page = open_page()
    expect(page).to_have_title("Today · Gannet & Rowe Managed IT · Fair Ladle")
    page.keyboard.press("Control+k")
    page.get_by_label("Go to").fill("tern dispatch")
    page.get_by_role("option", name="Fieldbook Dispatch · Tern Housing Association").wait_for()
    page.keyboard.press("Enter")
    focused = page.locator(":focus")
    expect(focused).to_have_attribute("aria-description", re.compile("^Tern Housing Association, Fieldbook Dispatch"))
    expect(page).to_have_title("Allocations · Gannet & Rowe Managed IT · Fair Ladle")
    draft, said = page.get_by_role("region", name="Draft"), page.get_by_label("Last action")
    page.keyboard.type("9")
    page.keyboard.press("Enter")
    expect(draft).to_contain_text("1 change")
    press(draft.get_by_role("button", name="Discard"))
    expect(said).to_contain_text("Draft discarded: 1 change.")
    press(said.get_by_role("button", name="Undo"))
    expect(draft).to_contain_text("1 change")
    page.keyboard.press("Control+Enter")
    press(page.get_by_role("dialog").get_by_role("button", name="Apply now"))
    expect(said).to_contain_text(re.compile(r"Applied \d\d:\d\d: 1 change"))
    assert serious_findings(page) == []
    press(said.get_by_role("button", name="Reverse"))
    expect(draft).to_contain_text("Reverses: Fieldbook Dispatch: Tern Housing Association")
    press(draft.get_by_role("button", name="Discard"))
    expect(draft).to_have_count(0)


def test_the_first_load_is_small() -> None:
    """What the page itself names: scripts, preloads and styles, as they are sent."""
    dist = WEB / "dist"
    named = re.findall(r'(?:src|href)="/(assets/[^"]+\.(js|css))"', (dist / "index.html").read_text())
    size = Counter[str]()
    for path, kind in named:
        size[kind] += len(gzip.compress((dist / path).read_bytes()))
    assert 50_000 < size["js"] <= 180_000 and 5_000 < size["css"] <= 25_000
