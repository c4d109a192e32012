"""The built front end on a real server, and Debian's Chromium; any console error fails the test."""

from __future__ import annotations

import re
import socket
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest
import uvicorn
from playwright.sync_api import Browser, BrowserContext, Locator, Page, expect, sync_playwright

from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.schedule import Schedule
from fair_ladle.app.plumbing.settings import Settings
from fair_ladle.app.sign_in import usecases as sign_in
from fair_ladle.jobs import KeepDays, KeepMonths, jobs
from fair_ladle.main import create_app

PASSWORD = "correct-ferry-staple"
WEB = Path(__file__).parents[2] / "web"
ARGUMENTS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    # The browser's own bar is never seen, and no process is started for a page that may come: a third of the time.
    "--disable-features=WebUIOmniboxPopup,WebUIOmniboxAimPopup,SpareRendererForSitePerProcess,PaintHolding,HttpsUpgrades",
    "--process-per-site",
]
KEEPING = (KeepDays, KeepMonths)
"""Jobs that lay a whole installation's past out, for screens that show the same without."""
Open = Callable[..., Page]
expect.set_options(timeout=20_000)
REFUSED = re.compile(r"status of (404|409|422) |status of 401 .*/api/sign-in$|status of 403 .*/api/people/preview$")


@pytest.fixture(scope="session")
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        chromium = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=ARGUMENTS)
        yield chromium
        chromium.close()


@pytest.fixture(scope="session")
def contexts(browser: Browser, own_port: int) -> Iterator[dict[str, BrowserContext]]:
    """Where an account's pages are opened, one after the other: what the browser keeps of the front end's files is kept
    from test to test, and what a page keeps for itself goes with it."""
    found: dict[str, BrowserContext] = {}
    yield found
    for context in found.values():
        context.close()


@pytest.fixture(scope="session")
def own_port() -> int:
    """One for all servers, which come one after the other: what the browser keeps is kept by address."""
    return free_port()


@pytest.fixture(scope="module")
def database_of_address(new_demo: Callable[[], Database]) -> Database:
    return new_demo()


def free_port() -> int:
    """A port nobody listens on."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


@contextmanager
def serving(database: Database, port: int) -> Iterator[str]:
    """A server on a database, and its address."""
    assert (WEB / "dist" / "index.html").exists(), "the front end is not built; run ./check"
    app = create_app(database, jobs_beside=True)
    server = uvicorn.Server(uvicorn.Config(app, host="127.0.0.1", port=port, log_level="warning"))
    thread = threading.Thread(target=server.run)
    thread.start()
    schedule = Schedule(database, [each for each in jobs(Settings.read()) if not isinstance(each, KEEPING)])
    schedule.start()
    while not server.started:
        time.sleep(0.02)
    yield f"http://127.0.0.1:{port}"
    server.should_exit = True
    schedule.stop()
    thread.join()


@pytest.fixture(scope="module")
def address(database_of_address: Database, own_port: int) -> Iterator[str]:
    for account, name in (("GANNET", "Ines Vane"), ("BRAMBLE", "Otis Calder"), ("OLDQUAY", "Maren Tove")):
        database_of_address.run(
            sign_in.give_sign_in, COMMAND_LINE, f"{account.lower()}@x.example", name, account, PASSWORD
        )
    with serving(database_of_address, own_port) as there:
        yield there


@pytest.fixture(scope="module")
def signed_in(contexts: dict[str, BrowserContext]) -> dict[str, Any]:
    """The cookies of who has signed in before, by account: entering again is not what most tests are about."""
    for context in contexts.values():
        context.clear_cookies()
    return {}


@pytest.fixture(scope="session")
def errors() -> list[str]:
    """What pages wrote to the console as an error during a test."""
    return []


@pytest.fixture(scope="module")
def lasting() -> Iterator[dict[str, Page]]:
    """By account, the page that tests take over from each other which only look."""
    found: dict[str, Page] = {}
    yield found
    for page in found.values():
        page.close()


@pytest.fixture
def open_page(
    browser: Browser,
    contexts: dict[str, BrowserContext],
    address: str,
    signed_in: dict[str, Any],
    errors: list[str],
    lasting: dict[str, Page],
) -> Iterator[Open]:
    errors.clear()
    guests: list[BrowserContext] = []
    pages: list[Page] = []

    def enter(
        account: str | None = "GANNET",
        at: str = "/today",
        width: int = 1280,
        height: int = 800,
        dark: bool = False,
        looks_only: bool = False,
    ) -> Page:
        if account is not None and looks_only and account in lasting:
            page = lasting[account]
            page.set_viewport_size({"width": width, "height": height})
            page.emulate_media(color_scheme="dark" if dark else "light")
            page.goto(at)
            return page
        if account is None or account not in contexts:
            context = browser.new_context(base_url=address, accept_downloads=True)
            if account is None:
                guests.append(context)
            else:
                contexts[account] = context
                context.new_page().goto("/mark.svg")  # what draws this account's pages goes on between them
        else:
            context = contexts[account]
        page = context.new_page()
        if account is not None and looks_only:
            lasting[account] = page
        else:
            pages.append(page)
        page.set_viewport_size({"width": width, "height": height})
        page.emulate_media(color_scheme="dark" if dark else "light")
        page.set_default_timeout(20_000)
        page.set_default_navigation_timeout(30_000)
        # A refused request is written to the console by the browser itself; what the page makes of it is asserted.
        page.on(
            "console",
            lambda message: (
                errors.append(said)
                if message.type == "error"
                and not REFUSED.search(said := f"{message.text} {message.location.get('url', '')}")
                else None
            ),
        )
        page.on("pageerror", lambda error: errors.append(str(error)))
        if account in signed_in:  # put over what is there: a page left open goes on asking, never without one
            context.add_cookies(signed_in[account])
        page.goto(at)
        if account is None:
            return page
        screens, email = page.get_by_role("navigation", name="Screens"), page.get_by_label("E-mail address")
        screens.or_(email).first.wait_for()
        if email.is_visible():
            email.fill(f"{account.lower()}@x.example")
            page.keyboard.press("Tab")
            page.keyboard.type(PASSWORD)
            page.keyboard.press("Enter")
            screens.wait_for()
            signed_in[account] = context.cookies()
        return page

    yield enter
    for page in pages:
        page.close()
    for context in guests:
        context.close()
    assert errors == [], "nothing is written to the console as an error"


def press(button: Locator) -> None:
    """Reach a button by the keyboard and press it, once it can be pressed."""
    expect(button).to_be_enabled()
    button.focus()
    try:
        expect(button).to_be_focused(timeout=500)
    except AssertionError:  # a dialog that closed just then gave the focus back to what had opened it
        button.focus()
        expect(button).to_be_focused()
    button.page.keyboard.press("Enter")
    stays_focused(button.page)


def stays_focused(page: Page) -> None:
    """Whatever an act takes away, the keyboard stays somewhere in the page."""
    expect(page.locator(":focus")).to_have_count(1)


def serious_findings(page: Page, within: str = "html", colours_alone: bool = False) -> list[str]:
    """What axe finds of serious or critical weight, or of headings and table heads, with where; of what was looked at in
    other colours before only these."""
    if page.evaluate("typeof axe === 'undefined'"):
        page.evaluate((WEB / "node_modules" / "axe-core" / "axe.min.js").read_text())
    asked: dict[str, Any] = {"resultTypes": ["violations"]}
    if colours_alone:
        asked["runOnly"] = ["color-contrast"]
    # A button that was let be pressed at this moment is on its way from one colour to another.
    page.evaluate("Promise.allSettled(document.getAnimations().map((each) => each.finished))")
    found = page.evaluate("([within, asked]) => axe.run(within, asked)", [within, asked])
    return [
        f"{each['id']}: {each['nodes'][0]['html'][:160]} ({len(each['nodes'])})"
        for each in found["violations"]
        if each["impact"] in ("serious", "critical") or each["id"] in ("heading-order", "empty-table-header")
    ]
