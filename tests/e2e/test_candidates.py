"""Candidates that take turns: written in the form, read from the season, and taken over real sockets."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
import yaml
from playwright.sync_api import Page, expect

from tests.e2e.writing import experiment, saved, source

pytestmark = pytest.mark.e2e
ROOT = Path(__file__).parents[2]


def test_who_was_faster_is_read_block_by_block(page: Page) -> None:
    """The season's pair, from its experiment."""
    page.get_by_role("link", name="Two planners", exact=True).click()
    expect(page.get_by_role("button", name="Start 10 turns")).to_be_visible()
    page.get_by_role("region", name="In turns").get_by_role("link").first.click()
    expect(page.get_by_role("heading", name="candidates in turns")).to_be_visible()
    expect(page.get_by_test_id("sentence")).to_contain_text(
        re.compile(r"planner 3\.4 against planner 3\.3: Faster: Trip search .* planner CPU per step .* goes with it")
    )
    expect(page.get_by_text("made by the practice twin").first).to_be_visible()
    picture = page.get_by_test_id("blocks-plate").get_by_role("img")
    expect(picture).to_have_accessible_name(re.compile("Trip search .* in 5 blocks: together −1"))
    page.get_by_label("Block by block").select_option(label="planner cpu busy per step")
    expect(picture).to_have_accessible_name(re.compile("planner cpu busy per step in 5 blocks: together −1"))
    expect(page.get_by_test_id("ladder").get_by_role("row").nth(1)).to_contain_text("Trip search")
    summary = page.get_by_test_id("summary")
    expect(summary).to_contain_text("keeps timetables in memory")
    expect(summary).to_contain_text(re.compile("planner cpu .* %"))
    expect(summary).to_contain_text("4.20 s")
    expect(page.get_by_test_id("turns").get_by_role("row")).to_have_count(11)
    page.set_viewport_size({"width": 480, "height": 800})
    assert page.evaluate("document.documentElement.scrollWidth") <= 480


def test_they_are_tried_again_at_a_load_that_all_can_carry(page: Page) -> None:
    """One click: a copy that holds it, under way."""
    page.get_by_role("link", name="Two planners", exact=True).click()
    page.get_by_role("region", name="In turns").get_by_role("link").last.click()
    page.get_by_role("button", name="Again at 220 users").click()
    expect(page.get_by_role("heading", name="Two planners at 220 users: candidates in turns")).to_be_visible()
    expect(page.get_by_test_id("progress")).to_contain_text("Turn 1 of 10")
    page.get_by_role("button", name="Stop taking turns").click()
    expect(page.get_by_text("Stopped by planner.")).to_be_visible(timeout=90_000)
    page.get_by_role(
        "link", name="Two planners at 220 users", exact=True
    ).click()  # the bar on top may still lead to it
    told = yaml.safe_load(source(page))
    assert told["load"] == [{"hold": {"users": 220, "for": "2 min"}}]
    assert len(told["candidates"]["each"]) == 2


def test_candidates_are_described_in_the_form(page: Page) -> None:
    experiment(page, "Two releases")
    form = page.get_by_role("region", name="Candidates", exact=True)
    form.get_by_role("button", name="Compare candidates").click()
    saved(page)
    expect(page.get_by_role("button", name="Start 16 turns")).to_be_visible()
    second = form.get_by_test_id("candidate").nth(1)
    second.get_by_label("Name", exact=True).fill("June")
    second.get_by_label("Another version of").select_option("planner")
    second.get_by_label("Version of planner", exact=True).fill("3.4")
    second.get_by_text("How it is brought under load").click()
    second.get_by_role("button", name="Add a call, Before its turn, June").click()
    call = second.get_by_test_id("action").get_by_label("Call")
    call.fill("FETCH /x")
    call.press("Tab")
    expect(second.get_by_role("alert")).to_contain_text("is not a call")
    call.fill("PUT /components/planner/version")
    second.get_by_label("Ready once this answers").fill("/departures")
    second.get_by_label("Ready once this answers").press("Tab")
    saved(page)
    form.get_by_label("Blocks").fill("3")
    form.get_by_label("Blocks").press("Tab")
    form.get_by_role("button", name="Vary something else too").click()
    expect(page.get_by_role("button", name="Start 12 turns")).to_be_visible()
    told = yaml.safe_load(source(page))["candidates"]
    assert told["blocks"] == 3
    assert told["each"][1] == {
        "name": "June",
        "setting": "with the change",
        "versions": {"planner": "3.4"},
        "begin": [{"call": "PUT /components/planner/version"}],
        "ready": {"ask": "/departures"},
    }
    assert [value["name"] for value in told["factor"]["values"]] == ["small", "large"]
    form.get_by_role("button", name="Remove all candidates").click()
    saved(page)
    expect(page.get_by_role("button", name="Start run")).to_be_visible()
    page.get_by_role("button", name="Undo").click()
    expect(form.get_by_test_id("candidate")).to_have_count(4)


def test_a_system_tells_where_its_operations_are(page: Page) -> None:
    page.get_by_role("link", name="Systems", exact=True).click()
    page.get_by_role("button", name="New system").click()
    page.get_by_label("Name", exact=True).fill("Night ferries")
    page.get_by_label("Base URL").fill("http://127.0.0.1:9")
    operations = page.get_by_role("region", name="Operations")
    operations.get_by_role("button", name="Describe its operations").click()
    operations.get_by_label("Address").fill("http://127.0.0.1:9/ops")
    operations.get_by_label("Signing key").fill("a-long-enough-key")
    operations.get_by_label("Signing key").press("Tab")
    saved(page)
    page.reload()
    expect(operations.get_by_label("Address")).to_have_value("http://127.0.0.1:9/ops")
    expect(operations.get_by_label("Signing key")).to_have_value("(kept)")
    expect(operations.get_by_label("Signing key")).to_have_attribute("type", "password")


def test_turns_are_taken_over_real_sockets_until_they_are_stopped(page: Page) -> None:
    told = yaml.safe_load((ROOT / "examples" / "candidates.yaml").read_text())
    told |= {"name": "Short turns", "system": "Quillport Tramways", "load": [{"hold": {"users": 20, "for": "8 s"}}]}
    told["candidates"]["blocks"] = 2
    page.goto("/experiments/new?as=text")
    page.get_by_test_id("source").fill(yaml.safe_dump(told, sort_keys=False))
    page.get_by_role("button", name="Create experiment").click()
    page.get_by_role("button", name="Start 4 turns").click()
    progress = page.get_by_test_id("progress")
    expect(progress).to_contain_text("Turn 1 of 4, block 1 of 2: planner 3.")
    expect(page.get_by_test_id("sentence")).to_have_text("No answer yet: it takes two whole blocks.")
    rows = page.get_by_test_id("turns").get_by_role("row")
    expect(rows.nth(1)).to_contain_text("finished", timeout=90_000)
    expect(progress).to_contain_text("Turn 2 of 4", timeout=60_000)
    rows.nth(1).get_by_text(re.compile(r"\d actions?")).click()
    expect(rows.nth(1)).to_contain_text("PUT /components/planner/version: status 202")
    page.get_by_role("button", name="Stop taking turns").click()
    expect(page.get_by_text("Stopped by planner.")).to_be_visible(timeout=60_000)
    expect(page.get_by_test_id("sentence")).to_contain_text("No answer: there are not two blocks")
    page.get_by_role("link", name="Runs", exact=True).click()
    together = page.get_by_role("row").filter(has_text="Short turns")
    expect(together).to_have_count(1)
    together.get_by_role("button", name="Show each").click()
    expect(together).to_have_count(2)
    expect(together.first).to_contain_text(re.compile(r"planner 3\.\d, block 1 of 2"))
