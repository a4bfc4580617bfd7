"""Documents: read, checked as a whole, and written back."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import jsonschema
import pytest
import yaml

from stonekettle.plan import advice, checking, document
from stonekettle.plan.models import Plan
from stonekettle.plan.problems import PlanError, Problem

EXAMPLES = [
    p for p in sorted((Path(__file__).parents[2] / "examples").glob("*.yaml")) if p.stem not in ("day-ticket", "riders")
]
Text = Callable[..., str]


def problems(text: str) -> list[Problem]:
    with pytest.raises(PlanError) as caught:
        document.read(text)
    return list(caught.value.problems)


@pytest.mark.parametrize("path", EXAMPLES, ids=lambda p: p.stem)
def test_examples_are_plans_that_round_trip(path: Path) -> None:
    plan = document.read(path.read_text())
    assert document.read(checking.to_yaml(document.to_document(plan))) == plan
    assert document.from_document(json.loads(json.dumps(document.to_document(plan)))) == plan
    assert advice.of(plan) == ()


@pytest.mark.parametrize("path", EXAMPLES, ids=lambda p: p.stem)
def test_the_published_schema_accepts_what_is_written_out(path: Path) -> None:
    schema = document.json_schema()
    jsonschema.Draft202012Validator.check_schema(schema)
    written = document.to_document(document.read(path.read_text()))
    jsonschema.validate(written, schema, cls=jsonschema.Draft202012Validator)


def test_a_wrong_unit_names_path_value_and_mend(plan_text: Text) -> None:
    (found,) = problems(plan_text(hold="20 secs"))
    assert found.path == "load[0].hold.for"
    assert "'secs'" in found.message
    assert "ms, s, min or h" in found.mend


def test_an_unknown_variable_names_its_step_and_a_near_name(plan_text: Text) -> None:
    text = plan_text().replace("request: GET /", "request: 'GET /a?s={{stopp}}'")
    feed = 'feeds: [{name: stops, csv: "stop,zone\\nQuay,A\\n"}]\n'
    (found,) = problems(text + feed)
    assert found.path == "journeys[0].steps[0]"
    assert "{{stopp}}" in found.message
    assert found.mend == "Did you mean 'stop'?"


def test_an_unknown_field_is_refused_where_it_stands(plan_text: Text) -> None:
    (found,) = problems(plan_text().replace("request: GET /", "reqest: GET /, request: GET /"))
    assert found.path == "journeys[0].steps[0].reqest"
    assert "no such field" in found.message


def test_every_problem_is_told_at_once(plan_text: Text) -> None:
    text = plan_text(hold="3 x").replace("p95: 1 s", "p95: soon").replace("GET /,", "FETCH it,")
    assert {p.path for p in problems(text)} == {
        "load[0].hold.for",
        "objectives[0].within",
        "journeys[0].steps[0].request",
    }


@pytest.mark.parametrize(
    "goal",
    [
        "{p95: 1 s, mean: 1 s}",
        "{apdex: 0.9}",
        "{target: 1 s}",
        "{apdex: 0.9, target: 1 s, errors: 1 %}",
        "{step: page}",
    ],
)
def test_an_objective_promises_one_thing(plan_text: Text, goal: str) -> None:
    (found,) = problems(plan_text().replace("{step: page, p95: 1 s}", goal))
    assert found.path == "objectives[0]"
    assert "an objective needs one of" in found.message


def test_objectives_reach_the_core_as_they_are_meant(plan_text: Text) -> None:
    goals = "{apdex: 0.9, target: 500 ms, role: for information}\n  - {step: page, mean: 2 s}"
    plan = document.read(plan_text().replace("{step: page, p95: 1 s}", goals))
    apdex, mean = document.core_objectives(plan)
    assert (apdex.kind, apdex.limit, apdex.target_s, apdex.decides) == ("apdex", 0.9, 0.5, False)
    assert (mean.kind, mean.limit, mean.steps, mean.decides) == ("mean", 2.0, (0,), True)
    assert document.from_document(document.to_document(plan)) == plan


def test_an_objective_for_a_missing_step_is_refused(plan_text: Text) -> None:
    (found,) = problems(plan_text().replace("{step: page,", "{step: pages,"))
    assert found.path == "objectives[0].step"
    assert "'page'" in found.mend


def test_repeated_names_are_refused(plan_text: Text) -> None:
    step = "      - {name: page, request: GET /, think: exponential 100 ms}\n"
    (found,) = problems(plan_text().replace(step, step * 2))
    assert "used more than once" in found.message


@pytest.mark.parametrize(
    ("text", "part"),
    [
        ("name: [unclosed", "neither YAML nor JSON"),
        ("just a sentence", "not a plan"),
        ("", "not a plan"),
        ("- a\n- b", "not a plan"),
    ],
)
def test_what_is_no_plan_is_said_to_be_none(text: str, part: str) -> None:
    assert part in problems(text)[0].message


def test_a_document_of_over_5_megabytes_is_refused() -> None:
    assert "5 MB" in problems("x" * 5_000_001)[0].message


@pytest.mark.parametrize(
    ("segment", "part"),
    [
        ("{}", "exactly one"),
        ("{hold: {users: 5, for: 1 s}, ramp: {from: 1, to: 2, over: 3 s}}", "exactly one"),
        ("{climb: {from: 1, to: 9, by: 0, every: 10 s}}", "greater than 0"),
        ("{hold: {users: 999999, for: 1 s}}", "50000"),
    ],
)
def test_impossible_segments_are_refused(plan_text: Text, segment: str, part: str) -> None:
    raw = yaml.safe_load(plan_text())
    raw["load"] = [yaml.safe_load(segment)]
    with pytest.raises(PlanError, match=part):
        document.from_document(raw)


@pytest.mark.parametrize("csv", ["only,a,header", "a,b\n1,2\n3", ""])
def test_feeds_without_rows_or_with_ragged_rows_are_refused(plan_text: Text, csv: str) -> None:
    raw = yaml.safe_load(plan_text())
    raw["feeds"] = [{"name": "rows", "csv": csv}]
    with pytest.raises(PlanError) as caught:
        document.from_document(raw)
    assert caught.value.problems[0].path == "feeds[0].csv"


@pytest.mark.parametrize(
    ("text", "law", "mean", "variation"),
    [
        ("4 s", "fixed", 4.0, 0.0),
        ("exponential 2 s", "exponential", 2.0, 1.0),
        ("uniform 1 s to 3 s", "uniform", 2.0, 1 / 3**0.5 / 2),
        ("lognormal 500 ms", "lognormal", 0.5, 0.5),
    ],
)
def test_think_times_have_a_short_form(
    make_plan: Callable[..., Plan], text: str, law: str, mean: float, variation: float
) -> None:
    plan = document.read(checking.to_yaml(document.to_document(make_plan())).replace("100 ms", "100 ms"))
    raw = document.to_document(plan)
    raw["journeys"][0]["steps"][0]["think"] = text
    think = document.from_document(raw).steps[0][1].think
    assert think.law == law
    assert think.mean == pytest.approx(mean)
    assert think.as_law().coefficient_of_variation == pytest.approx(variation)


def test_practice_addresses_are_resolved_to_all_instances(make_plan: Callable[..., Plan]) -> None:
    plan = make_plan(base="practice://gateway", metrics="practice://ledger/metrics")
    found = document.resolved(plan, {"gateway": ["http://127.0.0.1:1"], "ledger": ["http://h:2", "http://h:3"]})
    assert found.system.base_url == "http://127.0.0.1:1"
    assert found.meters[0][1].openmetrics == ("http://h:2/metrics", "http://h:3/metrics")


def test_an_unknown_practice_component_is_named(make_plan: Callable[..., Plan]) -> None:
    with pytest.raises(PlanError, match=r"system\.base_url: practice://gateway is not in the practice system"):
        document.resolved(make_plan(base="practice://gateway"), {})


def test_advice_tells_what_keeps_a_run_from_answering(make_plan: Callable[..., Plan]) -> None:
    told = " ".join(advice.of(make_plan()))
    assert "at least 4" in told
    assert "under 10 s" in told


@pytest.mark.parametrize(
    ("load", "advised"),
    [
        ([{"climb": {"from": 20, "to": 100, "by": 20, "every": "15 s"}}], "25 users for 15 s"),
        ([{"climb": {"from": 20, "to": 100, "by": 20, "every": "15 s"}}, {"hold": {"users": 30, "for": "15 s"}}], None),
        ([{"ramp": {"from": 0, "to": 100, "over": "2 min"}}], None),
        ([{"hold": {"users": 30, "for": "60 s"}}], None),
    ],
)
def test_a_climb_that_does_not_come_back_is_advised_to(
    plan_text: Text, load: list[dict[str, object]], advised: str | None
) -> None:
    told = advice.of(document.from_document({**yaml.safe_load(plan_text()), "load": load}))
    about = [line for line in told if "does not come back" in line]
    assert [advised in line for line in about if advised] == ([True] if advised else [])
    assert bool(about) == bool(advised)


def test_a_resource_mapping_needs_exactly_one_capacity(plan_text: Text) -> None:
    raw = yaml.safe_load(plan_text())
    mapping = {"name": "cpu", "kind": "cpu", "metric": "busy_seconds"}
    raw["system"]["components"][0]["meter"]["resources"] = [mapping]
    with pytest.raises(PlanError, match="exactly one of capacity"):
        document.from_document(raw)


def test_a_system_may_be_named_where_somebody_knows_it(plan_text: Callable[..., str]) -> None:
    head, _, rest = plan_text().partition("system:\n")
    text = f"{head}system: Shop\n{rest[rest.index('journeys:') :]}"
    known = {"name": "Shop", "base_url": "http://127.0.0.1:9"}
    assert (
        document.read(text, lambda kind, name: {("system", "Shop"): known}.get((kind, name))).system.base_url
        == "http://127.0.0.1:9"
    )
    with pytest.raises(PlanError, match="no system named 'Shop'"):
        document.read(text, lambda kind, name: None)
    with pytest.raises(PlanError, match="only a name here"):
        document.read(text)


@pytest.mark.parametrize(
    ("component", "part"),
    [
        ("{name: shop, meters: [{openmetrics: []}]}", "has no address"),
        ("{name: shop, meters: [{otlp: a, server_timing: b}]}", "exactly one of openmetrics"),
        ("{name: shop, meters: [{otlp: a, credentials: {bearer: x, user: y}}]}", "either bearer or user"),
        ("{name: shop, calls: [shop]}", "calls itself"),
        ("{name: shop, meters: [{otlp: a, resources: [{name: r, kind: cpu, metric: m}]}]}", "exactly one of capacity"),
        (
            "{name: shop, meters: [{otlp: a, resources: [{name: r, kind: cpu, metric: m, capacity_from: vcpus}]}]}",
            "does not tell its vcpus",
        ),
        ("{name: shop, instance_type: {memory: 4}}", "not an amount of memory"),
    ],
)
def test_a_system_is_checked_piece_by_piece(plan_text: Callable[..., str], component: str, part: str) -> None:
    text = plan_text()
    line = next(line for line in text.splitlines() if "{name: shop, meter" in line)
    with pytest.raises(PlanError, match=part):
        document.read(text.replace(line, f"    - {component}"))


@pytest.mark.parametrize(
    ("old", "new", "says"),
    [
        (
            "hold: {users: 5, for: 2 s}",
            "climb: {from: 1, to: 50000, by: 1, every: 10 s}",
            "the profile has 50000 levels",
        ),
        ("- {name: page, request: GET /, think: exponential 100 ms}", "MANY", "at most 1000 items"),
    ],
)
def test_more_than_anybody_can_mean_is_refused_at_once(
    plan_text: Callable[..., str], old: str, new: str, says: str
) -> None:
    many = "\n      ".join(f"- {{name: s{i}, request: GET /}}" for i in range(1_001))
    text = plan_text()
    assert old in text
    with pytest.raises(PlanError, match=says):
        document.read(text.replace(old, many if new == "MANY" else new))


def test_no_more_problems_are_told_than_one_can_read(plan_text: Callable[..., str]) -> None:
    steps = "\n      ".join(f"- {{name: s{i}, request: 'GET /{{{{a}}}}'}}" for i in range(200))
    text = plan_text().replace("- {name: page, request: GET /, think: exponential 100 ms}", steps)
    with pytest.raises(PlanError) as refused:
        document.read(text.replace("  - {step: page, p95: 1 s}\n", "  - {p95: 1 s}\n"))
    assert len(refused.value.problems) == 51
    assert "there are 150 more problems" in str(refused.value)
