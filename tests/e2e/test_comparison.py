"""One run beside another: the sentence, the ladder of figures, and what differs between the two."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import Page, expect

from tests.e2e.writing import season

pytestmark = pytest.mark.e2e


def test_two_runs_of_the_demo_are_compared(page: Page) -> None:
    # The season's first checks are unlike by chance alone.
    first, second, third = season(page, "Weekly check")[:3]
    page.goto(f"/runs/{third}")
    page.get_by_label("Compare it with").select_option(str(first))
    expect(page.get_by_test_id("sentence")).to_contain_text(re.compile("^(No difference|Inconclusive): "))
    expect(page.get_by_test_id("sentence")).to_contain_text("This pair could have shown")
    rows = page.get_by_test_id("ladder").get_by_role("row")
    count = rows.count()
    assert count > 10
    expect(rows.nth(1)).to_contain_text(re.compile("no difference over|inconclusive: under"))
    page.get_by_label("also medians and 99th percentiles").check()
    assert rows.count() > count
    expect(page.get_by_role("region", name="What differs between the two")).to_contain_text("the same plan")
    page.get_by_role("link", name=f"Run {first}", exact=True).click()
    page.goto(f"/runs/{second}/against/{second}")
    expect(page.get_by_role("alert")).to_contain_text("A run is compared with another one, not with itself.")
