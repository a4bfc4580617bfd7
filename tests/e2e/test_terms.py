"""What a run shall hold to, what ends it early, and who comes: entered by forms, and in the text."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import Page, expect

from tests.e2e.writing import experiment, saved, say, source

pytestmark = pytest.mark.e2e


def test_stop_rules_and_budgets_are_entered_and_end_a_rehearsal(page: Page) -> None:
    experiment(page, "Guarded")
    page.get_by_role("button", name="Add a stop rule").click()
    page.get_by_label("When", exact=True).select_option("response")
    page.get_by_label("Limit", exact=True).fill("9")
    page.get_by_label("Limit", exact=True).press("Tab")
    page.get_by_label("Takes at most").fill("20s")
    page.get_by_label("Takes at most").press("Tab")
    for _ in range(2):
        page.get_by_role("button", name="Add a stop rule").click()
    page.get_by_label("When of stop rule 2").select_option("utilisation")
    page.get_by_label("Stop rule 2 watches").select_option("ledger.cpu")
    page.get_by_label("When of stop rule 3").select_option("blur")
    page.get_by_label("Limit of stop rule 3").fill("30")
    page.get_by_label("Limit of stop rule 3").press("Tab")
    text = source(page)
    assert "stop_when:\n  - {response: 9 s, for: 30 s}\n" in text
    assert "  - {resource: ledger.cpu, utilisation: 95 %, for: 30 s}\n" in text
    assert "  - {blur: 30 %, for: 30 s}\n" in text
    assert "budget: {time: 20 s}\n" in text
    # What no meter tells is said before it is trusted.
    page.get_by_label("Stop rule 2 watches").select_option("planner.disk")
    expect(page.get_by_test_id("readiness")).to_contain_text("No meter tells planner.disk")
    page.get_by_label("Stop rule 2 watches").select_option("ledger.cpu")
    expect(page.get_by_test_id("readiness")).not_to_contain_text("No meter tells")
    expect(page.get_by_test_id("readiness")).to_contain_text("Its budget ends it after 20 s, before its load does")
    page.get_by_label("Costs at most").fill("much")
    page.get_by_label("Costs at most").press("Tab")
    expect(page.get_by_role("alert").first).to_contain_text("'much'")
    page.get_by_label("Costs at most").fill("")
    page.get_by_label("Costs at most").press("Tab")
    saved(page)
    page.get_by_role("button", name="Rehearse").click()
    page.wait_for_url("**/runs/*", timeout=90_000)
    expect(page.get_by_test_id("run-state")).to_contain_text("stopped")
    expect(page.get_by_test_id("ending")).to_contain_text("Stopped by the plan: its budget of 20 s is spent.")


def test_objectives_of_every_kind_are_entered(page: Page) -> None:
    experiment(page, "Promises")
    objectives = page.get_by_role("region", name="Objectives")
    objectives.get_by_role("button", name="Add an objective").click()
    objectives.get_by_label("What", exact=True).select_option("apdex")
    objectives.get_by_label("Score").fill("0.9")
    objectives.get_by_label("T", exact=True).fill("400ms")
    objectives.get_by_label("T", exact=True).press("Tab")
    assert "objectives:\n  - {apdex: 0.9, target: 400 ms}\n" in source(page)
    objectives.get_by_role("button", name="Add an objective").click()
    objectives.get_by_label("What of objective 2").select_option("mean")
    objectives.get_by_label("Limit of objective 2").fill("2")
    objectives.get_by_label("Limit of objective 2").press("Tab")
    objectives.get_by_label("Role of objective 2").select_option("for information")
    objectives.get_by_label("Objective 2 of").select_option("Home page")
    saved(page)
    assert "step: Home page" in source(page)
    assert "mean: 2 s" in source(page)
    assert "role: for information" in source(page)
    objectives.get_by_label("Score").fill("3")
    objectives.get_by_label("Score").press("Tab")
    expect(objectives.get_by_role("alert")).to_be_visible()
    objectives.get_by_label("What", exact=True).select_option("errors")
    saved(page)
    assert "- {errors: 1 %}" in source(page)
    objectives.get_by_role("button", name="Add an objective").click()
    objectives.get_by_label("What of objective 3").select_option("throughput")
    objectives.get_by_label("Limit of objective 3").fill("40 per s")
    objectives.get_by_label("Limit of objective 3").press("Tab")
    assert "- {throughput: 40}" in source(page)
    expect(objectives.get_by_label("Limit of objective 3")).to_have_value("40 /s")


def test_sixty_percent_from_the_north_shore_until_all_have_done_four(page: Page) -> None:
    experiment(page, "Shores")
    page.get_by_role("button", name="Part people into groups").focus()
    page.keyboard.press("Enter")
    expect(page.get_by_test_id("group")).to_have_count(2)
    page.get_by_role("button", name="Remove group 2").press("Enter")
    expect(page.get_by_test_id("group")).to_have_count(1)
    who = page.get_by_text("Who they are")
    who.press("Enter")
    page.get_by_label("Region, or shares").focus()
    say(page, "north-shore 60 %, south-shore 40 %", "<Tab>")
    page.get_by_label("Until each has done").focus()
    say(page, "4", "<Tab>")
    text = source(page)
    assert text.startswith("# written by hand\n")
    assert "groups: # in sentences\n  - name: everyone\n" in text
    assert "# to begin with" in text
    assert "regions: {north-shore: 60, south-shore: 40}" in text
    assert "journeys_each: 4" in text


TWO = """\
name: Lines
system: Quillport Tramways
journeys:
  - name: Look
    weight: 3
    steps:
      - {name: Home page, request: GET /, think: exponential 2 s}
  - name: Search
    weight: 1
    steps:
      - {name: Trip form, request: GET /trips/form, think: exponential 2 s}
groups:
  - name: riders
    users:
      - hold: {users: 15, for: 5 min}
"""


def test_a_mix_is_moved_by_its_borders_and_a_line_is_chosen(page: Page) -> None:
    expect(page.get_by_role("heading", name="Experiments")).to_be_visible()
    page.goto("/experiments/new?as=text")
    page.get_by_test_id("source").fill(TWO)
    page.get_by_role("button", name="Create experiment").click()
    page.get_by_text("Who they are").click()
    parts = page.get_by_test_id("mix-part")
    expect(parts).to_have_text([re.compile("Look ?75 %"), re.compile("Search ?25 %")])
    border = page.get_by_role("slider", name="Border between Look and Search")
    border.focus()
    say(page, "<ArrowLeft>", "<ArrowLeft>", "<PageDown>")
    assert "mix: {Look: 63, Search: 37}" in source(page)
    page.wait_for_load_state("networkidle")
    for _ in range(3):  # what comes in late moves the page, and the border away from the hand
        border.hover()
        page.mouse.down()
        whole = parts.first.locator("..").bounding_box()
        assert whole is not None
        page.mouse.move(whole["x"] + whole["width"] * 0.4, whole["y"] + 3, steps=4)
        page.mouse.up()
        if "mix: {Look: 63, Search: 37}" not in source(page):
            break
    assert "mix: {Look: 40, Search: 60}" in source(page)
    expect(page.get_by_label("Look, 40 %")).to_have_value("40")
    page.get_by_label("Line", exact=True).select_option("road")
    page.get_by_label("Line, round trip").fill("120")
    page.get_by_label("Line, round trip").press("Tab")
    assert "network: {down: 4 Mbit/s, up: 1 Mbit/s, round_trip: 120 ms}" in source(page)
    expect(page.get_by_label("Line", exact=True)).to_have_value("own")
    page.get_by_label("Line, round trip").fill("20 s")
    page.get_by_label("Line, round trip").press("Tab")
    expect(page.get_by_role("alert").first).to_contain_text("less than or equal to 10")
