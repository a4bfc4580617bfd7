"""One run beside another: the sentence, the ladder of figures, and what differs between the two."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import Page, expect

pytestmark = pytest.mark.e2e


def test_two_runs_of_the_demo_are_compared(page: Page) -> None:
    page.get_by_role("link", name="Runs", exact=True).click()
    # The demo's first and third are rehearsals of one experiment, by chance alone unlike.
    page.goto("/runs/3")
    page.get_by_label("Compare it with").select_option("1")
    expect(page.get_by_test_id("sentence")).to_contain_text(re.compile("^(No difference|Inconclusive): "))
    expect(page.get_by_test_id("sentence")).to_contain_text("This pair could have shown")
    rows = page.get_by_test_id("ladder").get_by_role("row")
    count = rows.count()
    assert count > 10
    expect(rows.nth(1)).to_contain_text("no difference over")
    page.get_by_label("also medians and 99th percentiles").check()
    assert rows.count() > count
    expect(page.get_by_role("region", name="What differs between the two")).to_contain_text("the same plan")
    page.get_by_role("link", name="Run 1", exact=True).click()
    page.goto("/runs/2/against/2")
    expect(page.get_by_role("alert")).to_contain_text("A run is compared with another one, not with itself.")
