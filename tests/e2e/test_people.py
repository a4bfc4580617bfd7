"""Somebody is invited, reads, becomes a planner, changes something, and is locked out."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import Browser, Page, expect

from tests.e2e.installation import Installation

pytestmark = pytest.mark.e2e


def test_from_an_invitation_to_a_deed_in_the_history(page: Page, chromium: Browser, installed: Installation) -> None:
    page.get_by_role("button", name="planner", exact=True).click()
    page.get_by_role("menuitem", name="People").click()
    page.get_by_label("For whom").fill("Anna of the ferries")
    page.get_by_label("As", exact=True).select_option("reader")
    page.get_by_role("button", name="Make a link").click()
    link = page.get_by_test_id("invitation-link").inner_text()

    context = chromium.new_context(viewport={"width": 1280, "height": 800})
    theirs = context.new_page()
    theirs.goto(link)
    expect(theirs.get_by_text("planner invites you as reader.")).to_be_visible()
    theirs.get_by_label("Name", exact=True).fill("anna")
    theirs.get_by_label("Password", exact=True).fill("12345678")
    theirs.get_by_role("button", name="Join").click()
    expect(theirs.get_by_role("alert")).to_contain_text("too common")
    theirs.get_by_label("Password", exact=True).fill("correct horse battery")
    theirs.get_by_role("button", name="Join").click()
    expect(theirs.get_by_role("heading", name="Experiments")).to_be_visible()

    # A reader sees everything and changes nothing.
    theirs.get_by_role("link", name="Quick look").first.click()
    start = theirs.get_by_role("button", name="Start run")
    expect(start).to_be_disabled()
    expect(start).to_have_attribute("title", re.compile("needs the role of planner"))
    theirs.get_by_role("link", name="Systems", exact=True).click()
    expect(theirs.get_by_role("button", name="New system")).to_be_disabled()
    theirs.get_by_role("link", name="Quillport Tramways").first.click()
    expect(theirs.get_by_label("Base URL")).to_be_disabled()
    expect(theirs.get_by_role("region", name="Who did what")).to_contain_text("the first start created")
    theirs.goto(f"{installed.url}/people")
    expect(theirs.get_by_role("alert")).to_contain_text("Only administrators may do this")

    # As a planner they change it, which is told with what was before.
    page.reload()
    page.locator("[data-person=anna]").get_by_role("combobox").select_option("planner")
    expect(page.locator("[data-person=anna]").get_by_role("combobox")).to_have_value("planner")
    theirs.goto(f"{installed.url}/journeys")
    theirs.get_by_role("button", name="New journey").click()
    notes = theirs.get_by_label("Notes", exact=True)
    notes.fill("for the winter timetable")
    notes.press("Tab")
    expect(theirs.get_by_test_id("saving")).to_have_text("○ Saved")
    page.get_by_role("button", name="planner", exact=True).click()
    page.get_by_role("menuitem", name="Who did what").click()
    page.get_by_label("Person").select_option("anna")
    changed = page.get_by_role("listitem").filter(has_text="anna changed journey")
    changed.get_by_text("1 change").click()
    expect(changed).to_contain_text("for the winter timetable")
    with page.expect_download() as download:
        page.get_by_role("link", name="who-did-what.csv").click()
    told = download.value.path().read_text().splitlines()
    assert any("anna" in line and "created,journey" in line for line in told)
    assert not any(",planner,administrator" in line for line in told[1:])

    # Locked out, they are outside with the next thing they do.
    page.goto(f"{installed.url}/people")
    page.on("dialog", lambda dialog: dialog.accept())
    page.get_by_role("button", name="Lock out: anna").click()
    expect(page.locator("[data-person=anna]")).to_contain_text("locked out")
    theirs.goto(f"{installed.url}/runs")
    expect(theirs.get_by_role("button", name="Sign in")).to_be_visible()
    context.close()


def test_a_password_that_was_reset_leads_to_choosing_another(
    page: Page, chromium: Browser, installed: Installation
) -> None:
    page.goto(f"{installed.url}/people")
    page.get_by_label("For whom").fill("Berta")
    page.get_by_role("button", name="Make a link").click()
    link = page.get_by_test_id("invitation-link").inner_text()
    context = chromium.new_context(viewport={"width": 1280, "height": 800})
    theirs = context.new_page()
    theirs.goto(link)
    theirs.get_by_label("Name", exact=True).fill("berta")
    theirs.get_by_label("Password", exact=True).fill("correct horse battery")
    theirs.get_by_role("button", name="Join").click()
    expect(theirs.get_by_role("heading", name="Experiments")).to_be_visible()

    page.reload()
    page.on("dialog", lambda dialog: dialog.accept())
    page.get_by_role("button", name="New password for berta").click()
    fresh = page.get_by_role("status").locator("code").inner_text()
    theirs.goto(f"{installed.url}/sign-in")
    theirs.get_by_label("Name", exact=True).fill("berta")
    theirs.get_by_label("Password", exact=True).fill(fresh)
    theirs.get_by_role("button", name="Sign in").click()
    expect(theirs.get_by_text("Your password was reset")).to_be_visible()
    theirs.goto(f"{installed.url}/systems")
    expect(theirs.get_by_text("Your password was reset")).to_be_visible()
    theirs.get_by_label("Present password").fill(fresh)
    theirs.get_by_label("New password", exact=True).fill("another good one")
    theirs.get_by_label("New password once more").fill("another one")
    expect(theirs.get_by_text("The two are not the same")).to_be_visible()
    theirs.get_by_label("New password once more").fill("another good one")
    theirs.get_by_role("button", name="Change password").click()
    expect(theirs.get_by_text("Changed. Wherever else")).to_be_visible()
    theirs.get_by_role("link", name="Systems", exact=True).click()
    expect(theirs.get_by_role("heading", name="Systems")).to_be_visible()
    context.close()


def test_a_halt_ends_a_run_at_once_and_nothing_begins_until_it_is_lifted(page: Page) -> None:
    page.get_by_role("link", name="Quick look").first.click()
    page.get_by_role("button", name="Start run").click()
    expect(page.get_by_role("progressbar")).to_be_visible(timeout=60_000)
    page.get_by_role("button", name="Halt all load").click()
    page.get_by_label("Why, for everybody").fill("smoke in the hall")
    page.get_by_role("button", name="Halt it now").click()
    expect(page.get_by_text("All load is halted")).to_be_visible()
    ending = page.get_by_test_id("ending")
    expect(ending).to_contain_text("Stopped by the halt of planner", timeout=60_000)
    page.get_by_role("link", name="Experiments", exact=True).click()
    expect(page.get_by_role("heading", name="Experiments", exact=True)).to_be_visible()
    expect(page.get_by_text("smoke in the hall")).to_be_visible()
    # Not the chip of the run, which stands in the bar until its findings are made.
    page.get_by_role("main").get_by_role("link", name="Quick look", exact=True).click()
    expect(page.get_by_role("button", name="Start run")).to_be_disabled()
    page.get_by_role("button", name="Lift it").click()
    expect(page.get_by_text("All load is halted")).to_be_hidden()
    expect(page.get_by_role("button", name="Start run")).to_be_enabled()
    expect(page.get_by_role("button", name="Halt all load")).to_be_visible()


def test_a_token_of_ones_own_opens_the_api_until_it_is_withdrawn(
    page: Page, chromium: Browser, installed: Installation
) -> None:
    page.get_by_role("button", name="planner", exact=True).click()
    page.get_by_role("menuitem", name="Your page").click()
    expect(page.get_by_role("region", name="Where you are signed in")).to_contain_text("this session")
    tokens = page.get_by_role("region", name="Tokens")
    tokens.get_by_label("For what").fill("nightly run")
    tokens.get_by_role("button", name="Make a token").click()
    bearer = {"Authorization": f"Bearer {tokens.get_by_test_id('new-token').inner_text()}"}
    context = chromium.new_context(base_url=installed.url, extra_http_headers=bearer)
    script = context.request
    assert script.get("/api/experiments").status == 200
    assert script.post("/api/experiments", data={"source": "name: x"}).status == 403
    tokens.get_by_role("button", name="Withdraw the token nightly run").click()
    expect(tokens.get_by_role("listitem")).to_have_count(0)
    assert script.get("/api/experiments").status == 401
    context.close()
