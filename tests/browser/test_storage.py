"""Storage by the keyboard: down to who stores most, a limit tried and set, a system added, and a table of sizes."""

from __future__ import annotations

import re

from playwright.sync_api import expect

from tests.browser.conftest import Open, press, serious_findings


def test_down_to_who_stores_most_and_a_limit_for_them(open_page: Open) -> None:
    page = open_page("OLDQUAY", "/storage?product=DEEPSHELF")
    accounts = page.get_by_role("grid", name="Accounts")
    expect(accounts).to_be_focused()
    expect(accounts.get_by_role("row").nth(1)).to_contain_text("Engineering Yard")
    while "Crew Office" not in accounts.locator(".vrow.at").inner_text():
        page.keyboard.press("ArrowDown")
    page.keyboard.press("Enter")
    expect(page.locator(".sums")).to_contain_text("Crew Office, GB")
    press(page.get_by_role("button", name="People", exact=True))
    people = page.get_by_role("grid", name="People")
    expect(people).to_contain_text("left behind")
    press(people.get_by_role("button", name="30 days"))
    expect(page).to_have_url(re.compile("order=month"))
    people.focus()
    page.keyboard.press("Enter")
    dialog = page.get_by_role("dialog")
    expect(dialog.get_by_role("table", name="Categories")).to_contain_text("home/")
    assert serious_findings(page) == []
    press(dialog.get_by_role("button", name="Close").last)
    people.get_by_role("button", name="cleo.usher2").click()
    expect(dialog).to_contain_text("left behind by somebody")
    press(dialog.get_by_role("button", name="Close").last)

    day = page.get_by_label("As of the end of")
    day.fill("1 Nov")
    expect(page.locator(".sums")).to_contain_text("Crew Office, GB, as of 1 Nov 2026")
    expect(people.get_by_role("columnheader", name="Limit")).to_have_count(0)
    assert serious_findings(page) == []
    day.fill("")
    expect(people.get_by_role("columnheader", name="Limit")).to_be_visible()

    press(page.get_by_role("button", name="Limit per person…"))
    dialog = page.get_by_role("dialog", name="Limit per person")
    dialog.get_by_label("Limit, GB").fill("45")
    said = dialog.locator(".say")
    expect(said).to_contain_text(re.compile(r"Of \d people, \d would be over it by \d+ GB in all"))
    slider = dialog.get_by_role("slider", name="Limit")
    slider.focus()
    for _ in range(3):
        page.keyboard.press("ArrowRight")
    expect(slider).to_have_attribute("aria-valuetext", re.compile(r"^5\d GB: about \d over$"))
    dialog.get_by_label("At the limit").select_option("grace")
    dialog.get_by_label("Days of grace").fill("7")
    assert serious_findings(page) == []
    press(dialog.get_by_role("button", name="Add to draft"))
    expect(page.get_by_role("region", name="Draft")).to_contain_text("1 change")
    people.focus()
    page.keyboard.press("Control+Enter")
    review = page.get_by_role("dialog", name=re.compile("^1 change"))
    expect(review).to_contain_text(re.compile(r"limit per person none 5\d GB, told from 90 %, stopped after 7 days"))
    expect(review).to_contain_text(re.compile(r"Of \d people, \d over and \d near; now 0 over and 0 near"))
    assert serious_findings(page) == []
    press(review.get_by_role("button", name="Apply now"))
    expect(review).to_have_count(0)
    expect(people).to_contain_text("%")
    press(page.get_by_role("button", name="Near their limit"))
    expect(people.or_(page.get_by_text("None here"))).to_be_visible()


def test_a_table_of_sizes_with_its_faults_first(open_page: Open) -> None:
    page = open_page("OLDQUAY", "/storage-systems")
    press(page.get_by_role("button", name="Upload sizes…"))
    dialog = page.get_by_role("dialog", name="Upload sizes")
    wrong = b"tenant,share,used\nOLDQUAY-CREW,MAPS,5\nTERN,MAPS,5\n"
    dialog.get_by_label("CSV, XLSX").set_input_files({"name": "s.csv", "mimeType": "text/csv", "buffer": wrong})
    expect(dialog.get_by_role("table", name="Errors")).to_contain_text("There is no account 'TERN'")
    expect(dialog.get_by_role("button", name="Record")).to_be_disabled()
    right = wrong.replace(b"TERN", b"OLDQUAY-HARBOUR")
    dialog.get_by_label("CSV, XLSX").set_input_files({"name": "s.csv", "mimeType": "text/csv", "buffer": right})
    press(dialog.get_by_role("button", name="Record 2"))
    expect(page.get_by_role("status", name="Last action")).to_contain_text("2 sizes recorded.")


def test_a_mail_store_is_added_and_what_it_says_is_shown(open_page: Open) -> None:
    page = open_page("OLDQUAY", "/storage-systems")
    press(page.get_by_role("button", name="Add system…"))
    dialog = page.get_by_role("dialog", name="Add storage system")
    kinds = dialog.get_by_label("Kind").get_by_role("option")
    expect(kinds).to_have_text(["Mail store over IMAP", "Object store"]), "folders are the operator's"
    for label, text in (("Name", "Crew mail"), ("Server", "127.0.0.1"), ("Master user", "steward"), ("Port", "9")):
        dialog.get_by_label(label, exact=True).fill(text)
    press(dialog.get_by_role("button", name="Add", exact=True))
    expect(dialog).to_contain_text("password is missing")
    dialog.get_by_label("Password").fill("of the steward")
    press(dialog.get_by_role("button", name="Add", exact=True))
    expect(page.get_by_role("row", name=re.compile("Crew mail"))).to_be_visible()
    assert serious_findings(page) == []
    press(page.get_by_role("button", name="More for Crew mail"))
    press(page.get_by_role("button", name="Remove… Crew mail"))
    press(page.get_by_role("group", name="Remove Crew mail").get_by_role("button", name="Remove"))
    expect(page.get_by_role("row", name=re.compile("Crew mail"))).to_have_count(0)
