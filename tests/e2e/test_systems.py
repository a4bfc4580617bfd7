"""A planner describes a system from nothing, meters it, runs it, and finds a figure on its shelf."""

from __future__ import annotations

import json
import re
import time
from datetime import UTC, datetime
from pathlib import Path

import pytest
from playwright.sync_api import Locator, Page, expect

from tests.e2e.installation import Installation
from tests.e2e.writing import rehearsed

pytestmark = pytest.mark.e2e
HOLD_S = 12


def new_system(page: Page, name: str) -> None:
    page.get_by_role("link", name="Systems", exact=True).click()
    page.get_by_role("button", name="New system").click()
    expect(page.get_by_role("heading", name="New system")).to_be_visible()
    fill(page, page.get_by_label("Name", exact=True), name)
    expect(page.get_by_role("heading", name=name)).to_be_visible()


def fill(page: Page, field: Locator, text: str) -> None:
    """Write into a field and leave it: it is saved as one goes."""
    field.fill(text)
    field.press("Tab")
    saved(page)


def saved(page: Page) -> None:
    expect(page.get_by_test_id("saving")).to_have_text("○ Saved")


def add_component(page: Page, number: int, name: str, address: str | None = None) -> Locator:
    page.get_by_role("button", name="Add a component").click()
    form = page.locator(f"[data-component-form='component-{number}']")
    fill(page, form.get_by_label("Name", exact=True), name)
    form = page.locator(f"[data-component-form='{name}']")
    if address is not None:
        form.get_by_role("button", name="Add a meter").click()
        fill(page, form.get_by_label("Addresses, one for each instance"), address)
    return form


def test_from_nothing_to_strips_and_a_pinned_figure(page: Page, tmp_path: Path) -> None:
    new_system(page, "Night trams")
    fill(page, page.get_by_label("Base URL"), "practice://gateway")
    add_component(page, 1, "gateway", "practice://gateway/metrics")
    add_component(page, 2, "ledger", "practice://ledger/metrics")
    box = page.get_by_test_id("map").locator("[data-component=gateway]")
    box.click()
    form = page.locator("[data-component-form=gateway]")
    form.get_by_label("ledger", exact=True).check()
    saved(page)
    expect(form.get_by_test_id("meter-states")).to_contain_text("Recognised: cpu, memory")
    expect(box).to_contain_text("reports", timeout=30_000)
    expect(page.get_by_test_id("map").locator("[data-component=ledger]")).to_contain_text("1 of 1 instance")
    expect(page.get_by_test_id("map").locator("title")).to_have_text("gateway calls ledger")
    page.get_by_text("Table of 2 components").click()
    expect(page.get_by_test_id("components").locator("tbody tr").first).to_have_text(
        re.compile("gateway.*1 of 1 instance.*reports.*ledger")
    )
    expect(page.get_by_test_id("meter-summary")).to_have_text("2 of 2 sources report.")

    # The shelf says what to do while there is nothing on it.
    page.get_by_role("link", name="Metric shelf").click()
    expect(page.get_by_text("then run an experiment of this system")).to_be_visible()
    page.get_by_role("link", name="Description").click()

    page.get_by_role("button", name="New experiment").click()
    page.get_by_role("button", name="As text").click()
    source = page.get_by_test_id("source")
    expect(source).to_have_value(re.compile('system: "Night trams"'))
    text = source.input_value().replace("name: Quick look", "name: Night walk")
    text = re.sub("climb: .*\n  - hold: .*", f"hold: {{users: 30, for: {HOLD_S} s}}", text)
    source.fill(text)
    expect(page.get_by_text("This plan has no faults.")).to_be_visible()
    page.get_by_role("button", name="Create experiment").click()
    page.get_by_role("button", name="Start run").click()
    plate = page.get_by_test_id("plate")
    for key in ("gateway.cpu", "ledger.cpu", "ledger.disk"):
        expect(plate.locator(f"[data-row='resource:{key}']")).to_contain_text("%", timeout=60_000)
    expect(page.get_by_test_id("notes")).to_be_visible(timeout=120_000)
    run = page.url

    # A newcomer looks for queries per step: one search, one press.
    began = time.monotonic()
    page.get_by_role("link", name="Systems", exact=True).click()
    page.get_by_role("link", name="Night trams").click()
    page.get_by_role("link", name="Metric shelf").click()
    page.get_by_label("Search by component, name or meaning").fill("ledger queries")
    row = page.get_by_test_id("shelf").get_by_role("listitem")
    expect(row).to_have_count(1)
    expect(row).to_contain_text("per step")
    row.get_by_role("button", name="Pin to the plate").click()
    expect(page.get_by_test_id("pins")).to_contain_text("ledger queries, per step")
    page.get_by_role("link", name="See the plate").click()
    pin = plate.locator("[data-row='pin:0']")
    expect(pin).to_contain_text("ledger queries, per step")
    expect(pin).to_contain_text("per step")
    assert time.monotonic() - began < 120
    page.goto(run)
    expect(pin).to_be_visible()
    page.get_by_text("Table of 1 level").click()
    levels = page.get_by_test_id("levels")
    expect(levels.get_by_role("columnheader").last).to_have_text("ledger queries, per step")
    expect(levels.get_by_role("cell").last).to_have_text(re.compile("[0-9.]+ per step"))
    add_a_file(page, tmp_path)


def add_a_file(page: Page, folder: Path) -> None:
    """Metrics of the gateway that another machine wrote down, its clock half a minute ahead."""
    number = page.url.rpartition("/")[2]
    begun = page.request.get(f"/api/runs/{number}").json()["begun_at"]
    lines = ["time,busy percent"]
    for k in range(-20, HOLD_S + 20):
        moment = datetime.fromtimestamp(begun + k + 30, UTC)
        lines.append(f"{moment.isoformat()},{75 if 0 < k <= HOLD_S else 3}")
    file = folder / "gateway.csv"
    file.write_text("\n".join(lines))
    meters = page.get_by_test_id("run-meters")
    meters.locator("summary").click()
    page.get_by_label("File with metrics").set_input_files(file)
    expect(page.get_by_test_id("alignment")).to_contain_text("30")
    expect(page.get_by_test_id("alignment")).to_contain_text("ahead")
    use = page.get_by_test_id("file-use")
    use.get_by_label("busy percent").check()
    use.get_by_label("Resource").select_option("cpu")
    use.get_by_role("button", name="Add to the run").click()
    strip = page.get_by_test_id("plate").locator("[data-row='resource:gateway.busy percent']")
    expect(strip).to_contain_text("75 %", timeout=30_000)
    expect(meters).to_contain_text("30.0 s ahead, corrected")
    meters.get_by_role("button", name="Take out").click()
    expect(strip).to_have_count(0)


def test_faults_stand_at_their_field_and_undo_brings_back(page: Page) -> None:
    new_system(page, "Ferries")
    base = page.get_by_label("Base URL")
    base.fill("http://169.254.8.7")
    base.press("Tab")
    expect(page.get_by_role("alert").first).to_contain_text("nothing is ever sent there")
    expect(page.get_by_test_id("saving")).to_contain_text("Not saved yet")
    fill(page, base, "http://127.0.0.1:9")
    form = add_component(page, 1, "quay")
    form.get_by_label("Memory", exact=True).fill("16")
    form.get_by_label("Memory", exact=True).press("Tab")
    expect(form.get_by_role("alert")).to_contain_text("'16 GB'")
    fill(page, form.get_by_label("Memory", exact=True), "16 GB")
    page.get_by_role("button", name="Remove quay").click()
    saved(page)
    expect(page.get_by_test_id("map")).to_have_count(0)
    page.get_by_role("button", name="Undo").click()
    expect(page.get_by_test_id("map")).to_contain_text("quay")
    page.get_by_role("button", name="Redo").click()
    expect(page.get_by_test_id("map")).to_have_count(0)
    page.get_by_role("button", name="Undo").click()
    expect(page.get_by_test_id("map")).to_contain_text("quay")
    page.reload()
    expect(page.get_by_test_id("map")).to_contain_text("quay")

    page.get_by_role("button", name="Duplicate").click()
    expect(page.get_by_role("heading", name="Ferries copy")).to_be_visible()
    page.get_by_role("button", name="Archive").click()
    expect(page.get_by_role("button", name="Bring back")).to_be_visible()
    page.get_by_role("link", name="Systems", exact=True).click()
    expect(page.get_by_role("link", name="Ferries", exact=True)).to_be_visible()
    expect(page.get_by_role("link", name="Ferries copy")).to_have_count(0)
    page.get_by_role("button", name="Show archived systems").click()
    expect(page.get_by_role("link", name="Ferries copy")).to_be_visible()


def test_documents_go_out_and_come_in(page: Page, tmp_path: Path) -> None:
    page.goto(page.url.replace("/experiments", "/systems/1"))
    with page.expect_download() as download:
        page.get_by_role("link", name="system.yaml").click()
    text = Path(download.value.path()).read_text()
    assert "name: Quillport Tramways" in text
    page.get_by_role("link", name="Systems", exact=True).click()
    broken = tmp_path / "broken.yaml"
    broken.write_text(text.replace("instances", "instanzes").replace("role: web", "rolle: web"))
    page.get_by_label("Document of a system").set_input_files(broken)
    expect(page.get_by_role("alert")).to_contain_text("components[0].rolle")
    good = tmp_path / "good.yaml"
    good.write_text(text.replace("Quillport Tramways", "Imported trams"))
    page.get_by_label("Document of a system").set_input_files(good)
    expect(page.get_by_role("heading", name="Imported trams")).to_be_visible()
    expect(page.get_by_test_id("map").get_by_role("button")).to_have_count(4)


def test_pushed_metrics_turn_green_and_secrets_stay_hidden(page: Page, installed: Installation) -> None:
    new_system(page, "Pushed trams")
    form = add_component(page, 1, "ledger", "http://127.0.0.1:9/metrics")
    expect(form.get_by_test_id("meter-states")).to_contain_text("does not answer", timeout=30_000)
    form.get_by_label("Access").select_option("bearer")
    fill(page, form.get_by_label("Token"), "hush")
    page.reload()
    page.get_by_test_id("map").locator("[data-component=ledger]").click()
    expect(form.get_by_label("Token")).to_have_value("(kept)")
    form.get_by_role("button", name="Add a meter").click()
    second = form.get_by_test_id("meter").nth(1)
    second.get_by_label("Source").select_option("otlp")
    expect(second).to_contain_text("Nothing was pushed", timeout=30_000)
    page.get_by_role("button", name="Make a token").click()
    shown = page.get_by_text("Copy it now").locator("code")
    number = page.url.rpartition("/")[2]
    point = {"timeUnixNano": str(time.time_ns()), "asDouble": 5}
    metrics = [{"name": "db.open", "gauge": {"dataPoints": [point]}}]
    resource = {"attributes": [{"key": "service.name", "value": {"stringValue": "ledger"}}]}
    body = {"resourceMetrics": [{"resource": resource, "scopeMetrics": [{"metrics": metrics}]}]}
    answer = page.request.post(
        f"{installed.url}/api/systems/{number}/v1/metrics",
        data=json.dumps(body),
        headers={"Authorization": f"Bearer {shown.inner_text()}", "Content-Type": "application/json"},
    )
    assert answer.ok, answer.text()
    expect(second).to_contain_text("reports", timeout=30_000)


def test_what_is_typed_is_there_after_a_reload_without_leaving_the_field(page: Page) -> None:
    new_system(page, "Typed")
    notes = page.get_by_label("Notes").first
    notes.click()
    notes.press_sequentially("The first half")
    expect(page.get_by_test_id("saving")).to_have_text("○ Saved")
    notes.press_sequentially(", and the second.")
    # Not saved yet, and it says so at once; the page goes away in the middle of a word.
    assert page.get_by_test_id("saving").inner_text() != "○ Saved"
    page.reload()
    expect(page.get_by_label("Notes").first).to_have_value("The first half, and the second.")
    page.get_by_role("button", name="Undo").click()
    expect(page.get_by_label("Notes").first).to_have_value("")


def test_two_pages_that_change_one_document_are_put_together(page: Page, installed: Installation) -> None:
    new_system(page, "Shared")
    other = page.context.new_page()
    other.goto(page.url)
    fill(other, other.get_by_label("Notes").first, "from the other page")
    expect(other.get_by_test_id("saving")).to_have_text("○ Saved")
    page.get_by_label("Currency").fill("CHF")
    page.get_by_label("Currency").press("Tab")
    told = page.get_by_role("region", name="Document").get_by_role("alert")
    expect(told).to_contain_text("saved this while you changed it")
    expect(told).to_contain_text("in different places")
    expect(page.get_by_test_id("saving")).to_have_text("✕ Not saved yet")
    told.get_by_role("button", name="Put both together").click()
    expect(page.get_by_test_id("saving")).to_have_text("○ Saved")
    page.reload()
    expect(page.get_by_label("Notes").first).to_have_value("from the other page")
    expect(page.get_by_label("Currency")).to_have_value("CHF")
    other.close()


def test_how_long_runs_are_kept_is_chosen_and_shown_on_each(page: Page) -> None:
    page.get_by_role("link", name="Systems", exact=True).click()
    page.get_by_role("link", name="Quillport Tramways").first.click()
    keeping = page.get_by_role("region", name="How long runs are kept")
    keeping.get_by_label("Requests").select_option("90 days")
    keeping.get_by_label("Seconds and metrics").select_option("30 days")
    expect(keeping.get_by_role("alert")).to_contain_text("Requests cannot outlast the seconds they are of")
    expect(keeping.get_by_label("Seconds and metrics")).to_have_value("")
    page.get_by_role("link", name="Runs", exact=True).click()
    page.get_by_role("link", name=f"Run {rehearsed(page)}", exact=True).click()
    room = page.get_by_test_id("room")
    expect(room).to_contain_text("Its requests go on")
    room.get_by_role("button", name="Keep always").click()
    expect(room).to_contain_text("It is kept always")
    expect(room).not_to_contain_text("Its requests go on")
    room.get_by_role("button", name="Keep no longer than others").click()
    expect(room).to_contain_text("Its requests go on")
    page.get_by_role("link", name="Systems", exact=True).click()
    page.get_by_role("link", name="Quillport Tramways").first.click()
    keeping.get_by_label("Requests").select_option("always")
    page.reload()
    expect(keeping.get_by_label("Requests")).to_have_value("")
