"""Regular expressions whose time cannot run away, and clear words for what they leave out."""

from __future__ import annotations

import re
import time

import pytest
from hypothesis import given
from hypothesis import strategies as st

from stonekettle.plan import document, journey_document, patterns
from stonekettle.plan.problems import PlanError
from stonekettle.plan.response_text import form_fields


def test_no_pattern_takes_longer_than_its_text() -> None:
    began = time.process_time()
    assert patterns.compiled(r"(a+)+$").search("a" * 200_000 + "!") is None
    assert form_fields("<textarea>" * 100_000) == []
    assert form_fields("<input " * 100_000) == []
    assert form_fields("<input " + "a" * 300_000 + ">") == []
    assert time.process_time() - began < 5


@pytest.mark.parametrize(
    ("pattern", "says"),
    [
        ("(?=a)", "looking ahead"),
        ("(?!a)", "looking ahead"),
        ("(?<=a)b", "looking behind"),
        (r"(a)\\1", "referring back to a group"),
        ("(?P=x)", "references to a group"),
        ("(", "missing )"),
        ("a{5000}", "repetition size"),
        ("a" * 2_001, "over 2000 characters"),
    ],
)
def test_what_is_not_supported_is_said_in_words(pattern: str, says: str) -> None:
    pattern = pattern.replace("\\\\", "\\")
    with pytest.raises(patterns.PatternError, match=re.escape(says)):
        patterns.compiled(pattern)


@given(
    st.text(alphabet="ab1é .", max_size=20),
    st.sampled_from([r"[a-z]+", r"(\w)(\d)?", r"é|b$", r"^a.*?1", r"(?i)A{2,}"]),
)
def test_it_finds_what_the_standard_library_finds(text: str, pattern: str) -> None:
    ours, theirs = patterns.compiled(pattern).search(text), re.compile(pattern, re.ASCII).search(text)
    assert (ours and (ours[0], ours.span())) == (theirs and (theirs[0], theirs.span()))


def test_a_pattern_is_refused_with_its_place() -> None:
    step = {"name": "a", "request": "GET /", "keep": [{"name": "x", "regex": "(?!b)"}], "checks": [{"matches": "("}]}
    with pytest.raises(PlanError) as refused:
        journey_document.from_document({"name": "j", "steps": [step], "proof": {"address": "/n", "regex": "(?=1)"}})
    assert [p.path for p in refused.value.problems] == [
        "steps[0].keep[0].regex",
        "steps[0].checks[0].matches",
        "proof.regex",
    ]


def test_a_stored_plan_stays_readable_when_a_rule_changes() -> None:
    plan = {
        "name": "p",
        "system": {"name": "s", "base_url": "http://127.0.0.1:1"},
        "journeys": [{"name": "j", "steps": [{"name": "a", "request": "GET /", "checks": [{"matches": "(?!x)"}]}]}],
        "load": [{"hold": {"users": 1, "for": "10 s"}}],
    }
    assert document.stored(plan).name == "p"
    with pytest.raises(PlanError, match="looking ahead"):
        document.from_document(plan)
