"""The front end draws loads by itself, while they are typed: one list of cases holds it to what is run."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from stonekettle.plan import document

CASES = json.loads((Path(__file__).parent / "load_cases.json").read_text())
BASE = {
    "name": "p",
    "system": {"name": "s", "base_url": "http://127.0.0.1:1"},
    "journeys": [{"name": "Look", "steps": [{"name": "home", "request": "GET /", "think": "1 s"}]}],
    "objectives": [{"errors": "1 %"}],
}


@pytest.mark.parametrize("case", CASES, ids=lambda case: str(case["about"]))
def test_a_load_is_what_the_page_draws(case: dict[str, Any]) -> None:
    (group,) = document.from_document({**BASE, "groups": [{"name": "all", case["way"]: case["load"]}]}).people
    profile = group.profile
    assert profile.duration_s == pytest.approx(case["seconds"])
    assert profile.area == pytest.approx(case["area"])
    assert profile.peak == pytest.approx(case["peak"])
    ordered = document.from_document({**BASE, "groups": [{"name": "all", case["way"]: case["load"]}]}).planned
    assert [ordered.amount("all", t) for t, _ in case["at"]] == pytest.approx([load for _, load in case["at"]])
