"""People and groups in a real browser, by their keys: finding, marking many and acting once, a rule, and joining."""

from __future__ import annotations

import re
from collections.abc import Callable

import sqlalchemy as sa
from playwright.sync_api import Locator, Page, expect

from fair_ladle.app.plumbing.database import Database
from tests.browser.conftest import press, serious_findings

Open = Callable[..., Page]


def test_many_are_found_marked_and_given_a_seat_at_once(open_page: Open) -> None:
    page = open_page()
    page.keyboard.press("g")
    page.keyboard.press("e")
    people = page.get_by_role("grid", name="People")
    people.wait_for()
    assert people.get_by_role("row").count() < 60, "only what is on screen is there"
    page.keyboard.press("/")
    page.keyboard.type("ada")
    expect(page.get_by_role("status").first).to_have_text(re.compile("^[0-9]{1,2} people$"))
    page.keyboard.press("Enter")
    expect(people).to_be_focused()
    expect(people.get_by_role("link").first).to_contain_text("Ada")
    page.keyboard.press("Space")
    for _ in range(3):
        page.keyboard.press("Shift+ArrowDown")
    chosen = page.get_by_role("region", name="Chosen people")
    expect(chosen).to_contain_text("4 chosen")
    people.focus()
    page.keyboard.press("Enter")
    page.get_by_role("heading", level=1, name=re.compile("^Ada")).wait_for()
    page.go_back()
    expect(chosen).to_contain_text("4 chosen"), "going back finds the choice and the row as they were left"
    expect(people.locator(".at")).to_have_attribute("aria-rowindex", "5")
    press(chosen.get_by_role("button", name="Assign…"))
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Product").select_option("DISPATCH")
    expect(dialog.get_by_role("status")).to_contain_text("would be given a seat")
    expect(dialog.get_by_role("table", name="Could not be done")).to_contain_text(
        "has no Fieldbook Core or Fieldbook Full, which Fieldbook Dispatch needs."
    )
    press(dialog.get_by_role("button", name=re.compile("^Assign [0-9] of 4")))
    expect(dialog.get_by_role("status")).to_contain_text("were given a seat")
    press(dialog.get_by_role("button", name="Close").last)
    expect(chosen).to_have_count(0)
    people.focus()
    page.keyboard.press("Control+a")
    expect(chosen).to_contain_text(re.compile("[0-9]+ chosen"))
    page.keyboard.press("Escape")
    page.keyboard.press("Home")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", level=1)).to_contain_text("Ada")
    expect(page.get_by_role("region", name="Groups")).to_contain_text("by its rule")


def first_chosen(people: Locator) -> str:
    """Choose the first of the list by the keyboard; their name."""
    people.get_by_role("link").first.wait_for()
    people.focus()
    people.page.keyboard.press("Home")
    people.page.keyboard.press("Space")
    return people.get_by_role("row", selected=True).get_by_role("link").first.inner_text()


def test_seats_are_swapped_with_their_components_set_aside_and_moved_along(open_page: Open) -> None:
    page = open_page("OLDQUAY", "/people?product=FIELD-FULL&status=active")
    people, chosen, dialog = (
        page.get_by_role("grid", name="People"),
        page.get_by_role("region", name="Chosen people"),
        page.get_by_role("dialog"),
    )
    name = first_chosen(people)
    press(chosen.get_by_role("button", name="Swap…"))
    dialog.get_by_label("From").select_option("FIELD-FULL")
    dialog.get_by_label("To", exact=True).select_option("FIELD-CORE")
    dialog.get_by_label("MAPS becomes").select_option("INSPECTIONS")
    press(dialog.get_by_role("button", name="Swap 1 of 1"))
    expect(dialog.get_by_role("status")).to_contain_text("1 was swapped; 1 seat released")
    expect(dialog.get_by_role("table", name="Seats")).to_contain_text("Fieldbook Core")
    press(dialog.get_by_role("button", name="Close").last)
    expect(chosen).to_have_count(0)
    expect(people).not_to_contain_text(name)
    page.goto("/people?without=LANTERN-MAIL&status=active")
    name = first_chosen(people)
    press(chosen.get_by_role("button", name="Reserve a seat…"))
    dialog.get_by_label("Product").select_option("LANTERN-MAIL")
    press(dialog.get_by_role("button", name="Reserve a seat 1 of 1"))
    expect(dialog.get_by_role("status")).to_contain_text("1 was kept a seat")
    press(dialog.get_by_role("button", name="Close").last)
    expect(chosen).to_have_count(0)
    assert first_chosen(people) == name
    press(chosen.get_by_role("button", name="Move…", exact=True))
    dialog.get_by_label("To account").select_option("OLDQUAY-TICKET")
    press(dialog.get_by_role("button", name="Move 1 of 1"))
    expect(dialog.get_by_role("status")).to_contain_text("1 was moved")
    press(dialog.get_by_role("button", name="Close").last)
    page.goto("/people?account=OLDQUAY-CREW&status=active")
    leaver = first_chosen(people)
    press(chosen.get_by_role("button", name="Remove…", exact=True))
    expect(dialog).to_contain_text(re.compile(r"They store .* GB of Deepshelf Storage \(1 person\); it stays"))
    dialog.get_by_label("What they store").select_option("deleted after days")
    dialog.get_by_label("Days until then").fill("7")
    expect(dialog).to_contain_text("it is deleted after 7 days")
    assert serious_findings(page) == []
    press(dialog.get_by_role("button", name="Remove 1 of 1"))
    expect(dialog.get_by_role("status")).to_contain_text("1 was removed")
    press(dialog.get_by_role("button", name="Close").last)
    expect(people).not_to_contain_text(leaver)
    page.goto("/queue")
    expect(page.get_by_role("region", name="Reserved").get_by_role("row", name=re.compile(name))).to_contain_text(
        "Ticket Halls"
    )


def test_a_view_with_a_filter_is_kept_and_opened_again(open_page: Open) -> None:
    page = open_page(at="/people")
    press(page.get_by_role("button", name="Filter"))
    page.get_by_label("Last seen").select_option("never")
    page.get_by_label("SCIM filter").fill('title is "x"')
    page.keyboard.press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("At position 7")
    page.get_by_label("SCIM filter").fill('department sw "Q"')
    page.keyboard.press("Enter")
    page.keyboard.press("Escape")
    chips = page.get_by_role("group", name="Active filters")
    expect(chips).to_contain_text("never seen")
    press(page.get_by_role("button", name="Views"))
    page.get_by_label("Name of this view").fill("Never seen at the quays")
    page.keyboard.press("Enter")
    expect(page.get_by_role("button", name="Never seen at the quays", exact=True)).to_be_visible()
    page.goto("/people")
    press(page.get_by_role("button", name="Views"))
    press(page.get_by_role("button", name="Never seen at the quays", exact=True))
    expect(chips).to_contain_text('department sw "Q"')
    press(chips.get_by_role("button", name=re.compile("department")))
    expect(chips).not_to_contain_text("department")


def test_a_group_by_a_rule_shows_its_people_while_it_is_written(open_page: Open) -> None:
    page = open_page("OLDQUAY", "/groups")
    press(page.get_by_role("button", name="New group"))
    page.get_by_role("region", name="New group").get_by_label("Name", exact=True).fill("Officers")
    press(page.get_by_role("button", name="Add condition"))
    page.get_by_label("Value of condition 1").fill("Officer")
    inside = page.get_by_role("region", name="Members")
    expect(inside).to_contain_text(re.compile("[1-9][0-9]* people would be in it"))
    expect(page.get_by_label("As a SCIM filter")).to_have_value('title eq "Officer"')
    page.get_by_label("As a SCIM filter").fill('title eq "Officer" and not (active')
    expect(page.get_by_role("alert")).to_contain_text("At position 35: here is the end")
    page.get_by_label("As a SCIM filter").fill('title eq "Officer" and active eq true')
    press(page.get_by_role("button", name="Create group"))
    expect(page.get_by_text("people are in it")).to_be_visible()
    page.get_by_label("As a SCIM filter").fill('title eq "Officer" or title eq "Director"')
    expect(inside).to_contain_text(re.compile("[1-9][0-9]* come"))
    press(page.get_by_role("button", name="Save"))
    expect(page.get_by_role("button", name="Save")).to_be_disabled()
    by_hand = page.get_by_role("group", name="Members by hand")
    by_hand.get_by_role("combobox").fill("elke kestrel")
    expect(by_hand.locator("option")).to_have_count(1)
    page.keyboard.press("Enter")
    expect(by_hand.get_by_role("button", name="Take out Elke Kestrel")).to_be_visible()
    press(page.get_by_role("button", name="Save"))
    expect(page.get_by_role("button", name="Save")).to_be_disabled()
    page.reload()
    press(by_hand.get_by_role("button", name="Take out Elke Kestrel"))
    expect(inside).to_contain_text("1 leave")
    page.get_by_role("navigation", name="Groups").get_by_role("button", name=re.compile("^Officers")).focus()
    page.keyboard.press("Alt+ArrowUp")
    press(page.get_by_role("button", name="Delete…"))
    press(page.get_by_role("button", name="Delete it"))
    expect(
        page.get_by_role("navigation", name="Groups").get_by_role("button", name=re.compile("^Officers"))
    ).to_have_count(0)


def test_somebody_is_invited_and_joins(open_page: Open, database_of_address: Database) -> None:
    page = open_page("OLDQUAY", "/people")
    page.get_by_role("grid", name="People").wait_for()
    page.locator("body").press("n")
    dialog = page.get_by_role("dialog")
    page.keyboard.type("Una Marsh")
    page.keyboard.press("Tab")
    page.keyboard.type("una@quay.example")
    dialog.get_by_label("Account").select_option("OLDQUAY")
    page.keyboard.press("Enter")
    expect(dialog).to_have_count(0)
    with database_of_address.engine.connect() as connection:
        body = connection.scalar(sa.text("SELECT body FROM outbox WHERE to_address = 'una@quay.example'"))
    token = re.search(r"/join/(\S+)", str(body)).group(1)  # type: ignore[union-attr]
    guest = open_page(None, f"/join/{token}")
    expect(guest.get_by_role("heading", name="Join Old Quay Ferries")).to_be_visible()
    press(guest.get_by_role("button", name="Join"))
    expect(guest.get_by_role("heading", name="You have joined Old Quay Ferries")).to_be_visible()
    page.goto("/people/una.marsh")
    expect(page.get_by_text("● active")).to_be_visible()
    expect(page.get_by_role("region", name="History")).to_contain_text("joined")
    press(page.get_by_role("button", name="Suspend…"))
    press(page.get_by_role("dialog").get_by_role("button", name="Suspend 1 of 1"))
    expect(page.get_by_role("dialog").get_by_role("status")).to_contain_text("1 was suspended")
    press(page.get_by_role("dialog").get_by_role("button", name="Close").last)
    expect(page.get_by_text("◆ suspended")).to_be_visible()


def test_a_group_gives_a_product_and_a_person_shows_through_which_layer(open_page: Open) -> None:
    page = open_page("OLDQUAY", "/groups?group=OLDQUAY%2FOLDQUAY-LEADS")
    gives = page.get_by_role("region", name="Group entitlements")
    press(gives.get_by_role("button", name="Add entitlement…"))
    gives.get_by_label("Product", exact=True).select_option("FIELD-FULL")
    gives.get_by_label("MAPS").focus()
    page.keyboard.press("Space")
    expect(gives.get_by_role("status")).to_contain_text(
        re.compile("[1-9][0-9]* seats? (is|are) given, [0-9]+ taken back, [1-9][0-9]* people wait")
    )
    expect(gives.get_by_role("status")).not_to_contain_text("of this family only one at a time")
    press(gives.get_by_role("button", name="Add", exact=True))
    expect(gives.get_by_role("table")).to_contain_text("JOBS, ROUTES, INSPECTIONS, TIMESHEETS, SIGNATURES")
    page.get_by_label("As a SCIM filter").fill('title eq "Manager"')
    expect(page.get_by_role("region", name="Members")).to_contain_text(re.compile("[1-9][0-9]* taken back"))
    page.goto("/queue")
    expect(page.get_by_role("grid", name="Waiting list")).to_contain_text("a free seat")
    page.goto("/people?group=OLDQUAY%2FOLDQUAY-LEADS&product=FIELD-FULL")
    page.get_by_role("grid", name="People").focus()
    page.keyboard.press("Enter")
    layers = page.get_by_role("region", name="Entitlements by source")
    expect(layers.get_by_role("row", name=re.compile("^INSPECTIONS"))).to_contain_text("on by Leads")
    press(layers.get_by_role("button", name="Switch INSPECTIONS of Fieldbook Full off"))
    expect(layers.get_by_role("row", name=re.compile("^INSPECTIONS"))).to_contain_text("off, directly")
    person = page.url
    page.goto("/groups?group=OLDQUAY%2FOLDQUAY-LEADS")
    gives.get_by_label("Bar a component").select_option("FIELD-FULL SIGNATURES")
    press(gives.get_by_role("button", name="Bar", exact=True))
    expect(gives).to_contain_text("SIGNATURES of Fieldbook Full is barred")
    page.goto(person)
    expect(layers.get_by_role("row", name=re.compile("^SIGNATURES"))).to_contain_text("barred by Leads")
    press(layers.get_by_role("button", name="Switch SIGNATURES of Fieldbook Full on"))
    expect(layers.get_by_role("row", name=re.compile("^SIGNATURES"))).to_contain_text("on ×")
    page.goto("/groups?group=OLDQUAY%2FOLDQUAY-LEADS")
    press(gives.get_by_role("button", name="Allow SIGNATURES of Fieldbook Full again"))
    press(gives.get_by_role("button", name="Change Fieldbook Full"))
    gives.get_by_label("Remove entitlement").focus()
    page.keyboard.press("Space")
    expect(gives.get_by_role("status")).to_contain_text(re.compile("[1-9][0-9]* taken back, 0 people wait"))
    press(gives.get_by_role("button", name="Remove"))
    expect(gives.get_by_role("table")).to_have_count(0)


def test_idle_seats_are_looked_at_taken_back_and_given_back(open_page: Open, database_of_address: Database) -> None:
    page = open_page("OLDQUAY")
    page.keyboard.press("g")
    page.keyboard.press("i")
    page.get_by_label("Name", exact=True).fill("Not seen for 60 days")
    page.get_by_label("Days of notice").fill("7")
    page.get_by_label("Leads (Old Quay Ferries)").focus()
    page.keyboard.press("Space")
    page.get_by_label("Name", exact=True).press("Enter")
    looked = page.get_by_role("region", name="Preview of a run now")
    expect(looked.get_by_role("status")).to_contain_text(
        re.compile("[1-9][0-9]* (person is|people are) notified first")
    )
    press(looked.get_by_role("button", name="Run it now"))
    expect(looked.get_by_role("status")).to_contain_text("No one")
    with database_of_address.engine.connect() as connection:
        body = connection.scalar(sa.text("SELECT body FROM outbox WHERE subject LIKE 'Do you still need %' LIMIT 1"))
    token = re.search(r"/keep/(\S+)", str(body)).group(1)  # type: ignore[union-attr]
    guest = open_page(None, f"/keep/{token}")
    press(guest.get_by_role("button", name="I still need it"))
    expect(guest.get_by_role("heading", name="You keep your seat")).to_be_visible()
    page.get_by_label("Days of notice").fill("0")
    press(page.get_by_role("button", name="Save"))
    expect(looked.get_by_role("status")).to_contain_text(re.compile(r"[1-9][0-9]* seats? (is|are) released"))
    expect(looked).to_contain_text("that they still need it")
    press(looked.get_by_role("button", name="Run it now"))
    runs = page.get_by_role("region", name="Runs")
    press(runs.get_by_role("button", name="Return"))
    expect(runs).to_contain_text("taken back by Maren Tove")
    expect(runs).to_contain_text(re.compile("[1-9][0-9]* (person has|people have) everything again"))
