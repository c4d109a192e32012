"""Letting somebody run a branch, in a real browser and by the keyboard; and what they then see."""

from __future__ import annotations

import re

from playwright.sync_api import expect

from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.sign_in import usecases as sign_in
from tests.browser.conftest import PASSWORD, Open, press, serious_findings


def test_leave_cover_is_given_looked_at_and_ended(open_page: Open) -> None:
    page = open_page("OLDQUAY")
    presses = 0

    def key(name: str) -> None:
        nonlocal presses
        presses += 1
        page.keyboard.press(name)

    key("g")
    key("m")
    expect(page.get_by_role("heading", name="Delegations")).to_be_visible()
    assert serious_findings(page) == []
    key("n")
    page.keyboard.type("Cora Lane")
    key("Tab")
    page.keyboard.type("cora@x.example")
    for _ in range(3):
        key("Tab")
    page.keyboard.type("12042026")
    assert serious_findings(page) == []
    key("Enter")
    row = page.get_by_role("row", name=re.compile("Cora Lane"))
    expect(row).to_contain_text("4 Dec 2026")
    assert presses <= 12, "leave cover is given in at most 12 presses"

    press(row.get_by_role("button", name="Rights of Cora Lane"))
    expect(page.get_by_role("dialog")).to_contain_text("Branch admin has it")
    page.keyboard.press("Escape")
    press(row.get_by_role("button", name="Change Cora Lane"))
    page.get_by_label("Role", exact=True).select_option("desk")
    press(page.get_by_role("dialog").get_by_role("button", name="Keep the changes"))
    expect(row).to_contain_text("Service desk")

    press(page.get_by_role("button", name="Compose a role"))
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Name", exact=True).fill("Log reader")
    dialog.get_by_label("read the log").check()
    press(dialog.get_by_role("button", name="Compose it"))
    expect(page.get_by_role("region", name="Roles")).to_contain_text("Log reader")

    press(row.get_by_role("button", name="End Cora Lane"))
    press(page.get_by_role("dialog").get_by_role("button", name="End it"))
    expect(row).to_have_count(0)


def test_a_service_desk_sees_people_and_nothing_it_cannot_do(open_page: Open, database_of_address: Database) -> None:
    page = open_page("OLDQUAY", "/delegations")
    press(page.get_by_role("button", name="Let somebody run…"))
    page.get_by_label("Name", exact=True).fill("Dov Desk")
    page.get_by_label("E-mail address").fill("desk@x.example")
    page.get_by_label("Role", exact=True).select_option("desk")
    page.keyboard.press("Enter")
    expect(page.get_by_role("status").first).to_contain_text("Dov Desk is told by mail")
    database_of_address.run(sign_in.give_sign_in, COMMAND_LINE, "desk@x.example", "Dov Desk", "OLDQUAY", PASSWORD)
    desk = open_page("DESK", "/")
    screens = desk.get_by_role("navigation", name="Screens")
    expect(screens.get_by_role("link")).to_have_text(["People"])
    people = desk.get_by_role("grid", name="People")
    people.get_by_role("link").first.wait_for()
    expect(desk.get_by_role("button", name="Add a person")).to_have_count(0)
    people.focus()
    desk.keyboard.press("Home")
    desk.keyboard.press("Space")
    chosen = desk.get_by_role("region", name="Chosen people")
    press(chosen.get_by_role("button", name="More"))
    expect(chosen.get_by_role("button", name=re.compile("…$"))).to_have_text(["Invite again…", "Withdraw invitation…"])
    desk.keyboard.press("Escape")
    people.get_by_role("link").first.click()
    expect(desk.get_by_role("heading", level=1)).to_be_visible()
