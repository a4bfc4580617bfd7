"""Room for more users, asked of the demo's rehearsal as a person would: typed, refused, kept in the address."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import Page, expect

from tests.e2e.writing import rehearsed

pytestmark = pytest.mark.e2e


def test_a_limit_is_typed_and_answered_and_stays_in_the_address(page: Page) -> None:
    page.goto(f"/runs/{rehearsed(page)}")
    asked = page.get_by_test_id("more-users")
    asked.get_by_text("Room for more users?").click()
    answer = asked.get_by_test_id("more-users-answer")
    expect(answer).to_contain_text(re.compile(r"No room beyond \d+ users"))
    expect(answer).to_contain_text("steps take over 2 times as long as at light load")
    expect(asked.get_by_test_id("index-crossing")).to_be_visible()
    expect(asked.get_by_role("img")).to_have_accessible_name(
        re.compile(r"^\d+ levels, from 1.00 × to .* the limit is 2.00 ×$")
    )

    # Less patience leaves less room; a limit that can be none is refused, and says why.
    beyond = int(re.findall(r"beyond (\d+)", answer.inner_text())[0])
    limit = asked.get_by_label("At most so many times")
    limit.fill("1.3")
    limit.press("Enter")
    expect(answer).to_contain_text("over 1.3 times as long")
    assert int(re.findall(r"beyond (\d+)", answer.inner_text())[0]) < beyond
    limit.fill("1")
    limit.press("Enter")
    expect(asked.get_by_role("alert")).to_contain_text("1 times as slow is none. Give one above 1")
    limit.fill("900")
    limit.press("Enter")
    expect(answer).to_contain_text(re.compile("Room for at least|Not reached"))

    # The open standard's score, in the address for whoever is shown it.
    asked.get_by_label("How it feels, as").select_option("apdex")
    expect(answer).to_contain_text("Apdex score (T 500 ms) is under 0.85")
    asked.get_by_label("Satisfied within (s)").fill("0.05")
    asked.get_by_label("Satisfied within (s)").press("Enter")
    expect(answer).to_contain_text("Apdex score (T 50.0 ms)")
    expect(page).to_have_url(re.compile(r"room=apdex(\+|%20)0.85(\+|%20)0.05"))
    page.reload()
    expect(answer).to_contain_text("Apdex score (T 50.0 ms)")
    asked.get_by_text("Table of the index").click()
    expect(asked.get_by_role("table").get_by_role("row").nth(1)).to_contain_text(
        re.compile(r"[01]\.\d\d to [01]\.\d\d")
    )
