"""Letting somebody run a branch, in a real browser and by the keyboard; and what they then see."""

from __future__ import annotations

import csv
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
    page.keyboard.type("4 dec")
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
    press(page.get_by_role("dialog").get_by_role("button", name="Save"))
    expect(row).to_contain_text("Service desk")

    press(page.get_by_role("button", name="New role"))
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Name", exact=True).fill("Log reader")
    dialog.get_by_label("read the log").check()
    press(dialog.get_by_role("button", name="Create role"))
    expect(page.get_by_role("region", name="Roles")).to_contain_text("Log reader")

    press(row.get_by_role("button", name="End Cora Lane"))
    press(page.get_by_role("dialog").get_by_role("button", name="End it"))
    expect(row).to_have_count(0)


def test_a_service_desk_sees_people_and_nothing_it_cannot_do(open_page: Open, database_of_address: Database) -> None:
    page = open_page("OLDQUAY", "/delegations")
    press(page.get_by_role("button", name="New delegation…"))
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
    expect(chosen.get_by_role("button", name=re.compile("…$"))).to_have_text(["Invite again…", "Revoke invitation…"])
    desk.keyboard.press("Escape")
    people.get_by_role("link").first.click()
    expect(desk.get_by_role("heading", level=1)).to_be_visible()


def test_what_is_above_a_ceiling_is_asked_for_and_applied_by_who_may(
    open_page: Open, database_of_address: Database
) -> None:
    page = open_page("GANNET", "/delegations")
    press(page.get_by_role("button", name="New delegation…"))
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Name", exact=True).fill("Lea Reed")
    dialog.get_by_label("E-mail address").fill("lea@x.example")
    dialog.get_by_label("Account, with all below it").select_option("OLDQUAY")
    dialog.get_by_text("Limits", exact=True).click()
    dialog.get_by_label("Fieldbook Core: at most in one change").fill("1")
    dialog.get_by_label("Prices").uncheck()
    assert serious_findings(page) == []
    press(dialog.get_by_role("button", name="Create delegation"))
    row = page.get_by_role("row", name=re.compile("Lea Reed"))
    expect(row).to_contain_text("1 ceiling · no prices")
    press(page.get_by_role("button", name="Export"))
    with page.expect_download() as download:
        press(page.get_by_role("button", name="CSV"))
    lines = list(csv.DictReader(download.value.path().open()))
    assert all(each["account"] and each["email"] for each in lines), "of every row who and where"
    assert [each["limited_to"] for each in lines if each["person"] == "Lea Reed"] == ["1 ceiling · no prices"]
    database_of_address.run(sign_in.give_sign_in, COMMAND_LINE, "lea@x.example", "Lea Reed", "OLDQUAY", PASSWORD)

    lea = open_page("LEA", "/people?find=elke")
    people = lea.get_by_role("grid", name="People")
    expect(people.get_by_role("link")).to_have_count(3)
    people.focus()
    for name in ("Home", "ArrowDown", "Space", "ArrowDown", "Space"):
        lea.keyboard.press(name)
    press(lea.get_by_role("region", name="Chosen people").get_by_role("button", name="Assign…"))
    act = lea.get_by_role("dialog")
    act.get_by_label("Product").select_option("FIELD-CORE")
    expect(act.get_by_role("alert")).to_contain_text("at most 1 seat of Fieldbook Core in one change; here are 2 seats")
    act.get_by_label("Reason").fill("New desks")
    assert serious_findings(lea) == []
    lea.keyboard.press("Enter")
    expect(act.get_by_role("status")).to_contain_text("The draft is kept under Drafts")

    boss = open_page("OLDQUAY", "/drafts")
    drawer = boss.get_by_role("complementary", name="Selected draft")
    expect(drawer).to_contain_text("New desks")
    expect(drawer).to_contain_text("Elke Kestrel")
    assert serious_findings(boss) == []
    press(drawer.get_by_role("button", name="Apply"))
    expect(drawer).to_contain_text("applied")
    boss.goto("/log?kind=draft+asked")
    expect(boss.get_by_role("table", name="Log, newest first")).to_contain_text("Lea Reed")
    boss.get_by_label("Find words").fill("desks")
    assert serious_findings(boss) == []


def test_the_product_is_seen_as_a_role_and_a_key_is_made(open_page: Open) -> None:
    page = open_page("GANNET", "/delegations")
    press(page.get_by_role("button", name="New delegation…"))
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Account, with all below it").select_option("OLDQUAY")
    dialog.get_by_label("Role", exact=True).select_option("billing")
    press(dialog.get_by_role("button", name="Preview as this role"))
    expect(page.get_by_text("Preview as Billing reader of Old Quay Ferries")).to_be_visible()
    screens = page.get_by_role("navigation", name="Screens")
    expect(screens.get_by_role("link")).to_have_text(["Pools", "Statements"])
    assert serious_findings(page) == []
    page.get_by_role("button", name="Exit preview").click()
    expect(page.get_by_role("heading", name="Delegations")).to_be_visible()
    page.get_by_role("region", name="On a past day").get_by_label("On").fill("2026-11-24")
    page.keyboard.press("Enter")
    expect(page.get_by_role("dialog").get_by_role("table")).to_contain_text("Maren Tove")
    page.keyboard.press("Escape")

    page.goto("/own")
    press(page.get_by_role("button", name="Create key…"))
    page.get_by_label("Name").fill("Reports")
    page.get_by_label("Last day", exact=True).fill("2027-01-31")
    page.get_by_label("Limit products and amounts").check()
    page.get_by_label("Fieldbook Full: at most in one change").fill("5")
    assert serious_findings(page) == []
    page.get_by_label("Your password", exact=True).first.fill(PASSWORD)
    page.keyboard.press("Enter")
    expect(page.get_by_role("table", name="Keys")).to_contain_text("1 ceiling")
    key = page.get_by_label("Key", exact=True).inner_text()
    assert serious_findings(page) == []
    answer = page.request.get("/api/pools", headers={"Authorization": f"Bearer {key}", "Cookie": ""})
    assert answer.status == 200
    press(page.get_by_role("button", name="End Reports"))
    expect(page.get_by_role("table", name="Keys")).to_have_count(0)
    assert page.request.get("/api/pools", headers={"Authorization": f"Bearer {key}"}).status == 401
