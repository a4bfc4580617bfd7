"""How tests write an experiment: as text to begin with, then sentence by sentence by keyboard."""

from __future__ import annotations

import re

from playwright.sync_api import Locator, Page, expect

SHORE = """\
# written by hand
name: {name}
system: Quillport Tramways
journeys:
  - name: Look
    steps:
      - {{name: Home page, request: GET /, think: exponential 2 s}}
load: # in sentences
  - hold: {{{hold}}} # to begin with
"""
HOLD = "users: 15, for: 5 min"


def shore(name: str, hold: str = HOLD, more: str = "") -> str:
    """The text of an experiment that holds a load."""
    return SHORE.format(name=name, hold=hold) + (f"{more}\n" if more else "")


def experiment(page: Page, name: str, hold: str = HOLD, more: str = "") -> None:
    expect(page.get_by_role("heading", name="Experiments")).to_be_visible()
    page.goto("/experiments/new?as=text")
    page.get_by_test_id("source").fill(shore(name, hold, more))
    page.get_by_role("button", name="Create experiment").click()
    expect(page.get_by_test_id("terrain")).to_be_visible()


def saved(page: Page) -> None:
    expect(page.get_by_test_id("saving")).to_have_text("○ Saved")


def sentences(page: Page) -> Locator:
    return page.get_by_test_id("sentence")


def source(page: Page) -> str:
    """The text as it is saved now."""
    saved(page)
    number = page.url.split("/experiments/")[1].split("?")[0]
    text: str = page.request.get(f"/api/experiments/{number}").json()["document"]["source"]
    return text


def begin(page: Page) -> None:
    """Into the first value of the first sentence."""
    sentences(page).first.locator("input").first.focus()


def say(page: Page, *keys: str) -> None:
    """Keys as they are pressed; a word in angle brackets is one key, anything else is typed."""
    for key in keys:
        if match := re.fullmatch(r"<(.+)>", key):
            page.keyboard.press(match[1])
        else:
            page.keyboard.type(key)


def then(page: Page, verb: str) -> None:
    """The next sentence, from the list of verbs."""
    there = sentences(page).count()
    page.keyboard.press("Enter")
    expect(page.get_by_role("menuitem", name=verb.capitalize())).to_be_visible()
    expect(page.get_by_role("menu")).to_be_focused()  # shown a moment before it hears keys
    page.keyboard.type(verb[0] if verb != "gather" else "ga")
    page.keyboard.press("Enter")
    expect(sentences(page)).to_have_count(there + 1)
    expect(sentences(page).nth(there).locator("input").first).to_be_focused()


def rehearsed(page: Page) -> int:
    """The number of the demo's rehearsal, of *Quick look*; before it come the runs of its season."""
    runs = page.request.get("/api/runs?before=46").json()["runs"]
    return min(run["id"] for run in runs if run["simulated"] and not run["seeded"])


def season(page: Page, experiment: str) -> list[int]:
    """The numbers of an experiment's runs in the demo's season."""
    runs = page.request.get("/api/runs?before=46").json()["runs"]
    return sorted(run["id"] for run in runs if run["seeded"] and run["experiment"] == experiment)
