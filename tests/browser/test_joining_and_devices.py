"""Bringing people in, joining by an address, devices, sessions and numbers in a real browser, by their keys."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path

import sqlalchemy as sa
from playwright.sync_api import Page, expect

from fair_ladle.app.devices import usecases as devices
from fair_ladle.app.leases import usecases as leases
from fair_ladle.app.people_admin import domains, listing
from fair_ladle.app.people_admin.listing import Asked
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Database
from tests.browser.conftest import press

Open = Callable[..., Page]
GANNET = Actor("Ines Vane", "", "GANNET")


def test_a_table_is_mapped_its_faults_seen_and_the_rest_brought_in(open_page: Open, tmp_path: Path) -> None:
    page = open_page(at="/people")
    page.get_by_role("grid", name="People").wait_for()
    page.keyboard.press("b")
    page.get_by_label("Or paste rows").fill(
        "Who\tE-mail\tSite\tTitle\nIda Blomqvist\tida.b@harbour.example\tOLDQUAY-CREW\tPilot\nIvo Blomqvist\tno "
        "address\tOLDQUAY-CREW\tPilot\nIna Blomqvist\tina.b@harbour.example\tNowhere\tMate\n"
    )
    page.keyboard.press("Tab")
    page.keyboard.press("Enter")
    page.get_by_role("heading", name="pasted").wait_for()
    bring = page.get_by_role("button", name=re.compile("^Import "))
    expect(bring).to_be_disabled()
    page.get_by_label("Who is", exact=True).select_option("name")
    status = page.get_by_role("status").first
    expect(status).to_contain_text("1 join")
    expect(status).to_contain_text("2 with errors")
    faults = page.get_by_role("table", name="Errors")
    expect(faults).to_contain_text("the code, or the name, of an account of the branch")
    press(faults.get_by_role("button", name="Skip row 4"))
    expect(status).to_contain_text("1 left out")
    page.get_by_label("Skip the 1 row with errors").focus()
    page.keyboard.press("Space")
    expect(bring).to_be_enabled()
    press(bring)
    expect(page.get_by_role("status").first).to_contain_text("Finished. 1 of 1 rows", timeout=30_000)
    press(page.get_by_role("link", name="To the people"))
    page.get_by_label("Find a person").fill("blomqvist")
    expect(page.get_by_role("status").first).to_have_text("1 person")
    expect(page.get_by_role("grid", name="People")).to_contain_text("invited")


def test_somebody_asks_to_join_by_an_address_and_is_let_in_from_today(
    open_page: Open, database_of_address: Database
) -> None:
    page = open_page("OLDQUAY", "/domains")
    page.get_by_label("Domain", exact=True).fill("ferry.example")
    page.get_by_role("region", name="Domains").get_by_label("Account").select_option("OLDQUAY")
    press(page.get_by_role("button", name="Add domain"))
    expect(page.get_by_role("region", name="Domains")).to_contain_text("waiting for approval")
    operator = open_page()
    expect(operator.get_by_text("Old Quay Ferries asks for ferry.example")).to_be_visible()
    operator.goto("/domains")
    press(operator.get_by_role("button", name="Approve ferry.example for Old Quay Ferries"))
    expect(operator.get_by_role("region", name="Domains")).to_contain_text("approved")
    outside = open_page(None, "/joining")
    outside.get_by_label("Name").fill("Runa Falk")
    outside.get_by_label("E-mail address").fill("runa.falk@ferry.example")
    outside.keyboard.press("Enter")
    expect(outside.get_by_role("heading")).to_have_text("Check your mail")
    with database_of_address.engine.connect() as connection:
        body = connection.scalar(sa.text("SELECT body FROM outbox WHERE to_address = 'runa.falk@ferry.example'"))
    link = re.search(r"/joining/[\w-]+", body)
    assert link
    outside.goto(link[0])
    press(outside.get_by_role("button", name="Request access"))
    expect(outside.get_by_role("heading")).to_have_text("Thank you")
    page.goto("/today")
    expect(page.get_by_role("region", name="Needs attention")).to_contain_text(
        "Runa Falk asks to join Old Quay Ferries"
    )
    press(page.get_by_role("button", name="Approve Runa Falk", exact=True))
    expect(page.get_by_role("region", name="Needs attention")).not_to_contain_text("Runa Falk")
    outside.reload()
    expect(outside.get_by_role("heading")).to_have_text("You have joined Old Quay Ferries")
    assert database_of_address.run(domains.waiting, GANNET) == []


def test_a_key_is_made_and_a_device_that_began_with_it_is_given_and_revoked(
    open_page: Open, database_of_address: Database
) -> None:
    page = open_page(at="/devices")
    page.get_by_role("grid", name="Devices").wait_for()
    page.keyboard.press("g")
    page.keyboard.press("k")
    page.get_by_label("Name", exact=True).fill("Reading rooms")
    page.get_by_label("Product").select_option("WATCHGLASS")
    page.get_by_label("Account", exact=True).select_option("NORTHFOLD")
    press(page.get_by_role("button", name="Create key"))
    key = page.get_by_role("region", name="Create activation key").locator("code").inner_text()
    token = database_of_address.run(devices.activate, key, "reading-room-1", "Reading room")[1]
    page.goto("/devices?find=reading-room")
    grid = page.get_by_role("grid", name="Devices")
    expect(grid).to_contain_text("Reading room")
    person = (
        database_of_address.run(listing.listing, GANNET, Asked(account="NORTHFOLD", status="active")).rows[0].person
    )
    grid.focus()
    page.keyboard.press("Space")
    press(page.get_by_role("button", name="Give to…"))
    page.keyboard.type(person.username)
    page.keyboard.press("Enter")
    expect(grid).to_contain_text(person.display_name)
    grid.focus()
    page.keyboard.press("Space")
    press(page.get_by_role("button", name="Revoke…"))
    page.keyboard.press("Enter")
    expect(page.get_by_role("status").first).to_have_text("0 in use")
    press(page.get_by_role("button", name="Revoked"))
    expect(grid).to_contain_text("to be told")
    assert database_of_address.run(devices.report, token)["state"] == "revoked"


def test_a_request_file_is_answered(open_page: Open, database_of_address: Database, tmp_path: Path) -> None:
    secret = database_of_address.run(devices.make_key, GANNET, "NORTHFOLD", "WATCHGLASS", "Vans")[1]
    file = tmp_path / "request.json"
    file.write_text(
        f'{{"kind": "fair-ladle device request 1", "machine": "van-1", "nonce": "n1", "key_hash": "{devices.hashed(secret)}"}}'
    )
    page = open_page(at="/devices")
    press(page.get_by_role("button", name="Answer a request file…"))
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Request file").set_input_files(file)
    dialog.get_by_label("Days").fill("45")
    press(dialog.get_by_role("button", name="Sign the answer"))
    expect(dialog.get_by_role("alert")).to_have_text("Between 1 and 30 days.")
    dialog.get_by_label("Days").fill("14")
    page.keyboard.press("Enter")
    expect(dialog.get_by_role("status")).to_contain_text("van-1 has its unit")
    expect(dialog.get_by_role("link", name="Save the answer file")).to_have_attribute("download", "van-1-answer.json")


def test_numbers_come_in_by_a_range_are_assigned_with_an_address_and_released(open_page: Open) -> None:
    page = open_page(at="/numbers")
    page.get_by_role("grid", name="Numbers").wait_for()
    press(page.get_by_role("button", name="Import…"))
    page.get_by_label(re.compile("^Numbers, one per line")).fill("+351 600 000 001 - +351 600 000 004")
    press(page.get_by_role("dialog").get_by_role("button", name="Import"))
    expect(page.get_by_role("dialog")).to_have_count(0)
    press(page.get_by_role("button", name="Free"))
    grid = page.get_by_role("grid", name="Numbers")
    expect(grid.get_by_role("row")).to_have_count(5)
    grid.focus()
    page.keyboard.press("Space")
    press(page.get_by_role("button", name="Assign…"))
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text(re.compile(r"Held for you until \d\d:\d\d"))
    dialog.get_by_label("In the account").select_option("LARKHILL-STAGE")
    press(dialog.get_by_role("button", name="Assign 1"))
    expect(dialog.get_by_role("alert")).to_have_text("+351600000001 needs the address where it is used.")
    dialog.get_by_label("Address where they are used").fill("Pier 4")
    page.keyboard.press("Enter")
    expect(dialog).to_have_count(0)
    press(page.get_by_role("button", name="In use"))
    page.get_by_label("Find a number").fill("600000001")
    expect(grid).to_contain_text("Pier 4")
    grid.focus()
    page.keyboard.press("Space")
    press(page.get_by_role("button", name="Release 1…"))
    asked = page.get_by_role("group", name="Release 1")
    expect(asked).to_contain_text("600000001: back in stock.")
    expect(asked.get_by_role("button", name="Release 1")).to_be_focused()
    page.keyboard.press("Escape")
    expect(page.get_by_role("button", name="Release 1…")).to_be_focused()
    press(page.get_by_role("button", name="Release 1…"))
    page.keyboard.press("Enter")
    expect(page.get_by_text("No numbers in this state.")).to_be_visible()


def test_a_session_is_seen_and_told_to_end(open_page: Open, database_of_address: Database) -> None:
    key = database_of_address.run(devices.make_key, GANNET, "NORTHFOLD", "CHARTROOM", "Map room")[1]
    person = (
        database_of_address.run(
            listing.listing, GANNET, Asked(account="NORTHFOLD", status="active", without="CHARTROOM")
        )
        .rows[0]
        .person
    )
    token = database_of_address.run(leases.begin, key, person.username, "map desk")[0]
    page = open_page(at="/sessions")
    table = page.get_by_role("grid", name="Sessions")
    expect(table).to_contain_text("map desk")
    page.keyboard.press("/")
    page.keyboard.type("map desk")
    expect(page.get_by_role("status").first).to_have_text("1 live")
    table.focus()
    page.keyboard.press("Space")
    press(page.get_by_role("button", name="End…"))
    page.keyboard.press("Enter")
    expect(table).to_contain_text("told to save; Ines Vane has ended it")
    assert database_of_address.run(leases.beat, token)["state"] == "ending"


def test_how_much_somebody_may_store_is_set_where_it_is_seen(open_page: Open, database_of_address: Database) -> None:
    person = (
        database_of_address.run(listing.listing, GANNET, Asked(account="OLDQUAY-CREW", status="active")).rows[0].person
    )
    page = open_page("OLDQUAY", "/accounts/OLDQUAY")
    limit = page.get_by_label("Limit of Deepshelf Storage per person, in GB")
    limit.fill("7.5")
    page.keyboard.press("Enter")
    expect(page.get_by_role("region", name="Storage per person")).to_contain_text(
        "Limit of Deepshelf Storage set to 7.5 GB."
    )
    page.goto(f"/people/{person.username}")
    storage = page.get_by_role("region", name="Storage")
    expect(storage).to_contain_text("default of Old Quay Ferries")
    own = storage.get_by_label("Own limit of Deepshelf Storage")
    own.fill("many")
    page.keyboard.press("Enter")
    expect(storage.get_by_role("alert")).to_contain_text("no amount in GB")
    own.fill("2")
    page.keyboard.press("Enter")
    expect(storage).to_contain_text("set for them")
