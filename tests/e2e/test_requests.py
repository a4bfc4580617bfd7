"""Single requests and SQL, as a person goes to them from a run."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from tests.e2e.writing import rehearsed, season

pytestmark = pytest.mark.e2e


def test_from_a_run_to_the_phases_of_its_slowest_request_in_two_clicks(page: Page) -> None:
    run = rehearsed(page)
    page.goto(f"/runs/{run}")
    page.get_by_role("link", name="Single requests").click()
    rows = page.get_by_test_id("rows").locator("[data-row]")
    expect(page.get_by_test_id("summary")).to_contain_text(re.compile(r"steps.*: half within .* longest"))
    rows.first.click()
    expect(page.get_by_test_id("anatomy")).to_contain_text("Waiting for the first byte")
    expect(page.get_by_test_id("visit")).to_contain_text(re.compile(r"Visit \d+ of user \d+"))

    # The same by keys alone: a level chosen on the run's page is what is looked at.
    page.goto(f"/runs/{run}")
    expect(page.get_by_test_id("plate")).to_be_visible()
    page.keyboard.press("]")
    page.keyboard.press("]")
    expect(page.get_by_test_id("level")).to_contain_text("Level 2")
    page.keyboard.press("r")
    expect(page.get_by_label("At which level").locator("option:checked")).to_have_text(re.compile("^Level 2, "))
    rows.first.focus()
    page.keyboard.press("ArrowDown")
    page.keyboard.press("Enter")
    expect(rows.nth(1)).to_have_attribute("aria-selected", "true")
    expect(page.get_by_test_id("anatomy")).to_be_visible()
    page.keyboard.press("Escape")
    expect(page.get_by_test_id("anatomy")).to_have_count(0)


def test_requests_are_asked_for_in_a_sentence(page: Page) -> None:
    page.goto(f"/runs/{rehearsed(page)}/requests")
    summary = page.get_by_test_id("summary")
    expect(summary).to_contain_text("half within")
    everything = count(summary.inner_text())

    # Together by step, and one of them alone.
    page.get_by_label("Put together by").select_option("step")
    kinds = page.get_by_test_id("kinds").get_by_role("row")
    expect(kinds).to_have_count(8)
    counts = [count(kinds.nth(k).get_by_role("cell").nth(1).inner_text()) for k in range(1, 8)]
    assert sum(counts) == everything
    kinds.nth(1).get_by_role("button").click()
    expect(page.get_by_test_id("kinds")).to_have_count(0)
    expect(summary).to_contain_text(f"{counts[0]:,}".replace(",", "\u2009"))

    # Times are understood with their units, and what is none is said and not asked for.
    page.get_by_label("Longer than", exact=True).fill("soon")
    page.keyboard.press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("soon is none. Say it as 340 ms or 1.2 s.")
    page.get_by_label("Longer than", exact=True).fill("0.005 s")
    page.keyboard.press("Enter")
    expect(page.get_by_label("Longer than", exact=True)).to_have_value("5 ms")
    page.get_by_label("From, as a moment of the run").fill("0:20")
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile("from_s=20"))
    expect(summary).not_to_contain_text(f"{counts[0]:,} ".replace(",", "\u2009"))
    assert 0 < count(summary.inner_text()) < counts[0]

    # Back takes the last of it back; the bars choose by how long it took.
    page.go_back()
    expect(page.get_by_label("From, as a moment of the run")).to_have_value("0:00")
    expect(page.locator("[aria-busy=true]")).to_have_count(0)
    bars = page.get_by_test_id("times").get_by_role("img")
    bars.focus()
    page.keyboard.press("ArrowRight")
    told = page.get_by_test_id("times").get_by_role("status")
    expect(told).to_contain_text(" took ")
    inside = count(told.inner_text())
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile("within_ms="))
    expect(summary).to_contain_text(re.compile(rf"^{inside} step"))
    page.get_by_role("button", name="All of them again").click()
    expect(summary).to_contain_text(re.compile(rf"^{everything:,} ".replace(",", "\u2009")))

    # From page to page.
    pages = page.get_by_test_id("rows")
    expect(pages).to_contain_text("1 to 50 of")
    pages.get_by_role("button", name="Further").click()
    expect(pages).to_contain_text("51 to 100 of")
    page.set_viewport_size({"width": 480, "height": 800})
    assert page.evaluate("document.documentElement.scrollWidth") <= 480


def count(text: str) -> int:
    found = re.match(r"[\d\u2009]+", text)
    assert found, text
    return int(found[0].replace("\u2009", ""))


def test_a_number_of_the_table_of_steps_leads_to_what_it_counts(page: Page) -> None:
    page.goto(f"/runs/{rehearsed(page)}")
    steps = page.get_by_test_id("steps")
    link = steps.get_by_role("link", name=re.compile("^The .* of Buy ticket one by one$"))
    counted = count(link.inner_text())
    link.click()
    expect(page.get_by_test_id("summary")).to_contain_text(re.compile(rf"^{counted:,} ".replace(",", "\u2009")))


def test_a_run_is_asked_in_sql(page: Page, tmp_path: Path) -> None:
    page.goto(f"/runs/{rehearsed(page)}/requests")
    page.get_by_role("link", name="Ask in SQL").click()
    page.get_by_role("button", name="Each step at each level").click()
    answer = page.get_by_test_id("answer")
    expect(answer.get_by_role("status")).to_contain_text(re.compile(r"\d+ rows in"))
    expect(answer.get_by_role("img")).to_have_accessible_name(re.compile("^p95_s along level: "))
    answer.get_by_label("Drawn").select_option("done")
    expect(answer.get_by_role("img")).to_have_accessible_name(re.compile("^done along level: "))
    with page.expect_download() as given:
        answer.get_by_role("button", name="As CSV").click()
    given.value.save_as(tmp_path / "answer.csv")
    assert (tmp_path / "answer.csv").read_text().startswith("step,level,done,p95_s\n")

    # One's own, by keys; the address keeps it.
    page.get_by_label("Statement").fill("SELECT count(*) AS n FROM requests")
    page.keyboard.press("Control+Enter")
    expect(answer.get_by_role("columnheader")).to_have_text(["n"])
    page.reload()
    expect(answer.get_by_role("columnheader")).to_have_text(["n"])
    expect(answer.get_by_role("status")).to_contain_text("1 row in")

    # What must not be is refused in words, and the page goes on.
    page.get_by_label("Statement").fill("SELECT * FROM read_text('/etc/passwd')")
    page.get_by_role("button", name="Ask", exact=True).click()
    expect(page.get_by_role("alert")).to_contain_text("out of reach here")
    tables = page.get_by_test_id("tables")
    tables.get_by_text("moments", exact=True).click()
    page.get_by_label("Statement").fill("SELECT max() FROM moments")
    page.get_by_label("Statement").evaluate("field => field.setSelectionRange(11, 11)")
    tables.get_by_role("button", name="users", exact=True).click()
    expect(page.get_by_label("Statement")).to_have_value("SELECT max(users) FROM moments")
    page.keyboard.press("Control+Enter")
    expect(answer.get_by_role("columnheader")).to_have_text([re.compile("max")])


def test_a_run_that_came_without_single_requests_says_so(page: Page) -> None:
    run = season(page, "Weekly check")[0]
    page.goto(f"/runs/{run}/requests")
    expect(page.get_by_text("There are no single requests of this run")).to_be_visible()
    page.goto(f"/runs/{run}/sql?ask=SELECT+count(*)+FROM+steps")
    expect(page.get_by_role("alert")).to_contain_text("made by the practice twin")


def test_a_step_has_a_page_of_its_own(page: Page) -> None:
    page.goto(f"/runs/{rehearsed(page)}")
    page.get_by_test_id("steps").get_by_role("link", name="More of Buy ticket").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("Buy ticket in run")
    said = page.get_by_test_id("sentences")
    expect(said).to_contain_text(re.compile("waiting for the first byte"))
    expect(page.get_by_role("img", name="took_s along users: 99 %, 95 %, half")).to_be_visible()
    expect(page.get_by_role("img", name="took_s along s: 99 %, 95 %, half")).to_be_visible()
    expect(page.get_by_test_id("time").get_by_role("row").nth(1)).to_contain_text("all of it")
    levels = page.get_by_test_id("at-levels").get_by_role("row")
    expect(levels.nth(1)).to_contain_text(re.compile(r"Level \d, \d+ users"))
    levels.nth(1).get_by_role("link", name="the slowest").click()
    expect(page.get_by_label("Of which step").locator("option:checked")).to_have_text("Buy ticket")
    page.get_by_test_id("rows").locator("[data-row]").first.click()
    expect(page.get_by_test_id("anatomy")).to_contain_text("Buy ticket: status")
    page.go_back()
    page.set_viewport_size({"width": 480, "height": 800})
    expect(page.get_by_test_id("time")).to_be_visible()
    assert page.evaluate("document.documentElement.scrollWidth") <= 480


def test_each_conclusion_opens_how_it_was_computed(page: Page) -> None:
    page.goto(f"/runs/{rehearsed(page)}")
    for kind, formula in (("comfort", "the lowest load N"), ("limiting", "U = U₀ + D · X / m")):
        how = page.locator(f"[data-how={kind}]")
        how.get_by_text("How this was computed").click()
        expect(how).to_contain_text(formula)
        expect(how).to_contain_text("levels after warm-up")
        expect(how).to_contain_text("Its limits:")


def test_against_load_the_laws_are_drawn_beside_what_was_measured(page: Page) -> None:
    page.goto(f"/runs/{rehearsed(page)}")
    expect(page.get_by_test_id("notes")).to_be_visible()
    page.keyboard.press("l")
    throughput = page.locator("[data-row=throughput]")
    expect(throughput).to_contain_text("at most")
    expect(throughput).to_contain_text("by law")
    page.keyboard.press("l")
    expect(throughput).not_to_contain_text("by law")
