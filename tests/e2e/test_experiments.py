"""Planners write experiments: loads in sentences by keyboard alone, as text, undone, compared and copied."""

from __future__ import annotations

import re
from datetime import datetime, timedelta

import pytest
from playwright.sync_api import Page, expect

from tests.e2e.writing import begin, experiment, saved, say, sentences, shore, source, then

pytestmark = pytest.mark.e2e


def test_a_dozen_then_two_more_every_minute_then_six(page: Page) -> None:
    experiment(page, "A dozen")
    begin(page)
    say(page, "12", "<Tab>", "1m")
    then(page, "climb")
    say(page, "1 min", "<Tab>", "<Tab>", "2", "<Tab>", "<Tab>", "8 min")
    then(page, "climb")
    say(page, "1", "<Tab>", "<Tab>", "6", "<Tab>", "<Tab>", "60", "<Tab>")
    text = source(page)
    assert "  - hold: {users: 12, for: 1 min} # to begin with\n" in text
    assert "  - climb: {by: 2, every: 1 min, for: 8 min}\n  - climb: {by: 6, every: 1 min, to: 60}\n" in text
    expect(page.get_by_test_id("load-totals")).to_contain_text("15 min, at most 60 users")
    expect(sentences(page).nth(2)).to_contain_text("9:00")


def test_more_at_once_and_gradually_away(page: Page) -> None:
    experiment(page, "At once")
    begin(page)
    say(page, "<Tab>")
    then(page, "jump")
    say(page, "45", "<Tab>", "25 min")
    then(page, "drop")
    say(page, "10", "<Tab>", "3", "<Tab>", "0", "<Tab>")
    assert "  - jump: {by: 45, for: 25 min}\n  - drop: {by: 3, every: 10 s, to: 0}\n" in source(page)
    expect(page.get_by_test_id("load-totals")).to_contain_text("at most 60 users")


def test_four_hundred_people_gather_in_the_morning(page: Page) -> None:
    experiment(page, "Morning")
    begin(page)
    say(page, "<Tab>")
    then(page, "gather")
    say(page, "400", "<Tab>", "40 min", "<Tab>", "15 min", "<Tab>")
    # Who gathers comes one by one, the others as they are told: that is refused where it stands, and mended.
    expect(page.get_by_role("alert").first).to_contain_text("comes and leaves one by one")
    sentences(page).first.locator("input").first.focus()
    say(page, "<Alt+Delete>")
    expect(sentences(page)).to_have_count(1)
    assert "  - gather: {users: 400, within: 40 min, stay: 15 min}\n" in source(page)
    expect(page.get_by_test_id("load-totals")).to_contain_text("55 min, at most 150 users, 6\u2009000 user-minutes")


def test_a_hundred_and_eighty_of_three_kinds(page: Page) -> None:
    experiment(page, "Kinds")
    page.get_by_role("button", name="Part people into groups").press("Enter")
    expect(page.get_by_test_id("group")).to_have_count(2)
    page.get_by_role("button", name="Add a group").press("Enter")
    expect(page.get_by_test_id("group")).to_have_count(3)
    for number, (name, users) in enumerate((("residents", "100"), ("visitors", "60"), ("office", "20"))):
        page.get_by_label(f"Group {number + 1}", exact=True).focus()
        say(page, name, "<Tab>")
        page.get_by_test_id("group").nth(number).get_by_test_id("sentence").locator("input").first.focus()
        say(page, users, "<Tab>", "5 min", "<Tab>")
        saved(page)
    expect(page.get_by_test_id("load-totals")).to_contain_text("5 min, at most 180 users, 900 user-minutes")
    expect(page.get_by_test_id("terrain").locator("figcaption")).to_contain_text("visitors")


def test_sentences_are_split_joined_moved_and_removed_by_keys(page: Page) -> None:
    experiment(page, "Keys")
    before = source(page)
    begin(page)
    say(page, "<Alt+Enter>")
    expect(sentences(page)).to_have_count(2)
    parted = source(page)
    assert "hold: {users: 15, for: 2.5 min} # to begin with\n  - hold: {for: 2.5 min}\n" in parted
    begin(page)
    say(page, "<Alt+j>")
    expect(sentences(page)).to_have_count(1)
    assert source(page) == before
    begin(page)
    then(page, "wait")
    say(page, "30 s", "<Alt+ArrowUp>")
    expect(sentences(page).first).to_contain_text("Wait")
    moved = source(page)
    assert moved.index("wait: 30 s") < moved.index("hold: {users: 15")
    say(page, "<Alt+Delete>")
    expect(sentences(page)).to_have_count(1)
    assert source(page) == before
    # A step at a time, and back.
    page.get_by_role("button", name="Undo").click()
    expect(sentences(page)).to_have_count(2)
    page.get_by_role("button", name="Redo").click()
    expect(sentences(page)).to_have_count(1)


def test_the_picture_is_the_same_thing(page: Page) -> None:
    """A corner is dragged and stepped; pointing at a stretch lights its sentence and the other way round."""
    experiment(page, "Picture")
    corner = page.get_by_label("End of sentence 1")
    box = corner.bounding_box()
    assert box is not None
    page.mouse.move(box["x"] + 5, box["y"] + 5)
    page.mouse.down()
    page.mouse.move(box["x"] + 5, box["y"] + 65, steps=6)
    page.mouse.up()
    users = sentences(page).first.locator("input").first
    expect(users).not_to_have_value("15")
    dragged = int(users.input_value())
    assert 5 <= dragged < 15
    corner.focus()
    say(page, "<ArrowUp>", "<ArrowUp>", "<Shift+ArrowLeft>")
    assert f"hold: {{users: {dragged + 2}, for: 4.17 min}}" in source(page) or "for: 250 s" in source(page)
    expect(page.get_by_test_id("chosen-stretch")).to_have_count(1)


def test_text_and_sentences_are_one_document(page: Page) -> None:
    experiment(page, "Two views")
    page.get_by_role("button", name="As text").click()
    text = page.get_by_test_id("source")
    expect(text).to_have_value(shore("Two views"))
    text.fill(shore("Two views").replace("users: 15", "users: 25"))
    text.press("Tab")
    saved(page)
    page.get_by_role("button", name="In sentences").click()
    expect(sentences(page).first.locator("input").first).to_have_value("25")
    page.get_by_label("Question").fill("Why: so?")
    page.get_by_label("Tags, with commas").fill("spring, shore")
    page.get_by_label("Tags, with commas").press("Tab")
    saved(page)
    expect(page.get_by_role("region", name="Revisions")).to_contain_text("peak 15 → 25 users.")
    expect(page.get_by_role("region", name="Revisions")).to_contain_text("tags none → spring, shore")
    page.get_by_role("button", name="As text").click()
    expect(text).to_have_value(re.compile(r'question: "?Why: so\?"?\ntags: \[spring, shore\]\n'))
    # A text that cannot be read is not saved, and says so; nothing runs meanwhile.
    good = text.input_value()
    text.fill(good.replace("users: 25", "users: [25"))
    expect(page.get_by_test_id("saving")).to_have_text("✕ Not saved yet")
    expect(page.get_by_role("button", name="Start run")).to_be_disabled()
    page.get_by_role("button", name="In sentences").click()
    expect(page.get_by_role("alert").last).to_contain_text("The text cannot be read just now")
    page.get_by_role("button", name="See the text").click()
    text.fill(good)
    text.press("Tab")
    saved(page)
    # A value that is wrong says so where it stands, and leaves what was saved.
    page.get_by_role("button", name="In sentences").click()
    sentences(page).first.locator("input").nth(1).fill("soon")
    sentences(page).first.locator("input").nth(1).press("Tab")
    expect(sentences(page).first.get_by_role("alert")).to_contain_text("'soon' is not a duration")


def test_an_experiment_is_brought_back_copied_and_put_away(page: Page) -> None:
    experiment(page, "History")
    begin(page)
    say(page, "7", "<Tab>")
    saved(page)
    expect(page.get_by_text("reaches 7 users")).to_be_visible()
    page.get_by_role("button", name="Bring revision 1 back").click()
    expect(page.get_by_text("reaches 15 users")).to_be_visible()
    expect(sentences(page).first.locator("input").first).to_have_value("15")
    page.get_by_role("button", name="Duplicate").click()
    expect(page.get_by_role("heading", name="History copy")).to_be_visible()
    page.get_by_role("button", name="Archive").click()
    expect(page.get_by_role("heading", name="History copy archived")).to_be_visible()
    expect(page.get_by_role("button", name="Start run")).to_be_disabled()
    expect(sentences(page).first.locator("input").first).to_be_disabled()
    page.get_by_role("link", name="Experiments", exact=True).click()
    expect(page.get_by_role("link", name="History", exact=True)).to_be_visible()
    expect(page.get_by_role("link", name="History copy", exact=True)).to_have_count(0)
    page.get_by_role("button", name="Show archived experiments").click()
    expect(page.get_by_role("link", name="History copy", exact=True)).to_be_visible()


def test_what_two_write_at_once_is_put_together(page: Page) -> None:
    experiment(page, "Together")
    other = page.context.new_page()
    other.goto(page.url)
    other.get_by_label("Question").fill("Theirs?")
    other.get_by_label("Question").press("Tab")
    saved(other)
    begin(page)
    say(page, "33", "<Tab>")
    page.get_by_role("button", name="Put both together").click()
    text = source(page)
    assert "question: Theirs?" in text
    assert "users: 33" in text
    other.close()


def test_a_new_experiment_begins_from_a_shape(page: Page) -> None:
    page.get_by_role("button", name="New experiment").click()
    expect(page.get_by_role("button", name="Create experiment")).to_be_disabled()
    page.get_by_label("Name").fill("Morning: rush")
    page.get_by_label("It runs against").select_option("Quillport Tramways")
    page.get_by_role("radio", name="Morning rush").check()
    page.get_by_role("button", name="Create experiment").click()
    expect(page.get_by_role("heading", name="Morning: rush")).to_be_visible()
    expect(sentences(page)).to_have_count(1)
    assert "load:\n  - gather: {users: 400, within: 40 min, stay: 15 min}\n" in source(page)


def test_a_long_profile_is_edited_without_lag(page: Page) -> None:
    """200 sentences: what a keystroke keeps the page's script busy with."""
    load = "".join(f"  - hold: {{users: {10 + n % 7}, for: 30 s}}\n" for n in range(200))
    experiment(page, "Long")
    page.get_by_role("button", name="As text").click()
    text = page.get_by_test_id("source")
    text.fill(re.sub(r"  - hold: .*\n", load, shore("Long")))
    text.press("Tab")
    saved(page)
    page.get_by_role("button", name="In sentences").click()
    expect(sentences(page)).to_have_count(200)
    field = sentences(page).nth(100).locator("input").first
    field.focus()
    took = page.evaluate(
        """async () => {
          const field = document.activeElement, took = []
          const set = Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value').set
          for (let i = 0; i < 20; i++) {
            const begun = performance.now()
            set.call(field, String(10 + i))
            field.dispatchEvent(new Event('input', { bubbles: true }))
            for (let k = 0; k < 20; k++) await Promise.resolve()
            took.push(performance.now() - begun)
          }
          return took.sort((a, b) => a - b)
        }"""
    )
    # The middle one: what else the machine does at a moment is not the page's doing.
    assert took[10] < 50, took


def test_a_rehearsal_shows_in_seconds_what_a_run_would_look_like(page: Page) -> None:
    page.get_by_role("link", name="Quick look", exact=True).first.click()
    page.get_by_role("button", name="Rehearse").click()
    page.wait_for_url("**/runs/*", timeout=90_000)
    expect(page.get_by_test_id("run-state")).to_contain_text("rehearsal")
    expect(page.get_by_role("note").first).to_have_text(
        re.compile(
            r"Played in virtual time against a simulation of the practice system\. It is the middle one of 3 plays, "
            r"each with its own chance: they found .*users\. Nothing was sent and nothing measured"
        )
    )
    notes = page.get_by_test_id("notes")
    expect(notes.locator("[data-note=limiting]")).to_contain_text("ledger CPU")
    page.get_by_role("link", name="Runs", exact=True).click()
    expect(page.get_by_role("row").nth(1)).to_contain_text("rehearsal")


def test_the_forecast_follows_what_is_typed_on(page: Page) -> None:
    """Typing on in one field goes on with one revision; what is foretold of it does not stay behind."""
    experiment(page, "Foretold")
    forecast = page.get_by_test_id("forecast")
    begin(page)
    say(page, "12")
    saved(page)
    expect(forecast).to_contain_text("This load would stay below saturation")
    say(page, "34")
    saved(page)
    say(page, "<End>", "<Backspace>", "<Backspace>", "<Backspace>", "<Backspace>", "4000")
    saved(page)
    expect(forecast).to_contain_text("Throughput would stop growing at about")
    expect(page.get_by_role("region", name="Revisions")).to_contain_text("peak 15 → 4000 users")


def test_a_search_is_typed_and_rehearsed(page: Page) -> None:
    experiment(page, "How far")
    begin(page)
    page.keyboard.press("Enter")
    expect(page.get_by_role("menuitem", name="Search")).to_be_visible()
    expect(page.get_by_role("menu")).to_be_focused()  # on a busy machine a key may come before that
    page.keyboard.type("se")
    page.keyboard.press("Enter")
    # It leads the whole load, so it stands alone, and without an objective it has nothing to go by.
    expect(sentences(page)).to_have_count(1)
    expect(page.get_by_role("alert").first).to_contain_text("a search needs an objective")
    expect(page.get_by_test_id("not-known-yet")).to_be_visible()
    say(page, "4", "<Tab>", "250", "<Tab>", "6 min", "<Tab>")
    page.get_by_role("button", name="Add an objective").click()
    saved(page)
    text = source(page)
    assert "search: {from: 4, to: 250, within: 6 min}" in text
    expect(page.get_by_test_id("load-totals")).to_have_text(
        "At most 6 min and 250 users: each level is chosen by what the run has shown."
    )
    page.get_by_role("button", name="Rehearse").click()
    page.wait_for_url("**/runs/*", timeout=90_000)
    page.get_by_text("History of this run").click()
    light = re.compile(r"(?<!\d)4 users: a light level, for what a step takes and costs\.")
    expect(page.get_by_text(light)).to_be_visible()
    expect(
        page.get_by_text(re.compile("(The search|Every objective holds|An objective is missed)")).first
    ).to_be_visible()
    # Its levels are no flags, and it is not said to have been changed by hand.
    expect(page.get_by_text("changed by hand")).to_have_count(0)


def test_a_run_begins_at_its_time(page: Page) -> None:
    experiment(page, "On time")
    schedules = page.get_by_test_id("schedules")
    schedules.get_by_text("At a time …").click()
    day, time_of_day = schedules.get_by_label("Day", exact=True), schedules.get_by_label("Load begins at", exact=True)
    day.fill("2020-01-01")
    expect(schedules).to_contain_text("That time has passed.")
    expect(schedules.get_by_role("button", name="Schedule")).to_be_disabled()
    # Next week, each weekday: said in words, and taken off again.
    next_week = datetime.now() + timedelta(days=7)
    day.fill(next_week.strftime("%Y-%m-%d"))
    time_of_day.fill("06:30")
    schedules.get_by_label("How often").select_option("weekday")
    schedules.get_by_role("button", name="Schedule").click()
    line = schedules.get_by_role("listitem")
    expect(line).to_contain_text(re.compile(r"Load begins in \d days.*06:30.*your time, each weekday"))
    line.get_by_role("button", name="Take off").click()
    expect(line).to_have_count(0)
    # At a full minute soon, once: it gets ready at once or in a moment, half a minute before at least, and begins then.
    begins = (datetime.now() + timedelta(seconds=95)).replace(second=0, microsecond=0)
    day.fill(begins.strftime("%Y-%m-%d"))
    time_of_day.fill(begins.strftime("%H:%M"))
    schedules.get_by_label("How often").select_option("")
    schedules.get_by_role("button", name="Schedule").click()
    schedules.get_by_role("link", name=re.compile(r"Run \d+")).click(timeout=90_000)
    expect(page.get_by_text("Load is to begin at")).to_be_visible()
    number = page.url.rsplit("/", 1)[1]
    expect(page.get_by_test_id("run-state")).to_contain_text("running", timeout=90_000)
    begun = page.request.get(f"/api/runs/{number}").json()["begun_at"]
    page.get_by_role("button", name="Stop run").click()
    # Never before; how soon after, where the machine does not stand still, is held in virtual time.
    assert -1 < begun - begins.timestamp() < 30
