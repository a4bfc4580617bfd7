"""A planner writes a journey from nothing, tries it, reads why it fails, mends it, and runs it."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Locator, Page, expect

from stonekettle.practice.portal import PASSWORD

pytestmark = pytest.mark.e2e
ROOT = Path(__file__).parents[2]


def fill(page: Page, field: Locator, text: str) -> None:
    """Write into a field and leave it: it is saved as one goes."""
    field.fill(text)
    field.press("Tab")
    expect(page.get_by_test_id("saving")).to_have_text("○ Saved")


def add_step(page: Page, name: str, method: str, address: str) -> Locator:
    """A new step, open."""
    page.get_by_role("button", name="Add a step").click()
    form = page.locator("details[data-step-form][open]")
    fill(page, form.get_by_label("Step", exact=True), name)
    form = page.locator(f"[data-step-form='{name}']")
    form.get_by_label("Method").select_option(method)
    fill(page, form.get_by_label("Address in the system"), address)
    fill(page, form.get_by_label("Think time after it"), "exponential 200 ms")
    return form


def attempt(page: Page) -> Locator:
    page.get_by_role("button", name="Try it once").click()
    return page.get_by_test_id("trial")


def test_from_nothing_through_a_failing_trial_to_a_run(page: Page) -> None:
    page.get_by_role("link", name="Journeys", exact=True).click()
    page.get_by_role("button", name="New journey").click()
    fill(page, page.get_by_label("Name", exact=True), "Sign in to the portal")
    page.get_by_label("Tried against").select_option("Quillport Tramways")
    attempt(page)
    expect(page.get_by_role("alert")).to_contain_text("no step to try")

    form = add_step(page, "Sign-in page", "GET", "/portal/login")
    fill(page, form.get_by_label("Accompanying files, a path each"), "/static/tram.css")
    form = add_step(page, "Sign in", "POST", "/portal/login")
    form.get_by_label("Body", exact=True).select_option("form")
    fields = form.get_by_label("Fields, a line each: name=value")
    fill(page, fields, "rider=r-{{user_number}}\npassword=wrong\nform_token={{token}}")
    form.get_by_label("Follow redirects").check()
    expect(page.get_by_role("region", name="Cautions")).to_contain_text("token")

    # The token stands in a hidden field of the page before.
    page.locator("[data-step-form='Sign-in page'] summary").first.click()
    first = page.locator("[data-step-form='Sign-in page']")
    first.get_by_role("button", name="Keep a value").click()
    fill(page, first.get_by_label("Used later as"), "token")
    fill(page, first.get_by_label("Which"), "form_token")
    page.locator("[data-step-form='Sign in'] summary").first.click()
    form.get_by_role("button", name="Add a check").click()
    fill(page, form.get_by_label("Text"), "Welcome")
    trial = attempt(page)
    expect(trial).to_contain_text("The trial failed")
    expect(trial.get_by_role("alert")).to_contain_text(
        "failed at step 'Sign in': the check that body contains 'Welcome'"
    )
    step = trial.locator("[data-step='Sign in']")
    step.locator("summary").click()
    expect(step).to_contain_text("The rider number or the password is wrong")
    expect(trial.locator("[data-step='Sign-in page']")).to_contain_text("/static/tram.css")

    fill(page, fields, f"rider=r-{{{{user_number}}}}\npassword={PASSWORD}\nform_token={{{{token}}}}")
    expect(page.get_by_test_id("passing")).to_contain_text("failed")
    trial = attempt(page)
    expect(trial).to_contain_text("The trial passed")
    expect(page.get_by_test_id("passing")).to_contain_text("Passed as it is now")
    trial.locator("[data-step='Sign in'] summary").click()
    expect(trial).to_contain_text("Redirected with 303 to /portal")
    expect(trial).to_contain_text("password=•••")
    fill(page, page.get_by_label("Notes"), "mended")
    expect(page.get_by_test_id("passing")).to_contain_text("Changed since it last passed")

    # An experiment sends many users on it.
    page.goto(page.url.split("/journeys")[0] + "/experiments/new?as=text")
    source = page.get_by_test_id("source")
    named = "journeys:\n  - {journey: Sign in to the portal}\n\n"
    text = source.input_value().replace("name: Quick look", "name: Many sign in")
    text = re.sub(r"^journeys:\n(?:[ \t]+.*\n|\n)+", named, text, flags=re.MULTILINE)
    text = re.sub(r"  - \{step: .*\n", "", re.sub("climb: .*\n  - hold: .*", "hold: {users: 20, for: 11 s}", text))
    source.fill(text)
    expect(page.get_by_text("This plan has no faults.")).to_be_visible()
    page.get_by_role("button", name="Create experiment").click()
    page.get_by_role("button", name="Start run").click()
    expect(page.get_by_test_id("notes")).to_be_visible(timeout=180_000)
    totals = page.request.get(f"/api/runs/{page.url.rpartition('/')[2]}").json()["result"]["totals"]
    assert totals["errors"] == 0
    assert totals["requests"] > 100


def test_steps_are_pasted_copied_moved_disabled_and_brought_back(page: Page) -> None:
    page.get_by_role("link", name="Journeys", exact=True).click()
    page.get_by_role("button", name="New journey").click()
    paste = page.get_by_label("…or paste a curl command line")
    paste.fill("wget http://127.0.0.1/")
    paste.press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("does not begin with")
    paste.fill("curl 'http://127.0.0.1:8000/tickets?zone=A' -H 'Content-Type: application/json' -d '{\"rider\": 7}'")
    paste.press("Enter")
    form = page.locator("[data-step-form='POST /tickets']")
    expect(form.get_by_label("JSON", exact=True)).to_have_value(re.compile('"rider": 7'))
    form.get_by_role("button", name="Duplicate step").click()
    copy = page.locator("[data-step-form='POST /tickets 2']")
    copy.get_by_role("button", name="Move up").click()
    expect(page.locator("[data-step-form]").first).to_have_attribute("data-step-form", "POST /tickets 2")
    copy.get_by_role("button", name="Disable").click()
    expect(copy).to_contain_text("disabled")
    copy.get_by_role("button", name="Remove step").click()
    expect(page.locator("[data-step-form]")).to_have_count(1)
    page.get_by_role("button", name="Undo").click()
    expect(page.locator("[data-step-form]")).to_have_count(2)
    form.locator("summary").first.click()
    think = form.get_by_label("Think time after it")
    think.fill("sometimes")
    think.press("Tab")
    expect(form.get_by_role("alert")).to_contain_text("'sometimes' is not a duration")
    expect(page.get_by_test_id("saving")).to_contain_text("Not saved yet")


def record(browser: Browser, gateway: str, other: str, har: Path) -> None:
    """Buy and activate a day ticket in the riders' portal by hand, recorded by a real browser; one
    request goes to another host."""
    context = browser.new_context(record_har_path=har, record_har_content="embed")
    page = context.new_page()
    page.goto(f"{gateway}/portal/login")
    page.get_by_label("Rider").fill("r-4711")
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("link", name="Buy a ticket").click()
    page.get_by_label("Zone").select_option("B")
    page.get_by_role("button", name="Buy").click()
    page.get_by_role("button", name="Activate").click()
    page.get_by_text("is active").wait_for()
    page.evaluate("address => fetch(address, {mode: 'no-cors'})", f"{other}/metrics")
    context.close()


def test_a_recording_imports_and_passes_its_trial_unedited(page: Page, chromium: Browser, tmp_path: Path) -> None:
    meters = page.request.get("/api/systems/1/meters").json()
    gateway, ledger = (
        next(f"http://{m['instance']}" for m in meters if m["component"] == name and m["instance"])
        for name in ("gateway", "ledger")
    )
    har = tmp_path / "day ticket.har"
    record(chromium, gateway, ledger, har)
    page.get_by_role("link", name="Journeys", exact=True).click()
    page.get_by_role("button", name="From a file").click()
    broken = tmp_path / "broken.har"
    broken.write_text(har.read_text()[:500])
    page.get_by_label("File to make a journey from").set_input_files(broken)
    expect(page.get_by_role("alert")).to_contain_text("this is not JSON")
    page.get_by_label("File to make a journey from").set_input_files(har)
    proposals = page.get_by_test_id("proposals").get_by_role("listitem")
    expect(proposals).to_have_count(3)
    for number, words in enumerate(("form_token", "purchase_token", "T-0")):
        expect(proposals.nth(number)).to_contain_text(words)
        expect(proposals.nth(number).get_by_role("checkbox")).to_be_checked()

    # Another host is left out, unless it is one's own too.
    steps = page.get_by_role("region", name="Steps").get_by_role("listitem")
    expect(steps).to_have_count(5)
    other = page.get_by_test_id("hosts").get_by_label(ledger.removeprefix("http://"))
    other.check()
    expect(steps.last).to_contain_text(f"GET {ledger}/metrics")
    other.uncheck()
    expect(steps).to_have_count(5)
    page.get_by_label("Tried against").select_option("Quillport Tramways")
    page.get_by_role("button", name="Create the journey").click()
    expect(page.get_by_role("heading", name="day ticket")).to_be_visible()
    trial = attempt(page)
    expect(trial).to_contain_text("The trial passed", timeout=30_000)
    assert page.locator("[data-step-form]").count() == 5

    # With another password the trial names the step and the reason.
    form = page.locator("[data-step-form='Sign in (2)']")
    form.locator("summary").first.click()
    fields = form.get_by_label("Fields, a line each: name=value")
    fill(page, fields, fields.input_value().replace("password=(kept)", "password=wrong"))
    reason = attempt(page).get_by_role("alert")
    expect(reason).to_contain_text("failed at step 'Sign in (2)'", timeout=30_000)
    expect(reason).to_contain_text("<title>Sign in</title>")

    # What was recorded stands beside what came now, and their differences are marked.
    beside = page.get_by_test_id("comparison")
    expect(beside.locator("del").filter(has_text="Welcome").first).to_be_visible()
    expect(beside.locator("ins").filter(has_text="wrong").first).to_be_visible()


def test_rows_are_uploaded_checked_and_fed_to_a_journey(page: Page, tmp_path: Path) -> None:
    page.get_by_role("link", name="Journeys", exact=True).click()
    page.get_by_role("link", name="Feeds").click()
    page.get_by_role("button", name="Upload a file").click()
    file = tmp_path / "tram stops.csv"
    file.write_bytes("Stop Name;Zone\nMühlentor;A\nHafenstraße;B\nJägerweg\nSchloß;C\n".encode("windows-1252"))
    page.get_by_label("File with rows").set_input_files(file)
    expect(page.get_by_label("Encoding")).to_have_value("windows-1252")
    expect(page.get_by_label("Values are separated by")).to_have_value(";")
    rows = page.get_by_role("region", name="Rows").locator("tbody tr")
    expect(rows).to_have_count(4)
    expect(rows.nth(0)).to_contain_text("Mühlentor")
    expect(page.get_by_role("region", name="Ragged rows")).to_contain_text("line 4")
    create = page.get_by_role("button", name="Create the feed")
    expect(create).to_be_disabled()
    page.get_by_label("Such rows").select_option("leave out")
    stop = page.get_by_label("Stop Name")
    stop.fill("the stop")
    stop.press("Tab")
    expect(page.get_by_role("alert")).to_contain_text("letters, digits and _ only")
    stop.fill("stop")
    stop.press("Tab")
    page.get_by_label("First row").select_option("no")
    expect(rows).to_have_count(5)
    page.get_by_label("First row").select_option("yes")
    page.get_by_label("Such rows").select_option("leave out")
    create.click()
    expect(page.get_by_role("heading", name="tram stops")).to_be_visible()
    expect(page.get_by_role("heading", name="3 rows")).to_be_visible()

    # A journey brings the feed along: its first row is what the trial sends.
    page.get_by_role("link", name="Journeys", exact=True).click()
    page.get_by_role("button", name="New journey").click()
    fill(page, page.get_by_label("Name", exact=True), "Look up a stop")
    page.get_by_label("Tried against").select_option("Quillport Tramways")
    add_step(page, "Departures", "GET", "/departures?stop={{stop_name}}")
    cautions = page.get_by_role("region", name="Cautions")
    expect(cautions).to_contain_text("stop_name has no value yet")
    page.get_by_label("Feeds: rows that make users differ").select_option("tram stops")
    expect(page.get_by_role("list", name="Feeds of this journey")).to_contain_text("{{stop_name}}")
    expect(cautions).to_have_count(0)
    trial = attempt(page)
    expect(trial).to_contain_text("The trial passed")
    expect(trial).to_contain_text("/departures?stop=M%C3%BChlentor")


def test_rows_are_made_from_a_seed_and_undone(page: Page) -> None:
    page.goto(page.url.split("/experiments")[0] + "/journeys/feeds")
    page.get_by_role("button", name="Make rows").click()
    fill(page, page.get_by_label("Name", exact=True), "Made accounts")
    fill(page, page.get_by_role("spinbutton", name="Rows"), "45")
    expect(page.get_by_role("heading", name="45 rows")).to_be_visible()
    page.get_by_role("button", name="Add a column").click()
    column = page.locator("[data-column='column_3']")
    column.get_by_label("Holds").select_option("number")
    column.get_by_label("Distribution").select_option("normal")
    fill(page, column.get_by_label("Standard deviation"), "0.5")
    fill(page, column.get_by_label("Decimals"), "2")
    rows = page.get_by_role("region", name="Rows").locator("tbody tr")
    expect(rows.nth(0)).to_contain_text(re.compile(r"A-000001.*[45][0-9]\.[0-9]{2}"))
    first = rows.nth(0).inner_text()
    page.get_by_role("button", name="Later").click()
    page.get_by_role("button", name="Later").click()
    expect(rows).to_have_count(5)
    deviation = column.get_by_label("Standard deviation")
    deviation.fill("-1")
    deviation.press("Tab")
    expect(page.get_by_test_id("saving")).to_contain_text("Not saved yet")
    expect(column.get_by_role("alert")).to_contain_text("Use a larger number")
    fill(page, deviation, "0.5")
    page.reload()
    expect(rows.nth(0)).to_have_text(re.compile(re.escape(first.split("\t")[-1])))
    page.get_by_role("button", name="Undo").click()
    page.get_by_role("button", name="Undo").click()
    expect(page.get_by_test_id("saving")).to_have_text("○ Saved")
    expect(rows.nth(0)).not_to_contain_text(first.split("\t")[-1])
