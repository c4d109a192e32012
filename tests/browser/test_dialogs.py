"""Every dialog: nothing serious for a reader of the screen, light or dark, room on a phone, and a way back for the keys."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import Open, serious_findings

OPENED: list[tuple[str, str, str, list[str]]] = [
    # account, address, what is pressed one after the other: a key, or a button or link by its name
    ("what somebody may do", "GANNET", "/delegations", ["Rights"]),
    ("a new delegation", "GANNET", "/delegations", ["New delegation…"]),
    ("the end of a delegation", "GANNET", "/delegations", ["End"]),
    ("a role", "GANNET", "/delegations", ["New role"]),
    ("what differs", "GANNET", "/allocations?account=OLDQUAY&on=2026-10-15", ["List differences"]),
    ("sharing out", "GANNET", "/allocations?account=GANNET&product=LANTERN-MAIL", ["Share out"]),
    ("a new client", "GANNET", "/accounts/GANNET", ["New sub-account"]),
    ("buying", "GANNET", "/pools?product=LANTERN-MAIL", ["Buy"]),
    ("renewing", "GANNET", "/pools?product=LANTERN-MAIL", ["Renew"]),
    ("ending a lot", "GANNET", "/pools?product=LANTERN-MAIL", ["End"]),
    ("a new product", "GANNET", "/pools", ["New product"]),
    ("the calendar", "GANNET", "/pools", ["Calendar"]),
    ("closing a month", "GANNET", "/statements?month=2026-10", ["Close Oct"]),
    ("adding a person", "GANNET", "/people", ["n"]),
    ("assigning", "OLDQUAY", "/people/jonas.vane", ["Assign…"]),
    ("a group", "OLDQUAY", "/people/jonas.vane", ["Group…"]),
    ("charged in", "OLDQUAY", "/people/saoirse.pike", ["Charged in:"]),
    ("a shared folder", "OLDQUAY", "/storage?product=DEEPSHELF&what=folders", ["New folder…"]),
    ("revoking devices", "GANNET", "/devices", ["list", "Space", "Revoke…"]),
    ("giving devices", "GANNET", "/devices", ["list", "Space", "Give to…"]),
    ("an offline answer", "GANNET", "/devices", ["Answer a request file…"]),
    ("importing numbers", "GANNET", "/numbers", ["Import…"]),
    ("finding", "GANNET", "/today", ["Control+k"]),
    ("the keys", "GANNET", "/today", ["?"]),
]
KEY = re.compile(r"^(.|Space|Control\+.)$")


def do(page: Page, what: str) -> None:
    if what == "list":
        page.get_by_role("grid").first.focus()
    elif KEY.match(what):
        page.keyboard.press(what)
    else:
        button = page.get_by_role("button", name=re.compile(f"^{re.escape(what)}")).first
        button.focus()
        page.keyboard.press("Enter")


@pytest.mark.parametrize(("what", "account", "at", "steps"), OPENED, ids=[each[0] for each in OPENED])
def test_a_dialog(open_page: Open, what: str, account: str, at: str, steps: list[str]) -> None:
    page = open_page(account, at)
    page.get_by_role("heading", level=1).first.wait_for()
    page.wait_for_load_state("networkidle")
    for step in steps:
        do(page, step)
    dialog = page.get_by_role("dialog")
    dialog.wait_for()
    page.wait_for_load_state("networkidle")
    focused = "document.activeElement !== document.body && document.querySelector('[role=dialog]').contains(document.activeElement)"
    assert page.evaluate(focused), "the keys are in the dialog"
    for light in ("light", "dark"):
        page.emulate_media(color_scheme=light, reduced_motion="reduce")  # type: ignore[arg-type]
        assert serious_findings(page, "[role=dialog]", colours_alone=light == "dark") == [], light
    page.set_viewport_size({"width": 390, "height": 800})
    box = dialog.locator(".modal-content").bounding_box()
    assert box is not None and box["x"] >= 0 and box["x"] + box["width"] <= 390, "it fits a phone"
    page.set_viewport_size({"width": 1280, "height": 800})
    page.keyboard.press("Escape")
    dialog.wait_for(state="detached")
    expect(page.locator(":focus")).to_have_count(1)  # the keys are not lost when it is gone
