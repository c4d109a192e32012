"""Prices and closing by the keyboard: a price from next month, what one pays, and a month that is checked and closed."""

from __future__ import annotations

import re

from playwright.sync_api import expect

from tests.browser.conftest import Open, press


def test_a_price_from_next_month(open_page: Open) -> None:
    page = open_page(at="/prices")
    press(page.get_by_role("button", name="Lantern Mail, Tern Housing Association"))
    panel = page.get_by_role("region", name="Price")
    expect(panel).to_contain_text("No price of its own; the general one applies: 3.90, 3.40 from 50")
    panel.get_by_label("Unit price of step 1", exact=True).fill("abc")
    expect(panel.get_by_role("button", name="Add to draft")).to_be_disabled()
    panel.get_by_label("Unit price of step 1", exact=True).fill("4.5")
    expect(panel.get_by_role("region", name="What it would have charged")).to_contain_text("Tern Housing Association")
    press(panel.get_by_role("button", name="Add to draft"))
    draft = page.get_by_role("region", name="Draft")
    expect(draft).to_contain_text("1 change")
    page.keyboard.press("Control+Enter")
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("from 1 Dec 2026")
    expect(dialog).to_contain_text("Tern Housing Association")
    press(dialog.get_by_role("button", name="Apply now"))
    expect(draft).to_have_count(0)
    expect(panel.get_by_role("row", name=re.compile("1 Dec 2026.*4.50"))).to_be_visible()
    expect(page.get_by_role("button", name="Lantern Mail, Tern Housing Association")).to_contain_text("another 1 Dec")


def test_what_one_pays_and_what_more_would_cost(open_page: Open) -> None:
    page = open_page("OLDQUAY", "/prices")
    row = page.get_by_role("row", name=re.compile("^Fieldbook Dispatch"))
    expect(row).to_contain_text("+144.00")
    page.get_by_label("A month with").fill("-3")
    expect(row).to_contain_text("−21.60")


def test_a_month_is_checked_and_closed(open_page: Open) -> None:
    page = open_page(at="/statements?month=2026-10")
    press(page.get_by_role("button", name="Close Oct"))
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("10 statements, ")
    press(dialog.get_by_role("button", name="Close October 2026"))
    expect(page.get_by_role("status").filter(has_text="closed")).to_contain_text(
        "October 2026 is closed: 10 statements, 2026-00001 to 2026-00010."
    )
    expect(page.get_by_role("button", name="Close Oct")).to_have_count(0)
    press_link = page.get_by_role("link", name="Tern Housing Association")
    press_link.focus()
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="Tern Housing Association")).to_be_focused()
    expect(page.locator(".sums")).to_contain_text("2026-00010")
    page.goto("/statements?month=2026-12")
    expect(page.get_by_role("button", name=re.compile("^Close"))).to_have_count(0)
