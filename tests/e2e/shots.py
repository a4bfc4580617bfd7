"""Photographs every main view from demo data: ``python shots.py DATA PORT``."""

from __future__ import annotations

import sys
import time
from datetime import date, timedelta
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[2]))

from playwright.sync_api import Browser, Page, expect

from tests.e2e.installation import ROOT, Installation, browser, installation, sign_in
from tests.e2e.test_journeys import record

FOLDER = ROOT / "docs" / "screenshots"
LIVE_S = 100


def shoot(page: Page, name: str, *, whole: bool = False) -> None:
    page.wait_for_load_state("networkidle")
    time.sleep(0.6)
    page.screenshot(path=FOLDER / f"{name}.png", full_page=whole)
    print(f"{name}.png", flush=True)


def shoot_run(page: Page, installed: Installation) -> None:
    """The demo's run, live and finished, and what it leaves on its system's pages."""
    page.get_by_role("link", name="Harbour festival").click()
    page.get_by_role("button", name="Start run").click()
    page.wait_for_url("**/runs/*")
    time.sleep(LIVE_S)
    page.screenshot(path=FOLDER / "run-live.png")
    run = page.url
    expect(page.get_by_test_id("notes")).to_be_visible(timeout=400_000)
    page.goto(f"{installed.url}/systems/1/metrics")
    for metric in ("ledger quillport_queries", "ledger quillport_disk_latency_seconds"):
        page.locator(f"[data-metric='{metric}']").get_by_role("button").click()
    page.get_by_label("Search by component, name or meaning").fill("ledger")
    page.evaluate("window.scrollTo(0, 0)")
    shoot(page, "metric-shelf")
    page.goto(f"{installed.url}/systems/1")
    page.get_by_text("8 of 8 sources report").wait_for()
    page.get_by_test_id("map").locator("[data-component=ledger]").click()
    shoot(page, "system", whole=True)
    page.goto(run)
    page.get_by_test_id("notes").wait_for()
    shoot(page, "run-over-time", whole=True)
    page.keyboard.press("l")
    page.locator("[data-note=saturation]").hover()
    shoot(page, "run-against-load", whole=True)
    page.mouse.move(5, 5)
    shoot_proof(page, run)


def shoot_proof(page: Page, run: str) -> None:
    """From the run down to one request, and a step of it in the dark."""
    page.goto(f"{run}/requests?of=step:5")
    page.get_by_test_id("rows").locator("[data-row]").filter(has_text="↳").first.click()
    page.get_by_test_id("path").wait_for()
    shoot(page, "requests", whole=True)
    page.goto(f"{run}/sql")
    page.get_by_role("button", name="Each step at each level").click()
    page.get_by_test_id("answer-row").wait_for()
    shoot(page, "sql")
    page.get_by_role("button", name="Dark").click()
    page.goto(f"{run}/steps/step:5")
    page.get_by_test_id("components").wait_for()
    shoot(page, "step-dark", whole=True)
    page.get_by_role("button", name="Light").click()


def shoot_documents(page: Page, installed: Installation, chromium: Browser, data: Path) -> None:
    """Journeys, written and from files."""
    page.goto(f"{installed.url}/journeys/1")
    page.get_by_role("button", name="Try it once").click()
    page.get_by_test_id("trial").wait_for()
    shoot(page, "journey", whole=True)
    meters = page.request.get(f"{installed.url}/api/systems/1/meters").json()
    gateway, ledger = (
        next(f"http://{m['instance']}" for m in meters if m["component"] == name and m["instance"])
        for name in ("gateway", "ledger")
    )
    record(chromium, gateway, ledger, data / "day ticket.har")
    page.goto(f"{installed.url}/journeys/import")
    page.get_by_label("File to make a journey from").set_input_files(data / "day ticket.har")
    page.get_by_test_id("proposals").wait_for()
    shoot(page, "journey-import", whole=True)


def shoot_capacity(page: Page, installed: Installation) -> None:
    """What the expected load of two years takes."""
    page.goto(f"{installed.url}/capacity/1")
    page.get_by_test_id("have").wait_for()
    shoot(page, "capacity")


def shoot_scaling(page: Page, installed: Installation) -> None:
    """What more of a component brought, and what gives out then."""
    page.goto(f"{installed.url}/series/2")
    page.get_by_test_id("others").wait_for()
    shoot(page, "scaling")


def shoot_targets(page: Page, installed: Installation) -> None:
    """Whose systems load may go to: the mill's entered, the ferries' yet to be proven."""
    page.goto(f"{installed.url}/targets")
    page.get_by_role("button", name="Enter one").click()
    page.get_by_label("Host").fill("10.20.30.0/28")
    page.get_by_label("Ports").fill("443, 8000-8010")
    page.get_by_label("Contact").fill("The mill's night desk, 0123 456")
    page.get_by_label("Reason").fill("Test machines of the paper mill, loaded on weekdays by agreement.")
    page.get_by_label("Users").fill("400")
    page.get_by_label("Requests/s").fill("1500")
    page.get_by_label("Last day").fill((date.today() + timedelta(days=60)).isoformat())
    page.get_by_role("button", name="Add hours").click()
    page.get_by_role("button", name="Enter it").click()
    page.locator("[data-target^='10.20.30.0']").wait_for()
    page.get_by_role("button", name="Prove that it is yours").click()
    page.get_by_label("Host").fill("10.20.40.5")
    page.get_by_label("Ports").fill("8080")
    page.get_by_label("Scheme").select_option("http")
    page.get_by_label("Contact").fill("Anna of the ferries")
    page.get_by_role("button", name="Make a token").click()
    page.locator("[data-target^='10.20.40.5']").wait_for()
    shoot(page, "targets")


def shoot_experiment(page: Page, installed: Installation) -> None:
    """The experiment's load, a sentence of it in hand."""
    page.goto(f"{installed.url}/experiments")
    page.get_by_role("link", name="Harbour festival", exact=True).click()
    page.get_by_test_id("sentence").first.locator("input").first.focus()
    page.get_by_text("in order").wait_for()
    shoot(page, "experiment")


def shoot_comparison(page: Page, installed: Installation) -> None:
    """The demo's season, and the run that was slower beside the one before it."""
    page.goto(f"{installed.url}/experiments")
    page.get_by_role("link", name="Over time").first.click()
    page.get_by_test_id("shore").wait_for()
    shoot(page, "history")
    page.get_by_role("link", name="Compare it with run").last.click()
    page.get_by_test_id("sentence").wait_for()
    shoot(page, "comparison")
    page.goto(f"{installed.url}/series/1")
    page.get_by_test_id("ladder").wait_for()
    shoot(page, "candidates")


def main(data: Path, port: int) -> None:
    FOLDER.mkdir(parents=True, exist_ok=True)
    with installation(data, port) as installed, browser() as chromium:
        page = chromium.new_page(viewport={"width": 1280, "height": 800})
        sign_in(page, installed)
        shoot_run(page, installed)
        shoot_documents(page, installed, chromium, data)
        shoot_capacity(page, installed)
        shoot_scaling(page, installed)
        shoot_targets(page, installed)
        for place in ("experiments", "runs"):
            page.goto(f"{installed.url}/{place}")
            shoot(page, place)
        shoot_experiment(page, installed)
        shoot_comparison(page, installed)


if __name__ == "__main__":
    main(Path(sys.argv[1]), int(sys.argv[2]))
