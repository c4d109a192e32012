"""Takes the pictures of docs/screenshots from a fresh demo: `.venv/bin/python scripts/screenshots.py [NAME …]`.

The demo's clock makes them the same on any day. Needs what ./check installs, and the front end built.
"""

from __future__ import annotations

import os
import socket
import subprocess
import sys
import tempfile
import time
import urllib.request
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

HERE = Path(__file__).resolve().parents[1]
TO = HERE / "docs" / "screenshots"
ARGUMENTS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]


def nothing_more(page: Page) -> None:
    """The view as it opens."""


def raise_a_cap(page: Page) -> None:
    """Types a new cap into the chosen cell, so that the draft's effect is in view."""
    page.locator(".agrid .cell.sel").click()
    page.keyboard.type("+4")
    page.keyboard.press("Enter")
    page.get_by_text("breach cleared").wait_for()


def review_it(page: Page) -> None:
    """A lower cap for a client, so that the review has something to say."""
    page.locator(".agrid .cell.sel").click()
    page.keyboard.type("20/40")
    page.keyboard.press("Enter")
    page.get_by_role("button", name="Review and apply").click()
    page.get_by_role("region", name="Money").get_by_role("table").wait_for()


def share_out(page: Page) -> None:
    """Forty seats over all clients, breaches first."""
    page.locator(".agrid .cell.sel").focus()
    page.keyboard.press("s")
    page.keyboard.type("40")
    page.get_by_text("40 of 40 seats shared out").wait_for()


def plan(page: Page) -> None:
    """The ways out of the coming shortfall."""
    page.get_by_role("button", name="Plan for").click()
    page.get_by_role("button", name="Draft: Buy").wait_for()


def try_a_limit(page: Page) -> None:
    """Whom a limit of 30 GB would put over it."""
    page.get_by_role("grid", name="People").wait_for()
    page.get_by_role("button", name="Limit per person").click()
    page.get_by_label("Limit, GB").fill("30")
    page.get_by_text("would be over it").wait_for()


def look_at_idle(page: Page) -> None:
    """A policy for seats of people not seen for 60 days, and what a run would do."""
    page.get_by_role("button", name="New policy").click()
    page.get_by_label("Name", exact=True).fill("Not seen for 60 days")
    page.get_by_label("Never reclaim (Gannet & Rowe Managed IT)").check()
    page.get_by_label("Days of notice").fill("0")
    page.get_by_role("button", name="Create policy").click()
    page.get_by_text("seats are released").wait_for()


@dataclass(frozen=True)
class View:
    """A main view: where it is and what is done there before the picture."""

    at: str
    as_whom: str = "gannet"
    do: Callable[[Page], None] = nothing_more
    width: int = 1280
    dark: bool = False


VIEWS = {
    "today": View("/today"),
    "allocations": View("/allocations?account=OLDQUAY&product=FIELD-FULL"),
    "draft": View(
        "/allocations?account=OLDQUAY-ENGINEERING&product=WATCHGLASS&pools=FIELD-CORE,FIELD-FULL,DISPATCH,WATCHGLASS,CHARTROOM",
        do=raise_a_cap,
    ),
    "review": View("/allocations?account=TERN&product=FIELD-CORE", do=review_it),
    "share-out": View("/allocations?account=GANNET&product=LANTERN-MAIL", do=share_out),
    "pools": View("/pools?product=LANTERN-MAIL", do=plan),
    "storage": View("/storage?product=DEEPSHELF&what=people&account=OLDQUAY", do=try_a_limit),
    "account": View("/accounts/NORTHFOLD"),
    "people": View("/people?account=OLDQUAY"),
    "person": View("/people/bertil.usher", as_whom="oldquay"),
    "devices": View("/devices"),
    "idle": View("/idle", do=look_at_idle),
    "statements": View("/statements?month=2026-10"),
    "payments": View("/payments"),
    "prices": View("/prices?product=LANTERN-MAIL&buyer=MARROW"),
    "statement": View("/statements/NORTHFOLD?month=2026-10"),
    "delegations": View("/delegations"),
    "client-admin": View("/allocations?account=OLDQUAY-ENGINEERING&product=WATCHGLASS", as_whom="oldquay"),
    "today-dark": View("/today", dark=True),
}


def main() -> None:
    """Serve a fresh demo on a free port and take what is named, or all."""
    wanted = sys.argv[1:] or list(VIEWS)
    TO.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as home:
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            port = probe.getsockname()[1]
        address = f"http://127.0.0.1:{port}"
        served = subprocess.Popen(
            [sys.executable, "-m", "fair_ladle", "serve", "--demo"],
            cwd=HERE,
            stdout=subprocess.DEVNULL,
            env={**os.environ, "FAIR_LADLE_HOME": home, "FAIR_LADLE_PORT": str(port)},
        )
        try:
            _wait_for(address)
            lines = [line.split("\t") for line in (Path(home) / "demo-sign-ins.txt").read_text().splitlines()]
            signs = {email.partition("@")[0].removeprefix("admin."): (email, password) for email, password, _ in lines}
            _take(address, signs, wanted)
        finally:
            served.terminate()
            served.wait()
            # Its database ends by itself once nobody uses it any more.
            until = time.monotonic() + 30
            while any(Path(home).rglob("*.sock")) and time.monotonic() < until:
                time.sleep(0.2)
            time.sleep(1)


def _wait_for(address: str) -> None:
    for _ in range(1200):
        try:
            urllib.request.urlopen(address, timeout=5).close()
            return
        except OSError:
            time.sleep(0.2)
    sys.exit("The demo did not come up.")


def _take(address: str, signs: dict[str, tuple[str, str]], wanted: list[str]) -> None:
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=ARGUMENTS)
        for name in wanted:
            view = VIEWS[name]
            email, password = signs[view.as_whom]
            page = browser.new_page(
                viewport={"width": view.width, "height": 800},
                base_url=address,
                color_scheme="dark" if view.dark else "light",
            )
            page.goto("/today")
            page.get_by_label("E-mail address").fill(email)
            page.get_by_label("Password").fill(password)
            page.keyboard.press("Enter")
            page.get_by_role("navigation", name="Screens").wait_for()
            page.goto(view.at)
            page.wait_for_load_state("networkidle")
            view.do(page)
            page.wait_for_timeout(700)
            page.screenshot(path=TO / f"{name}.png")
            page.keyboard.press("Escape")
            for button in page.get_by_role("button", name="Discard").all():
                button.click()
                page.wait_for_timeout(300)
            print(name)
            page.close()


if __name__ == "__main__":
    main()
