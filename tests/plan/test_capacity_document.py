"""The capacity plan's document: read and written back, the load of a day, and what is refused."""

from __future__ import annotations

from datetime import date, timedelta
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from stonekettle.plan import capacity_document
from stonekettle.plan.capacity_document import CapacityPlan
from stonekettle.plan.checking import to_yaml
from stonekettle.plan.problems import PlanError

LEAST: dict[str, Any] = {"name": "Summer", "system": "Trams", "peaks": [{"on": "2027-05-01", "load": 300}]}


def told(**more: Any) -> CapacityPlan:
    return capacity_document.from_document({**LEAST, **more})


def problem(**more: Any) -> str:
    with pytest.raises(PlanError) as refused:
        told(**more)
    return str(refused.value)


def test_a_document_is_read_back_as_it_was_written() -> None:
    whole = {
        **LEAST,
        "runs": [3, 4],
        "counted_in": "steps",
        "growth": {"by": "25 %", "until": "2029-05-01"},
        "headroom": "15 %",
        "uncertain": "10 %",
        "lost": 2,
        "think": "3 s",
        "mix": {"Buy": 2, "Look": 5},
        "least": {"ledger": 3},
        "sizes": [{"component": "ledger", "name": "big", "times": 2, "price_per_hour": 0.4}],
        "notes": "a note",
    }
    once = capacity_document.from_document(whole)
    again = capacity_document.read(to_yaml(capacity_document.to_document(once)))
    assert again == once
    assert capacity_document.json_schema()["title"] == "CapacityPlan"


def test_the_load_of_a_day_lies_between_its_peaks_and_grows_after_the_last() -> None:
    plan = told(
        peaks=[{"on": "2027-01-01", "load": 100}, {"on": "2027-01-11", "load": 200}],
        growth={"by": "20 %", "until": "2029-01-11"},
    )
    assert plan.load_on(date(2026, 1, 1)) == 100
    assert plan.load_on(date(2027, 1, 6)) == pytest.approx(150)
    assert plan.load_on(date(2027, 1, 11)) == 200
    assert plan.load_on(date(2028, 1, 11)) == pytest.approx(240, rel=1e-3)
    assert plan.load_on(date(2040, 1, 1)) == plan.load_on(date(2029, 1, 11))
    assert plan.highest.on == date(2029, 1, 11)
    assert plan.highest.load == pytest.approx(288, rel=2e-3)


@given(
    loads=st.lists(st.floats(1, 1e5), min_size=1, max_size=8),
    day=st.integers(0, 400),
)
def test_no_day_has_more_than_the_highest_peak(loads: list[float], day: int) -> None:
    begin = date(2027, 1, 1)
    peaks = [{"on": (begin + timedelta(days=30 * k)).isoformat(), "load": load} for k, load in enumerate(loads)]
    plan = told(peaks=peaks)
    assert min(loads) - 1e-6 <= plan.load_on(begin + timedelta(days=day)) <= plan.highest.load + 1e-6
    assert plan.highest.load == pytest.approx(max(loads))


@pytest.mark.parametrize(
    ("more", "said"),
    [
        ({"peaks": []}, "peaks"),
        ({"peaks": [{"on": "2027-05-01", "load": 0}]}, "peaks[0].load"),
        ({"peaks": [{"on": "someday", "load": 5}]}, "peaks[0].on"),
        ({"peaks": [{"on": "2027-05-01", "load": 5}] * 2}, "peaks[1].on: 2027-05-01 is there twice"),
        ({"growth": {"by": "20 %", "until": "2027-04-01"}}, "growth.until: 2027-04-01 is not after the last peak"),
        ({"growth": {"by": "20 %", "until": "2099-04-01"}}, "growth.until: 2099-04-01 is over 20 years"),
        ({"growth": {"by": "20", "until": "2028-04-01"}}, "growth.by: '20' is not a share"),
        ({"lost": 9}, "lost"),
        ({"mix": {"Buy": 0}}, "mix: all weights are 0"),
        ({"think": 3}, "think: 3 is not a duration"),
        ({"counted_in": "cars"}, "counted_in"),
        ({"sizes": [{"component": "a", "name": "b", "times": 0, "price_per_hour": 1}]}, "sizes[0].times"),
        (
            {"sizes": [{"component": "a", "name": "b", "times": 2, "price_per_hour": 1}] * 2},
            "sizes[1].name: 'b' of 'a' is there twice",
        ),
        ({"colour": "red"}, "colour: there is no such field"),
    ],
)
def test_what_makes_no_sense_is_refused_by_its_place(more: dict[str, Any], said: str) -> None:
    assert said in problem(**more)


def test_it_says_what_its_system_and_run_have_not() -> None:
    plan = told(
        sizes=[{"component": "legder", "name": "b", "times": 2, "price_per_hour": 1}],
        least={"ledger": 2, "mail": 1},
        mix={"Buy": 1, "Sell": 1},
    )
    found = [str(one) for one in capacity_document.unknown(plan, ["ledger", "gateway"], ["Buy"])]
    assert [one.partition(":")[0] for one in found] == ["sizes[0].component", "least", "mix"]
    assert "There are: ledger, gateway." in found[0]


def test_what_is_no_document_is_refused() -> None:
    with pytest.raises(PlanError, match="this is not a capacity plan"):
        capacity_document.read("- a list")
