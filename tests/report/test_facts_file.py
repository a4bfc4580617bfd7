"""Facts as a file: read back as they were written, and refused with the place where they are not."""

from __future__ import annotations

import math

import pytest

from stonekettle.core.facts import Fact
from stonekettle.report import facts_file

FACTS = [
    Fact(None, "", "saturation point", 102.5, 1.25),
    Fact(1, "Buy / =Pay", "mean", 0.125, math.nan, 90, (-2.0794, math.nan, -2.1)),
    Fact(2, "ledger.cpu", "utilisation", math.nan),
]


def test_facts_are_read_back_as_they_were() -> None:
    text = facts_file.write(FACTS)
    assert text.splitlines()[2] == "1,Buy / =Pay,mean,0.125,,90,-2.0794 - -2.1"
    assert repr(facts_file.read(text)) == repr(FACTS)


def test_what_spreadsheets_would_run_is_quoted_and_read_back() -> None:
    (fact,) = facts_file.read(facts_file.write([Fact(1, "=cmd()", "mean", 1.0)]))
    assert fact.subject == "=cmd()"
    assert "'=cmd()" in facts_file.write([fact])


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("", "first line is not level,subject"),
        ("a,b\n", "first line is not level,subject"),
        (facts_file.write([]) + "one,x,mean,1,,,\n", "line 2 is no fact"),
        (facts_file.write(FACTS) + "1,x\n", "line 5 is no fact"),
    ],
)
def test_other_files_are_refused_with_their_place(text: str, told: str) -> None:
    with pytest.raises(ValueError, match=told):
        facts_file.read(text)
