"""What moves with response time, looked at as a person would: in the demo's rehearsal and in a run of its season."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import Locator, Page, expect

from tests.e2e.writing import rehearsed, season

pytestmark = pytest.mark.e2e


def opened(page: Page, run: int) -> Locator:
    page.goto(f"/runs/{run}")
    moving = page.get_by_test_id("moving")
    moving.get_by_text("What moves with it", exact=True).click()
    expect(moving.get_by_test_id("moving-verdict")).to_contain_text("the response time of", ignore_case=True)
    return moving


def test_metrics_are_held_against_response_time_and_led_to_their_row(page: Page) -> None:
    moving = opened(page, rehearsed(page))
    expect(moving).to_contain_text(re.compile(r"Compared with \d+ metrics in \d+ blocks of 5 s"))
    rows = moving.get_by_role("table").get_by_role("button")
    expect(moving.get_by_role("img")).to_have_accessible_name(re.compile("^The response time of .* against "))

    # By keys from one to the next, and its scatter with it.
    rows.first.focus()
    page.keyboard.press("ArrowDown")
    expect(rows.nth(1)).to_have_attribute("aria-pressed", "true")
    expect(rows.nth(1)).to_be_focused()

    # A resource leads to its strip, though it was hidden.
    ledger = rows.filter(has_text="ledger cpu utilisation")
    if not ledger.count():
        moving.get_by_role("button", name="further metric").click()
    ledger.click()
    expect(moving.get_by_role("figure")).to_contain_text("against ledger cpu utilisation")
    moving.get_by_role("button", name="Show on the plate").click()
    expect(page.get_by_test_id("plate").locator("[data-row='resource:ledger.cpu']")).to_be_in_viewport()

    # Any metric can be what the others are held against.
    moving.get_by_role("button", name="What moves with this").click()
    expect(moving.get_by_label("Beside")).to_have_value(re.compile("ledger"))
    expect(moving.get_by_role("img")).to_have_accessible_name(re.compile("^Ledger cpu utilisation", re.IGNORECASE))

    # A level of half a minute is too short to tell, and says so.
    moving.get_by_label("Beside").select_option("response")
    moving.get_by_label("In", exact=True).select_option("2")
    expect(moving.get_by_test_id("moving-verdict")).to_contain_text("Twelve blocks of 5 s are needed at least")
    page.set_viewport_size({"width": 480, "height": 800})
    assert page.evaluate("document.documentElement.scrollWidth") <= 480


def test_a_run_of_which_rows_of_ten_seconds_are_left_is_compared_by_them(page: Page) -> None:
    moving = opened(page, season(page, "Weekly check")[0])
    expect(moving).to_contain_text("blocks of 10 s")
    expect(moving).to_contain_text("of this run nothing else that meters read is at hand")
    moving.get_by_label("Of", exact=True).select_option("all")
    expect(moving.get_by_test_id("moving-verdict")).to_contain_text("he response time of all steps")


def test_a_run_without_errors_says_so(page: Page) -> None:
    page.goto(f"/runs/{rehearsed(page)}")
    errors = page.get_by_test_id("errors")
    errors.get_by_text("Errors by kind", exact=True).click()
    expect(errors.get_by_role("status")).to_contain_text(re.compile(r"None of [\d\s]+ steps failed, 0:00 to 1:"))
