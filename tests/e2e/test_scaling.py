"""Scaling: written in the form, read from the season, and done over real sockets."""

from __future__ import annotations

import json
import re
import urllib.request
from pathlib import Path

import pytest
import yaml
from playwright.sync_api import Page, expect

from tests.e2e.installation import Installation
from tests.e2e.writing import experiment, saved, source

pytestmark = pytest.mark.e2e
ROOT = Path(__file__).parents[2]


def test_what_adding_brought_and_what_gives_out_next_is_read(page: Page) -> None:
    """The season's ledgers, from their experiment."""
    page.get_by_role("link", name="More and more ledgers", exact=True).click()
    expect(page.get_by_role("button", name="Start 6 turns")).to_be_visible()
    expect(page.get_by_text("with the most of what is scaled 4 times that")).to_be_visible()
    page.get_by_role("region", name="In turns").get_by_role("link").first.click()
    expect(page.get_by_role("heading", name="More and more ledgers: scaled")).to_be_visible()
    expect(page.get_by_test_id("sentence").first).to_contain_text(
        re.compile(r"4 × ledger does 2\.\d+ times what 1 × ledger does.*planner CPU is what limits it there")
    )
    picture = page.get_by_test_id("scaling-plate").get_by_role("img")
    expect(picture).to_have_accessible_name(re.compile(r"1 × ledger: 19\d steps/s, .* 4 × ledger: 5\d\d steps/s"))
    expect(page.get_by_test_id("scaled-point")).to_have_count(3)
    expect(page.get_by_test_id("cap").first).to_contain_text("planner CPU is full at 5")
    expect(page.get_by_test_id("silent")).to_contain_text("too far from what was measured")
    four = page.get_by_test_id("values").get_by_role("row").nth(3)
    expect(four).to_contain_text(re.compile(r"4 × ledger.*planner CPU"))
    eight = page.get_by_test_id("others").get_by_role("row").last
    expect(eight).to_contain_text(re.compile(r"8 × ledger.*planner CPU"))
    expect(page.get_by_test_id("faded")).to_contain_text("one more brings under half")
    expect(page.get_by_test_id("turns").get_by_role("row")).to_have_count(7)
    four.get_by_role("link").first.click()
    expect(page.get_by_text(re.compile(r"The turn of 4 × ledger, round \d of 2"))).to_be_visible()
    page.get_by_role("link", name="all turns").click()
    page.set_viewport_size({"width": 480, "height": 800})
    expect(page.get_by_test_id("scaling-plate")).to_be_visible()
    assert page.evaluate("document.documentElement.scrollWidth") <= 480


def test_what_is_scaled_is_written_in_the_form(page: Page) -> None:
    experiment(page, "How many gateways")
    form = page.get_by_role("region", name="Scaling", exact=True)
    form.get_by_role("button", name="Scale something").click()
    saved(page)
    expect(page.get_by_role("button", name="Start 6 turns")).to_be_visible()
    expect(page.get_by_role("region", name="Candidates", exact=True)).to_have_count(0)
    form.get_by_label("Component").select_option("gateway")
    form.get_by_label("Values").fill("1, two")
    form.get_by_label("Values").press("Tab")
    expect(form.get_by_role("alert")).to_contain_text("'two' is no number of instances")
    form.get_by_label("Values").fill("1, 2, 3, 6")
    form.get_by_label("Rounds").fill("1")
    form.get_by_label("Rounds").press("Tab")
    expect(form.get_by_role("alert")).to_have_count(0)
    expect(form).to_contain_text("With the most of it the load is 6")
    told = yaml.safe_load(source(page))["scaling"]
    assert told == {
        "of": "instances",
        "component": "gateway",
        "change": "Set instances",
        "values": [1, 2, 3, 6],
        "rounds": 1,
    }
    form.get_by_label("What is varied").select_option("size")
    form.get_by_label("Values").fill("small, large")
    form.get_by_label("Values").press("Tab")
    large = form.get_by_role("group", name="large")
    large.get_by_label("Processors").fill("8")
    large.get_by_label("Processors").press("Tab")
    assert yaml.safe_load(source(page))["scaling"]["values"] == [
        "small",
        {"value": "large", "type": {"name": "large", "vcpus": 8}},
    ]
    form.get_by_role("button", name="Scale nothing").click()
    saved(page)
    expect(page.get_by_role("button", name="Start run")).to_be_visible()
    page.get_by_role("button", name="Undo").click()
    expect(form.get_by_label("Values")).to_have_value("small, large")


def test_values_are_set_over_real_sockets_and_the_system_goes_back(page: Page, installed: Installation) -> None:
    told = yaml.safe_load((ROOT / "examples" / "scaling.yaml").read_text())
    told |= {"name": "Two at most", "system": "Quillport Tramways", "load": [{"hold": {"users": 20, "for": "8 s"}}]}
    told["scaling"] |= {"values": [1, 2], "rounds": 1, "component": "stopboard"}
    page.goto("/experiments/new?as=text")
    page.get_by_test_id("source").fill(yaml.safe_dump(told, sort_keys=False))
    page.get_by_role("button", name="Create experiment").click()
    page.get_by_role("button", name="Start 2 turns").click()
    progress = page.get_by_test_id("progress")
    expect(progress).to_contain_text(re.compile(r"Turn 1 of 2, round 1 of 1: [12] × stopboard"))
    expect(page.get_by_test_id("sentence").first).to_have_text("No value has been measured yet.")
    expect(page.get_by_test_id("values")).to_contain_text("to come")
    rows = page.get_by_test_id("turns").get_by_role("row")
    expect(rows.nth(2)).to_contain_text("finished", timeout=180_000)
    expect(page.get_by_text("Everything had its turn, as often as was planned.")).to_be_visible(timeout=60_000)
    expect(page.get_by_test_id("sentence").first).to_have_text("No run tells a limit; each says below why not.")
    expect(page.locator("p").filter(has_text=re.compile(r"run \d+ tells no limit\. It needs"))).to_have_count(2)
    rows.nth(2).get_by_text(re.compile(r"\d actions?")).click()
    # The last one of two goes back to what the system is described to have.
    expect(rows.nth(2)).to_contain_text("PUT /components/stopboard/instances: status 202")
    with urllib.request.urlopen(f"{installed.cloud}/components", timeout=10) as answer:
        components = {one["component"]: one["instances"] for one in json.load(answer)}
    assert components["stopboard"] == 1
