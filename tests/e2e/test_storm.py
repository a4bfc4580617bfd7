"""Many started at once under a run: asked for by hand, followed until all are ready, held against an earlier one."""

from __future__ import annotations

import json
import re
import urllib.request

import pytest
from playwright.sync_api import Page, expect

from tests.e2e.installation import Installation
from tests.e2e.test_live import confirmed, started

pytestmark = pytest.mark.e2e


def ask(page: Page, what: str, count: int) -> None:
    changes = page.get_by_test_id("changes")
    page.keyboard.press("c")
    changes.get_by_label("What to do").select_option(what)
    changes.get_by_label("Component").select_option("stopboard")
    changes.get_by_label("Count").fill(str(count))
    page.keyboard.press("Enter")
    expect(changes.get_by_test_id("change").first).to_contain_text(f"{what}: stopboard, {count}")
    expect(changes.get_by_test_id("change").first).to_contain_text("done", timeout=90_000)


def test_how_soon_many_are_ready_is_told_as_the_cloud_logged_it(page: Page, installed: Installation) -> None:
    run = started(page, "A storm of stopboards", "users: 20, for: 5 min")
    expect(page.get_by_test_id("changes")).to_contain_text("Nothing was changed yet")
    ask(page, "Start many", 12)
    log = json.load(urllib.request.urlopen(f"{installed.cloud}/log"))
    page.get_by_role("link", name="How soon the 12 were ready").click()
    expect(page.get_by_role("heading", name="Start many: stopboard, 12")).to_be_visible()
    expect(page.get_by_test_id("sentence")).to_contain_text(
        re.compile(r"All 12 were ready after [\d.]+ s: half of them")
    )
    picture = page.get_by_test_id("storm-plate").get_by_role("img").first
    expect(picture).to_have_accessible_name(re.compile(r"12 of 12 ready\. 50 % after .* 100 % after"))
    expect(page.get_by_test_id("ready-mark").last).to_contain_text("100 %")
    expect(page.get_by_text("Nothing was started by this change before.")).to_be_visible()

    # Each within a probe's interval of the cloud's own log.
    change = page.url.rsplit("/", 1)[1]
    told = page.request.get(f"/api/runs/{run}/changes/{change}").json()
    begun_at = page.request.get(f"/api/runs/{run}").json()["begun_at"]
    there = [one for one in log if one["component"] == "stopboard" and one["left"] is None]
    ready = sorted(max(0.0, one["ready"] - begun_at - told["asked_s"]) for one in there)
    assert len(ready) == 12
    for seen, was in zip([one["after_s"] for one in told["curve"]], ready, strict=True):
        # A machine that is busy sees it later, and never too early.
        assert was - 0.1 <= seen <= was + told["every_s"] + 2

    page.get_by_role("link", name=f"run {run}").click()
    ask(page, "Set instances", 1)
    ask(page, "Start many", 5)
    page.get_by_role("link", name="How soon the 5 were ready").click()
    page.get_by_label("Held against").select_option(label=f"run {run}: Start many: stopboard, 12")
    expect(page.get_by_test_id("apart")).to_contain_text(re.compile(r"\d+ % were ready .* run \d+"))
    page.set_viewport_size({"width": 480, "height": 800})
    assert page.evaluate("document.documentElement.scrollWidth") <= 480
    page.set_viewport_size({"width": 1280, "height": 800})
    page.get_by_role("link", name=f"run {run}").click()
    ask(page, "Set instances", 1)
    page.get_by_role("button", name="Cut off").click()
    confirmed(page, "Cut off: what users were waiting for was ended.")
    expect(page.get_by_test_id("ending")).to_be_visible(timeout=60_000)
