"""What is scaled, as it is written: what is read, what is refused, and the plan of each value's turn."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
import yaml

from stonekettle.plan import document
from stonekettle.plan.differences import differences
from stonekettle.plan.models import Plan
from stonekettle.plan.problems import PlanError
from stonekettle.plan.segments import MAX_USERS

EXAMPLE = (Path(__file__).parents[2] / "examples" / "scaling.yaml").read_text()


def plan(load: object = None, **changes: Any) -> Plan:
    told = yaml.safe_load(EXAMPLE)
    told["scaling"] |= changes
    told["load"] = load or told["load"]
    return document.from_document({key: value for key, value in told.items() if value is not None})


def faults(load: object = None, **changes: Any) -> dict[str, str]:
    with pytest.raises(PlanError) as caught:
        plan(load, **changes)
    return {problem.path: f"{problem.message} {problem.mend}" for problem in caught.value.problems}


def turns_of(told: Plan) -> dict[str, Plan]:
    assert told.turns is not None
    return {one.name: told.turn(one, None) for one in told.turns.each}


def test_the_example_is_read_and_written_back() -> None:
    told = plan()
    assert told.turns is not None
    assert told.turns.turns == 6
    assert document.from_document(document.to_document(told)) == told
    calls = {one.name: (one.begin[0], one.end[0]) for one in told.turns.each}
    assert list(calls) == ["1 × ledger", "2 × ledger", "4 × ledger"]
    begin, end = calls["4 × ledger"]
    assert (begin.words, getattr(begin, "body", "")) == ("PUT /components/ledger/instances", '{"instances": 4}')
    assert getattr(end, "body", "") == '{"instances": 1}'
    assert all(one.ready and one.ready.ask == "practice://cloud/components/ledger/ready" for one in told.turns.each)


def test_a_turn_has_so_many_instances_and_as_much_more_load() -> None:
    own = turns_of(plan())
    assert {name: one.planned.duration_s for name, one in own.items()} == dict.fromkeys(own, 225.0)
    assert [one.people[0].profile.peak for one in own.values()] == [560, 1120, 2240]
    four = own["4 × ledger"]
    assert next(one.instances for one in four.system.components if one.name == "ledger") == 4
    assert four.scaling is None
    assert four.turns is None
    assert four.system.cost_per_hour == pytest.approx(0.46 + 3 * 0.19)
    assert document.from_document(document.to_document(four)) == four
    same = turns_of(plan(load_grows=False))
    assert [one.people[0].profile.peak for one in same.values()] == [560, 560, 560]


def test_a_search_begins_where_it_did_and_goes_on_further() -> None:
    told = plan([{"search": {"from": 10, "to": 600, "within": "5 min"}}])
    searches = [one.search for one in turns_of(told).values()]
    assert [(one.start, one.end) for one in searches if one is not None] == [(10, 600), (10, 1200), (10, 2400)]


def test_another_size_is_what_an_instance_is_then() -> None:
    told = plan(
        of="size",
        change="Deploy a version",
        values=[{"value": "small", "type": {"vcpus": 2}}, {"value": "large", "type": {"vcpus": 6}}],
    )
    own = turns_of(told)
    assert list(own) == ["ledger on small", "ledger on large"]
    assert [one.people[0].profile.peak for one in own.values()] == [560, 1680]
    kinds = [next(c.instance_type for c in one.system.components if c.name == "ledger") for one in own.values()]
    assert [kind.vcpus for kind in kinds if kind is not None] == [2, 6]
    assert told.scaling is not None
    assert told.scaling.back_to(told.system) == "harbour-4d"


@pytest.mark.parametrize(
    ("changes", "path", "why"),
    [
        ({"component": "legder"}, "scaling.component", "Did you mean 'ledger'?"),
        ({"change": "Set instance"}, "scaling.change", "Did you mean 'Set instances'?"),
        ({"values": [1, 1, 2]}, "scaling", "'1' is there twice. Leave one out."),
        ({"values": [1, "two"]}, "scaling", "'two' is no number of instances."),
        ({"values": [1]}, "scaling.values", "Add at least"),
        ({"component": None}, "scaling", "Instances of what? Name the component"),
        ({"change": "Lose an instance", "also": {"instance": "0"}}, "scaling.change", "asks for no value"),
        ({"also": {"kind": "x"}}, "scaling.also.kind", "asks for no 'kind'"),
        ({"of": "setting", "values": ["a b", "c"]}, "scaling.values[0]", "cannot be put into a call"),
        ({"values": [1, 2, 100]}, "scaling.load_grows", f"Use at most {MAX_USERS} users"),
    ],
)
def test_what_cannot_be_scaled_is_refused(changes: dict[str, Any], path: str, why: str) -> None:
    told = faults(**changes)
    assert path in told, told
    assert why in told[path]


def test_it_goes_with_no_candidates_and_no_timeline() -> None:
    told = yaml.safe_load(EXAMPLE)
    told["candidates"] = {"each": [{"name": "a", "setting": "a"}, {"name": "b", "setting": "b"}]}
    told["timeline"] = [{"at": "10 s", "change": "Set instances", "values": {"component": "ledger", "count": 2}}]
    with pytest.raises(PlanError) as caught:
        document.from_document(told)
    assert {problem.path for problem in caught.value.problems} >= {"scaling", "timeline"}


def test_what_changed_of_it_is_told() -> None:
    assert (
        "what is scaled instances of ledger at 1, 2, 4, 2 times → instances of ledger at 1, 2, 2 times"
        in differences(plan(), plan(values=[1, 2]))
    )
    assert "scaling described differently" in differences(plan(), plan(back="2"))
