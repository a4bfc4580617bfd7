"""Scale the practice system by hand while a run loads it: the page tells the story as the cloud's own log does."""

from __future__ import annotations

import json
import urllib.request
from typing import Any

import pytest
from playwright.sync_api import Page, expect

from tests.e2e.installation import Installation
from tests.e2e.test_live import confirmed, started
from tests.e2e.writing import experiment, saved

pytestmark = pytest.mark.e2e


def told(page: Page, run: int) -> dict[str, Any]:
    found: dict[str, Any] = page.request.get(f"/api/runs/{run}/changes").json()
    return found


def test_instances_are_added_under_load_and_the_page_tells_when_they_came_and_what_they_brought(
    page: Page, installed: Installation
) -> None:
    run = started(page, "Scaled by hand", "users: 40, for: 3 min")
    begun_at = page.request.get(f"/api/runs/{run}").json()["begun_at"]
    changes = page.get_by_test_id("changes")
    expect(changes).to_contain_text("Nothing was changed yet")
    page.wait_for_timeout(24_000)
    page.keyboard.press("c")
    expect(changes.get_by_label("What to do")).to_be_focused()
    changes.get_by_label("Component").select_option("stopboard")
    changes.get_by_label("Count").fill("9000")
    page.keyboard.press("Enter")
    expect(changes).to_contain_text("status 422", timeout=20_000)
    expect(changes).to_contain_text("write a whole number from 1 to 3000")
    page.keyboard.press("c")
    changes.get_by_label("Count").fill("2")
    page.keyboard.press("Enter")
    done = changes.get_by_test_id("change").first
    expect(done).to_contain_text("Set instances: stopboard, 2")
    expect(done).to_contain_text("done", timeout=40_000)
    expect(done).to_contain_text("ready after")
    one = told(page, run)["made"][-1]
    assert one["told"][-1]["ready"] == one["told"][-1]["of"] == 2

    # The cloud's own log, on the clock of the run.
    log = json.load(urllib.request.urlopen(f"{installed.cloud}/log"))
    new = next(line for line in log if line["component"] == "stopboard" and line["instance"] == 1)
    assert one["accepted_s"] == pytest.approx(new["asked"] - begun_at, abs=1.0)
    assert one["ready_s"] == pytest.approx(new["ready"] - begun_at, abs=1.0)

    expect(done).to_contain_text("settled after", timeout=90_000)
    expect(done).to_contain_text("The 95th percentile")
    expect(done).to_contain_text("No step failed meanwhile")
    assert told(page, run)["made"][-1]["metered_s"] == pytest.approx(new["ready"] - begun_at, abs=2.5)
    marked = page.get_by_test_id("markers")
    expect(marked).to_contain_text("Set instances: stopboard, 2: ready, 2 of 2")
    page.keyboard.press("c")
    changes.get_by_label("Count").fill("1")
    page.keyboard.press("Enter")
    expect(changes.get_by_test_id("change").first).to_contain_text("done", timeout=20_000)
    page.get_by_role("button", name="Cut off").click()
    confirmed(page, "Cut off: what users were waiting for was ended.")
    expect(page.get_by_test_id("ending")).to_be_visible(timeout=60_000)


def test_a_timeline_changes_the_system_twice_by_itself(page: Page, installed: Installation) -> None:
    page.goto("/experiments")
    experiment(page, "Changed on the way", "users: 20, for: 40 s")
    timeline = page.get_by_role("region", name="Timeline")
    timeline.get_by_role("button", name="Add a change").click()
    first = timeline.get_by_role("group", name="Change 1 on the way")
    first.get_by_label("After").fill("6")
    first.get_by_label("Component").select_option("stopboard")
    first.get_by_label("Count").fill("3")
    timeline.get_by_role("button", name="Add a change").click()
    second = timeline.get_by_role("group", name="Change 2 on the way")
    second.get_by_label("After").fill("90 s")
    second.get_by_label("Component").select_option("stopboard")
    second.get_by_label("Count").fill("1")
    second.get_by_label("Count").press("Tab")
    expect(timeline.get_by_role("alert")).to_contain_text("1.5 min is after the end of the load")
    second.get_by_label("After").fill("22 s")
    second.get_by_label("After").press("Tab")
    expect(timeline.get_by_role("alert")).to_have_count(0)
    saved(page)
    page.get_by_role("button", name="Start run").click()
    page.wait_for_url("**/runs/*")
    run = int(page.url.rsplit("/", 1)[1])
    done = page.get_by_test_id("changes").get_by_test_id("change")
    expect(done).to_have_count(2, timeout=90_000)
    expect(done.first).to_contain_text("Set instances: stopboard, 1")
    expect(done.last).to_contain_text("done", timeout=30_000)
    expect(done.last).to_contain_text("the timeline")
    grown, back = told(page, run)["made"]
    assert grown["asked_s"] == pytest.approx(6, abs=1)
    assert back["asked_s"] == pytest.approx(22, abs=1)
    assert grown["told"][-1]["of"] == 3
    expect(page.get_by_test_id("notes")).to_be_visible(timeout=120_000)
    expect(done).to_have_count(2)
