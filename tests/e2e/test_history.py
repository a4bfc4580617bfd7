"""Runs over time: the story that comes with the product, and one's own runs in it."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import Locator, Page, expect

from tests.e2e.writing import rehearsed, season

pytestmark = pytest.mark.e2e


def weekly(page: Page) -> Locator:
    """The season's experiment on the first page, wherever it stands among those of other tests."""
    found = page.get_by_role("listitem").filter(has=page.get_by_role("link", name="Weekly check", exact=True))
    found.scroll_into_view_if_needed()
    return found


def test_a_newcomer_finds_what_made_it_slower_and_when(page: Page) -> None:
    """Three clicks from the first page."""
    first = weekly(page)
    expect(first.get_by_test_id("over-time")).to_contain_text(re.compile("Since .* faster"))
    first.get_by_role("link", name="Over time").click()
    expect(page.get_by_test_id("sentence")).to_contain_text("Since ")
    slower = page.get_by_test_id("event").filter(has_text="slower")
    expect(slower).to_contain_text("Changed: planner version 3.1 → 3.2")
    expect(slower).to_contain_text("Trip search p95")
    expect(slower).to_contain_text(re.compile("planner CPU per step .* more"))
    slower.get_by_role("link", name="Compare it with run").click()
    expect(page.get_by_test_id("sentence")).to_contain_text(re.compile("^Slower: Trip search .* goes with it"))
    expect(page.get_by_role("region", name="What differs between the two")).to_contain_text("Planner version 3.1 → 3.2")


def test_the_shore_shows_each_figure_at_each_load(page: Page) -> None:
    weekly(page).get_by_role("link", name="Over time").click()
    shore = page.get_by_test_id("shore")
    expect(shore.get_by_test_id("flag")).to_have_count(3)
    rows = page.get_by_role("table").get_by_role("row")
    page.get_by_label("Figure").select_option("demand planner.cpu")
    expect(shore.get_by_role("img")).to_have_accessible_name(re.compile("planner.* over 17 runs, 2 shifts"))
    expect(rows.nth(1)).to_contain_text("ms")
    page.get_by_label("Figure").select_option("cost ")
    expect(rows.nth(1)).to_contain_text("EUR")
    page.get_by_label("Figure").select_option("p95 Plan a trip / Trip search")
    before = rows.nth(1).text_content()
    page.get_by_label("At a load of").select_option("120")
    expect(page.get_by_text("Response times, errors and cost are at 120 users")).to_be_visible()
    expect(rows.nth(1)).not_to_have_text(before or "")
    expect(rows.filter(has_text="Left out: ").first).to_contain_text("–")
    page.set_viewport_size({"width": 480, "height": 800})
    assert page.evaluate("document.documentElement.scrollWidth") <= 480


def test_a_run_is_noted_left_out_and_taken_as_baseline(page: Page) -> None:
    weekly(page).get_by_role("link", name="Over time").click()
    page.get_by_role("table").get_by_role("link", name=re.compile("^Run")).first.click()
    standing = page.get_by_test_id("standing")
    expect(standing).to_contain_text("its baseline then: Faster")
    note = standing.get_by_label("Note on this run")
    note.fill("the stops were renamed")
    note.press("Tab")
    standing.get_by_role("button", name="Leave out of the history").click()
    standing.get_by_label("Why it does not count").fill("a trial of the new office")
    standing.get_by_role("button", name="Leave out", exact=True).click()
    expect(standing).to_contain_text("Left out of the history: a trial of the new office.")
    page.keyboard.press("b")
    expect(page.get_by_test_id("sentence")).to_contain_text("Faster: ")
    page.go_back()
    standing.get_by_role("button", name="Take as baseline").click()
    expect(standing).to_contain_text("It is the baseline since")
    standing.get_by_role("link", name="All its runs over time").click()
    row = page.get_by_role("table").get_by_role("row").nth(1)
    expect(row).to_contain_text("Baseline. the stops were renamed")
    expect(row).to_contain_text("Left out: a trial of the new office")
    row.get_by_role("link", name=re.compile("^Run")).click()
    standing.get_by_role("button", name="Count it again").click()
    standing.get_by_role("button", name="No longer the baseline").click()
    expect(standing).to_contain_text("No baseline is taken")


def test_runs_are_laid_on_each_other(page: Page) -> None:
    weekly(page).get_by_role("link", name="Over time").click()
    slower = page.get_by_test_id("event").filter(has_text="slower")
    slower.get_by_role("link", name="Compare it with run").click()
    plate = page.get_by_test_id("overlay")
    expect(plate).to_contain_text("Trip search p95")
    first, second = (int(number) for number in re.findall(r"\d+", page.url)[-2:])
    expect(plate).to_contain_text("Ratio")
    expect(page.get_by_text("The ratio is of Trip search p95")).to_be_visible()
    page.get_by_label("Upper row").select_option(label="planner cpu busy")
    expect(plate).to_contain_text("planner cpu busy")
    expect(page.get_by_text("The ratio is of what a step costs there")).to_be_visible()
    page.keyboard.press("l")
    expect(page.get_by_role("radio", name="Over time")).to_be_checked()
    expect(plate).not_to_contain_text("Ratio")
    page.get_by_label("Laid on each other at").select_option("the start of level 3")
    page.get_by_label("Behind them").select_option(index=1)
    expect(plate.locator("text").filter(has_text=re.compile(r"run \d+: "))).to_have_count(6)
    for run in (first, second):
        expect(plate).to_contain_text(f"run {run}: ")
    page.get_by_role("button", name="Only the two").click()
    expect(plate.locator("text").filter(has_text=re.compile(r"run \d+: "))).to_have_count(4)


def test_several_runs_a_side_are_compared(page: Page) -> None:
    checks = season(page, "Weekly check")
    steady, slow = checks[4], checks[7]
    page.goto(f"/runs/{slow}/against/{steady}")
    expect(page.get_by_test_id("sentence")).to_contain_text("This pair could have shown")
    page.get_by_label(f"Together with run {slow}").select_option(str(checks[8]))
    expect(page.get_by_test_id("sentence")).to_contain_text("2 runs against 1 could have shown")
    page.get_by_label(f"Together with run {steady}").select_option(str(checks[5]))
    page.get_by_label(f"Together with run {steady}").select_option(str(checks[6]))
    expect(page.get_by_test_id("sentence")).to_contain_text("2 runs against 3 could have shown")
    expect(page.get_by_test_id("sentence")).to_contain_text(re.compile("^Slower: Trip search"))
    expect(page.get_by_role("heading", level=1)).to_contain_text(f"run {steady}, {checks[5]}, {checks[6]}")
    page.reload()
    page.get_by_role("button", name=f"Without run {checks[8]}").click()
    expect(page.get_by_test_id("sentence")).to_contain_text("1 run against 3 could have shown")


def test_a_rehearsal_has_no_baseline_and_says_so(page: Page) -> None:
    page.goto(f"/runs/{rehearsed(page)}")
    expect(page.get_by_test_id("notes")).to_be_visible()
    expect(page.get_by_test_id("standing")).to_have_count(0)
    page.keyboard.press("b")
    expect(page.get_by_text("A rehearsal has no baseline: it was not measured.")).to_be_visible()


def test_the_runs_of_a_system_stand_over_time(page: Page) -> None:
    page.get_by_role("link", name="Systems", exact=True).click()
    page.get_by_role("link", name="Quillport Tramways").first.click()
    page.get_by_role("link", name="Its runs over time").click()
    expect(page.get_by_role("link", name="Harbour festival")).to_be_visible()
    # Other tests run experiments of their own on this system.
    for name in ("Harbour festival", "Weekly check"):
        section = page.locator("section", has=page.get_by_role("link", name=name, exact=True))
        expect(section.get_by_test_id("shore")).to_have_count(1)
    page.get_by_role("link", name="Weekly check", exact=True).click()
    expect(page.get_by_role("heading", name="Weekly check over time")).to_be_visible()
