"""Accounts over their life, lots, drafts between colleagues and requests passed up, in a real browser and by its
keys."""

from __future__ import annotations

import re
from collections.abc import Callable

from playwright.sync_api import Locator, Page, Route, expect

from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.sign_in import usecases as sign_in
from tests.browser.conftest import PASSWORD, press

Open = Callable[..., Page]


def draft_of(page: Page) -> Locator:
    return page.get_by_role("region", name="Draft", exact=True)


def apply(page: Page, says: str) -> None:
    press(draft_of(page).get_by_role("button", name="Review and apply"))
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text(says)
    press(dialog.get_by_role("button", name="Apply now"))
    expect(dialog).to_have_count(0)
    expect(draft_of(page)).to_have_count(0)


def discard(page: Page) -> None:
    press(draft_of(page).get_by_role("button", name="Discard"))
    expect(draft_of(page)).to_have_count(0)


def test_lots_are_split_ended_and_renewed_smaller(open_page: Open) -> None:
    page = open_page(at="/pools?product=LANTERN-MAIL")
    lots, dialog, draft = page.get_by_role("table", name="Lots"), page.get_by_role("dialog"), draft_of(page)
    ending = lots.get_by_role("row").filter(has_text="31 Dec 2026")
    press(ending.get_by_role("button", name=re.compile("^Split")))
    dialog.get_by_label(re.compile("^One part")).fill("120")
    page.keyboard.press("Enter")
    expect(draft).to_contain_text("3 changes")
    discard(page)
    press(ending.get_by_role("button", name=re.compile("^End")))
    dialog.get_by_label("Last day").fill("2026-12-15")
    page.keyboard.press("Enter")
    expect(draft).to_contain_text("1 change")
    discard(page)
    press(ending.get_by_role("button", name=re.compile("^Renew")))
    dialog.get_by_label("Quantity, seats").fill("300")
    effect = dialog.get_by_role("region", name="What it would do")
    expect(effect).to_contain_text("From 1 Jan 2027 on 7 seats of what is counted now would not be covered.")
    expect(effect.get_by_role("row").filter(has_text="Old Quay Ferries")).to_have_count(1)
    dialog.get_by_label("Quantity, seats").fill("420")
    expect(effect).to_contain_text("Covers what is reserved and in use now.")
    page.keyboard.press("Enter")
    expect(draft).to_contain_text("1 change")
    discard(page)


def test_an_account_is_suspended_resumed_closed_and_reopened(open_page: Open) -> None:
    page = open_page(at="/accounts/PENNANT")
    status = page.get_by_role("region", name="Status")
    press(status.get_by_role("button", name="Suspend…"))
    press(status.get_by_role("button", name="Suspend without charge"))
    apply(page, "active suspended, not charged")
    expect(status).to_contain_text("Suspended, not charged since 24 Nov 2026")
    press(status.get_by_role("button", name="Resume"))
    apply(page, "suspended, not charged active")
    expect(status).to_contain_text("Active")
    press(status.get_by_role("button", name="Close account"))
    apply(page, "all it has is released, its allocations end; a last statement remains")
    expect(status).to_contain_text("Closed")
    page.goto("/allocations?find=pennant")
    expect(page.get_by_role("rowheader", name="Pennant Rowing Club closed")).to_be_visible()
    page.goto("/allocations?open=*")
    page.get_by_role("treegrid").wait_for()
    expect(page.get_by_role("rowheader", name="Pennant Rowing Club")).to_have_count(0)
    press(page.get_by_role("button", name="Closed", exact=True))
    expect(page.get_by_role("rowheader", name="Pennant Rowing Club closed")).to_be_visible()
    page.goto("/statements/PENNANT?month=2026-11")
    expect(
        page.get_by_text("Pennant Rowing Club was closed after 23 Nov 2026: this is its last statement.")
    ).to_be_visible()
    page.goto("/accounts/PENNANT")
    press(status.get_by_role("button", name="Reopen"))
    apply(page, "closed active")
    expect(status).to_contain_text("Active")


def test_a_client_is_created_from_a_template(open_page: Open) -> None:
    page = open_page(at="/accounts/MARROW")
    page.get_by_role("region", name="Template").get_by_label("Name").fill("Veterinary group")
    page.keyboard.press("Tab")
    page.keyboard.type("ines@gannet.example")
    page.keyboard.press("Enter")
    expect(page.get_by_text("“Veterinary group” is kept")).to_be_visible()
    page.goto("/accounts/GANNET")
    press(page.get_by_role("button", name="New sub-account"))
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Copy departments, allocations and rates from").select_option("template Veterinary group")
    dialog.get_by_label("One per line").fill("Plover Chandlery")
    press(dialog.get_by_role("button", name="Add to draft"))
    press(draft_of(page).get_by_role("button", name="Review and apply"))
    for says in (
        "create client Plover Chandlery below Gannet & Rowe Managed IT",
        "create sub-account Equine Unit below Plover Chandlery",
        "charge a rate of its own from 1 Nov 2026",
    ):
        expect(dialog).to_contain_text(says)
    press(dialog.get_by_role("button", name="Back"))
    discard(page)


def test_a_branch_is_moved(open_page: Open) -> None:
    page = open_page(at="/accounts/TERN")
    press(page.get_by_role("region", name="Contacts").get_by_role("button", name="Edit"))
    page.get_by_label("Parent account").select_option("BRAMBLE")
    press(page.get_by_role("button", name="Add move to draft"))
    draft = draft_of(page)
    expect(draft).to_contain_text("1 change")
    press(draft.get_by_role("button", name="Review and apply"))
    expect(page.get_by_role("dialog")).to_contain_text("move below Gannet & Rowe Managed IT Bramble IT Partners")
    expect(page.get_by_role("dialog").get_by_role("alert")).to_contain_text(
        "Cannot be applied: Bramble IT Partners would be"
    )
    press(page.get_by_role("dialog").get_by_role("button", name="Back"))
    discard(page)


def test_two_days_are_compared(open_page: Open) -> None:
    page = open_page(at="/allocations")
    press(page.get_by_role("button", name="Allocations", exact=True))
    page.get_by_label("As of another day").fill("2026-11-01")
    page.get_by_label("Compare with").fill("2026-10-01")
    expect(page.get_by_text(re.compile("[0-9]+ cells differ from 1 Oct 2026"))).to_be_visible()
    page.keyboard.press("Escape")
    press(page.get_by_role("button", name="List differences"))
    expect(page.get_by_role("dialog")).to_contain_text(re.compile("From 1 Oct 2026 to 1 Nov 2026: [0-9]+ cells differ"))
    assert page.get_by_role("table", name="Differences between the two days").get_by_role("row").count() > 5


def test_filling_right(open_page: Open) -> None:
    page = open_page(at="/allocations?account=TERN&product=DISPATCH&pools=DISPATCH,WATCHGLASS")
    page.get_by_role("heading", name="Tern Housing Association").wait_for()
    page.locator(".cell.sel").focus()
    page.keyboard.type("44")
    page.keyboard.press("Enter")
    page.keyboard.press("Shift+ArrowRight")
    page.keyboard.press("Control+r")
    expect(draft_of(page)).to_contain_text("2 changes")
    page.keyboard.press("Escape")
    page.keyboard.press("ArrowRight")
    expect(page.locator(":focus")).to_have_attribute(
        "aria-description", re.compile("Tern Housing Association, Watchglass Guard: .*cap 44 devices")
    )
    discard(page)


def test_a_draft_is_shared_with_a_colleague_who_goes_on_with_it(open_page: Open, database_of_address: Database) -> None:
    database_of_address.run(sign_in.give_sign_in, COMMAND_LINE, "gannet2@x.example", "Joan Sallow", "GANNET", PASSWORD)
    page = open_page(at="/allocations?account=TERN&product=CHARTROOM")
    page.get_by_role("heading", name="Tern Housing Association").wait_for()
    page.get_by_label("Cap", exact=True).fill("9")
    expect(draft_of(page)).to_contain_text("1 change")
    press(draft_of(page).get_by_role("button", name="Review and apply"))
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Name").fill("Chartroom for Tern")
    page.keyboard.press("Enter")
    expect(dialog).to_contain_text("Renamed.")
    dialog.get_by_label("Share with").fill("gannet2@x.example")
    page.keyboard.press("Enter")
    expect(dialog).to_contain_text("gannet2@x.example can see and edit this draft now.")
    colleague = open_page("GANNET2", "/drafts")
    row = colleague.get_by_role("row").filter(has_text="Chartroom for Tern")
    expect(row).to_contain_text("Ines Vane")
    press(row.get_by_role("button").first)
    held: list[Route] = []
    colleague.route("**/api/allocations/rows", lambda route: held.append(route))
    with colleague.expect_request("**/api/allocations/rows"):
        press(colleague.get_by_role("button", name="Continue editing"))
    expect(draft_of(colleague)).to_contain_text("Chartroom for Tern")
    # Rows that come late leave the focus with whoever went to the draft meanwhile.
    review = draft_of(colleague).get_by_role("button", name="Review and apply")
    review.focus()
    while held:  # going on takes requests that come meanwhile along
        held.pop().continue_()
    colleague.unroute("**/api/allocations/rows")
    colleague.get_by_role("rowheader", name="Tern Housing Association").wait_for()
    expect(review).to_be_focused()
    apply(colleague, "cap")
    page.reload()
    expect(draft_of(page)).to_have_count(0)


def test_a_request_is_passed_up_and_refused_from_above(open_page: Open, database_of_address: Database) -> None:
    database_of_address.run(sign_in.give_sign_in, COMMAND_LINE, "wicket@x.example", "Wendel Pike", "WICKET", PASSWORD)
    page = open_page("WICKET", "/accounts/WICKET")
    press(page.get_by_role("row", name=re.compile("Fieldbook Dispatch")).get_by_role("button", name="Ask for more"))
    page.get_by_label("seats", exact=True).fill("2")
    page.get_by_label("Why").fill("Two new desks")
    press(page.get_by_role("button", name="Send"))
    expect(page.get_by_role("region", name="Requests")).to_contain_text("asks for 2 seats of Fieldbook Dispatch")
    reseller = open_page("BRAMBLE")
    press(reseller.get_by_role("button", name="Answer"))
    reseller.get_by_label("Comment").fill("None left here")
    press(reseller.get_by_role("button", name="Escalate"))
    mine = reseller.get_by_role("article").filter(has_text="2 seats of Fieldbook Dispatch")
    expect(mine).to_contain_text("passed up by Otis Calder, 24 Nov 2026")
    expect(mine).not_to_contain_text("None left here")
    expect(mine.get_by_role("button", name="Escalate")).to_have_count(0)
    operator = open_page()
    request = operator.get_by_role("article").filter(has_text="2 seats of Fieldbook Dispatch")
    press(request.get_by_role("button", name="Answer"))
    expect(request).to_contain_text("None left here")
    operator.get_by_label("Comment").fill("Not this month")
    press(request.get_by_role("button", name="Decline"))
    expect(request).to_have_count(0)
    reseller.get_by_label("Comment").fill("Our distributor has none")
    press(mine.get_by_role("button", name="Decline"))
    expect(mine).to_have_count(0)
    page.reload()
    requests = page.get_by_role("region", name="Requests")
    expect(requests).to_contain_text("refused")
    expect(requests).to_contain_text("Our distributor has none")
