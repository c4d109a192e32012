"""From an empty home to a first client's admin giving a seat, by the keyboard and without the command line."""

from __future__ import annotations

import re
import zipfile
from collections.abc import Callable, Iterator
from pathlib import Path

import pyotp
import pytest
import sqlalchemy as sa
from playwright.sync_api import Page, expect

from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.setup import usecases as setup
from fair_ladle.app.sign_in import usecases as sign_in
from tests.browser.conftest import PASSWORD, Open, press, serious_findings, serving
from tests.browser.test_accounts_and_lots import apply

WORDS = "seventeen-wet-herons"


@pytest.fixture(scope="module")
def database_of_address(new_database: Callable[[], Database]) -> Database:
    return new_database()


@pytest.fixture(scope="module")
def address(database_of_address: Database, own_port: int) -> Iterator[str]:
    with serving(database_of_address, own_port) as there:
        yield there


def fill(page: Page, **fields: str) -> None:
    for label, value in fields.items():
        page.get_by_label(label.replace("_", " "), exact=True).fill(value)


def step(page: Page, name: str) -> None:
    page.goto("/today")
    press(page.get_by_role("link", name=name))


def test_from_an_empty_home_to_a_seat_given_by_a_clients_admin(open_page: Open, database_of_address: Database) -> None:
    page = open_page(None, "/")
    expect(page.get_by_text("This installation is new")).to_be_visible()
    page.goto(f"/setup/{database_of_address.run(setup.new_link)}")
    fill(page, Name="Sandpiper & Knot", Your_name="Ida Knot", Password=WORDS, Password_again=WORDS)
    page.get_by_label("E-mail address").fill("ida@sandpiper.example")
    assert serious_findings(page) == []
    page.keyboard.press("Enter")
    expect(page.get_by_role("region", name="First steps")).to_be_visible()
    expect(page.get_by_role("link", name="Turn on a second factor")).to_have_attribute("href", "/own")
    assert serious_findings(page) == []

    step(page, "Add a product")
    fill(page, Name="Desk suite", Code="desk")
    page.keyboard.press("Enter")
    press(page.get_by_role("button", name="Buy Desk suite"))
    page.get_by_label("Quantity, seats").fill("40")
    page.get_by_label("Price of one a month, EUR").fill("4")
    page.get_by_label("Order reference").fill("PO-1")
    page.keyboard.press("Enter")
    apply(page, "")
    expect(page.get_by_role("region", name="Desk suite of Sandpiper & Knot")).to_be_visible()

    step(page, "Add the first client")
    page.get_by_label("Products without an allocation").select_option("free")
    page.get_by_label(re.compile("^One per line")).fill("Heron Mills")
    press(page.get_by_role("dialog").get_by_role("button", name=re.compile("draft")))
    apply(page, "")

    step(page, "Delegate the client")
    fill(page, Name="Per Reed")
    page.get_by_label("E-mail address").fill("per@heron.example")
    page.get_by_label("Account", exact=True).select_option(label="\u00a0\u00a0Heron Mills")
    page.get_by_label("Role").select_option("admin")
    page.get_by_label(re.compile("^Invite by mail")).uncheck()
    press(page.get_by_role("dialog").get_by_role("button", name="Add"))
    expect(page.get_by_role("dialog")).to_have_count(0)
    with database_of_address.engine.connect() as connection:
        mails = connection.scalars(sa.text("SELECT body FROM outbox WHERE to_address = 'per@heron.example'")).all()
    link = re.search(r"/password/(\S+)", "\n".join(mails))
    assert link

    client = open_page(None, f"/password/{link.group(1)}")
    fill(client, Password="per@heron.example", Password_again="per@heron.example")
    client.keyboard.press("Enter")
    expect(client.get_by_role("alert")).to_contain_text("easy to guess")
    fill(client, Password=WORDS, Password_again=WORDS)
    assert serious_findings(client) == []
    client.keyboard.press("Enter")
    press(client.get_by_role("link", name="Sign in"))
    client.get_by_label("E-mail address").fill("per@heron.example")
    client.get_by_label("Password").fill(WORDS)
    client.keyboard.press("Enter")
    expect(client.get_by_role("banner")).to_contain_text("Heron Mills")
    client.goto("/people")
    people = client.get_by_role("grid", name="People")
    people.get_by_role("link").first.wait_for()
    people.focus()
    client.keyboard.press("Home")
    client.keyboard.press("Space")
    press(client.get_by_role("region", name="Chosen people").get_by_role("button", name="Assign…"))
    dialog = client.get_by_role("dialog")
    dialog.get_by_label("Product").select_option("DESK")
    press(dialog.get_by_role("button", name=re.compile("^Assign")).last)
    expect(dialog.get_by_role("status")).to_contain_text("was given a seat")

    page.goto("/today")
    expect(page.get_by_role("region", name="First steps")).to_have_count(0)


def test_a_second_factor_is_set_up_and_asked_for(open_page: Open, database_of_address: Database) -> None:
    if database_of_address.run(setup.new_link) is not None:
        pytest.skip("the installation of this module is not set up")
    page = open_page(None, "/")

    def sign_in() -> None:
        page.get_by_label("E-mail address").fill("ida@sandpiper.example")
        page.get_by_label("Password").fill(WORDS)
        page.keyboard.press("Enter")

    sign_in()
    page.get_by_role("navigation", name="Screens").wait_for()
    page.goto("/own")
    factor = page.get_by_role("region", name="Second factor")
    factor.get_by_label("Your password").fill(WORDS)
    press(factor.get_by_role("button", name="Set up"))
    secret = factor.locator("p.text-break").inner_text()
    codes = pyotp.TOTP(secret)
    page.get_by_label("Code", exact=True).fill(codes.at(database_of_address.clock.now()))
    assert serious_findings(page) == []
    page.keyboard.press("Enter")
    spare = page.get_by_label("Recovery codes").inner_text().split()[0]
    page.get_by_role("button", name="Ida Knot").click()
    page.get_by_role("button", name="Sign out").click()
    sign_in()
    page.get_by_label("Code of your authenticator").fill("000000")
    page.keyboard.press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("not right")
    page.get_by_label("Code of your authenticator").fill(spare)
    page.keyboard.press("Enter")
    page.get_by_role("navigation", name="Screens").wait_for()
    page.goto("/own")
    expect(factor).to_contain_text("9 recovery codes are left")
    expect(page.get_by_role("table", name="Sessions")).to_contain_text("this one")


INTAKE = {
    "accounts.csv": "code,parent,kind,name,admin_email\nWREN,{top},client,Wren Mills,wren@x.example\n",
    "products.csv": "code,name,measure,unit\nCHAIR,Chair,seat,seat\n",
}


def test_an_intake_is_brought_in_and_its_admins_are_invited(
    open_page: Open, database_of_address: Database, tmp_path: Path
) -> None:
    if database_of_address.run(setup.new_link) is not None:
        pytest.skip("the installation of this module is not set up")
    database_of_address.run(sign_in.give_sign_in, COMMAND_LINE, "boss@x.example", "Boss", "SANDPIPER-KNOT", PASSWORD)
    page, file = open_page("BOSS", "/intake"), tmp_path / "intake.zip"
    with zipfile.ZipFile(file, "w") as packed:
        for name, table in INTAKE.items():
            packed.writestr(name, table.format(top="NOBODY"))
    page.get_by_label("Workbook or zip").set_input_files(file)
    expect(page.get_by_role("table", name="Errors")).to_contain_text("NOBODY")
    with zipfile.ZipFile(file, "w") as packed:
        for name, table in INTAKE.items():
            packed.writestr(name, table.format(top="SANDPIPER-KNOT"))
    page.get_by_label("Workbook or zip").set_input_files(file)
    whom = page.get_by_role("region", name="People to invite")
    expect(whom).to_contain_text("Wren Mills · wren@x.example")
    assert serious_findings(page) == []
    press(whom.get_by_role("button", name="Invite 1"))
    expect(whom.get_by_role("status")).to_contain_text("1 of 1 invited")
    with database_of_address.engine.connect() as connection:
        mails = connection.scalars(sa.text("SELECT body FROM outbox WHERE to_address = 'wren@x.example'")).all()
    assert len(mails) == 1 and "/password/" in mails[0]
