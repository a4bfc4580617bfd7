"""Plan capacity in the browser: read what the demo's plan comes to, change what is expected, and begin a plan."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import Page, expect

pytestmark = pytest.mark.e2e
ANSWERED_MS = 30_000


def planned(page: Page, component: str) -> int:
    """How many instances of a component the plan has."""
    row = page.get_by_test_id("have").get_by_role("row", name=re.compile(rf"^{component}"))
    told = row.get_by_role("cell").nth(1).inner_text()
    return int(told.split()[0])


def saved(page: Page) -> None:
    expect(page.get_by_label("State and actions").get_by_text("Saved")).to_be_visible()


def test_a_plan_says_until_when_what_is_there_is_enough_and_what_it_takes(page: Page) -> None:
    page.goto("/experiments")
    page.get_by_role("navigation", name="Places").get_by_role("link", name="Capacity").click()
    page.get_by_role("link", name="Two years of tickets").click()
    title = page.get_by_test_id("capacity-title")
    expect(title).to_contain_text("as long as no instance is lost", timeout=ANSWERED_MS)
    expect(page.get_by_test_id("capacity-text")).to_contain_text("552 users with one instance of any component lost")
    plate = page.get_by_test_id("capacity-plate")
    expect(plate.get_by_role("img")).to_have_attribute("aria-label", re.compile("ledger as it is now suffices for"))
    expect(plate.get_by_test_id("ceiling").filter(has_text="ledger, planned")).to_be_visible()
    have = page.get_by_test_id("have")
    expect(have).to_contain_text(re.compile(r"EUR a month, [\d.]+ EUR for each of 552 users"))
    before = planned(page, "ledger")
    assert before > 1

    peak = page.get_by_role("group", name="Peak 2").get_by_label("Peak, users")
    peak.fill("1900")
    peak.press("Tab")
    expect(page.get_by_test_id("capacity-text")).to_contain_text("2 185 users", timeout=ANSWERED_MS)
    expect(title).to_contain_text("as long as no instance is lost")
    assert planned(page, "ledger") > 2 * before
    assert planned(page, "planner") > 2
    page.get_by_role("button", name="Undo").click()
    expect(page.get_by_test_id("capacity-text")).to_contain_text("552 users", timeout=ANSWERED_MS)
    assert planned(page, "ledger") == before

    # The experiment that confirms it or breaks it, with the instances of the plan set on the way.
    page.get_by_role("button", name="Make the experiment that tries it").click()
    page.wait_for_url("**/experiments/*")
    expect(page.get_by_role("heading", name="Two years of tickets: trial")).to_be_visible()
    due = page.get_by_role("region", name="Timeline").get_by_test_id("due")
    expect(due).to_have_count(8)
    expect(due.first.get_by_label("After")).to_have_value("1 s")
    expect(page.get_by_role("button", name="Start run")).to_be_enabled()
    page.go_back()
    trial = page.get_by_test_id("trial")
    expect(trial).to_contain_text("552 users", timeout=ANSWERED_MS)
    expect(trial).to_contain_text("Not run yet.")

    page.get_by_role("button", name="Work out what would change").click()
    half = page.get_by_test_id("otherwise").get_by_role("row", name=re.compile("People think half as long"))
    expect(half).to_contain_text("does not hold", timeout=ANSWERED_MS)


def test_a_plan_is_begun_for_a_system_and_says_what_is_wrong_where_it_is_typed(page: Page) -> None:
    page.goto("/capacity")
    expect(page.get_by_role("button", name="New capacity plan")).to_be_enabled()
    # Other tests describe systems too; with one alone there is nothing to choose.
    if (which := page.get_by_label("For which system")).count():
        which.select_option(label="Quillport Tramways")
    page.get_by_role("button", name="New capacity plan").click()
    expect(page.get_by_test_id("capacity-title")).to_be_visible(timeout=ANSWERED_MS)
    name = page.get_by_label("Name", exact=True)
    name.fill("Winter of strikes")
    name.press("Tab")
    expect(page.get_by_role("heading", name="Winter of strikes")).to_be_visible()
    page.get_by_role("button", name="Add a peak").click()
    expect(page.get_by_role("group", name="Peak 2")).to_be_visible()
    page.get_by_role("button", name="Let it grow after the last peak").click()
    growth = page.get_by_label("By, a year")
    growth.fill("a lot")
    growth.press("Tab")
    expect(page.get_by_role("alert").filter(has_text="'a lot' is not a share")).to_be_visible()
    growth.fill("30 %")
    growth.press("Tab")
    saved(page)
    lost = page.get_by_label("Instances lost to bear")
    lost.fill("0")
    lost.press("Tab")
    expect(page.get_by_test_id("capacity-text")).not_to_contain_text("lost", timeout=ANSWERED_MS)

    runs = page.get_by_label("Runs whose demands count")
    runs.fill("99999")
    runs.press("Tab")
    expect(page.get_by_text("run 99999 is none that measured")).to_be_visible(timeout=ANSWERED_MS)
    page.get_by_role("button", name="Undo").click()
    expect(page.get_by_test_id("capacity-title")).to_be_visible(timeout=ANSWERED_MS)
    page.get_by_role("button", name="Archive").click()
    page.goto("/capacity")
    expect(page.get_by_role("link", name="Two years of tickets")).to_be_visible()
    expect(page.get_by_role("link", name="Winter of strikes")).to_have_count(0)
