"""Series in which something is scaled: the order of what is done, and what its values tell."""

from __future__ import annotations

import json
from typing import Any

import pytest
import yaml
from django.contrib.auth.models import User
from django.test import Client
from django.utils import timezone

from stonekettle.engine.lifecycle import RunState
from stonekettle.practice.config import quillport
from stonekettle.server.experiments import rules as experiments
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.problems import Conflict
from stonekettle.server.runs import played
from stonekettle.server.runs import rules as runs
from stonekettle.server.runs.models import Run
from stonekettle.server.series import findings, rules, scaled
from stonekettle.server.series.models import Series
from tests.ops import Ops
from tests.server.acting import TESTS
from tests.server.conftest import example
from tests.server.test_series import end, go_on

pytestmark = pytest.mark.django_db


def source(ops: Ops | None = None, *, rate: bool = False, **scaling: Any) -> str:
    told = yaml.safe_load(example("scaling"))
    told["load"] = [{"climb": {"from": 70, "to": 560, "by": 70, "every": "15 s"}}]
    told["scaling"] |= scaling
    if ops is not None:
        told["system"]["base_url"] = told["system"]["operations"]["address"] = ops.url
        told["system"]["operations"]["changes"][0]["ready"] = {"ask": "/ready", "every": "0.25 s", "within": "2 s"}
        for component in told["system"]["components"]:
            component.pop("meters")
    return yaml.safe_dump(told, sort_keys=False)


@pytest.fixture
def series(client: Client, planner: User, ops: Ops) -> Series:
    experiment = experiments.create(TESTS, source(ops, values=[1, 3], back=2))
    answer = client.post(f"/api/experiments/{experiment.pk}/series")
    assert answer.status_code == 201, answer.content
    return Series.objects.get(pk=answer.json()["id"])


def counts(ops: Ops) -> list[int]:
    """To how many instances the component was set, one call after the other."""
    calls = [(path, body) for _, path, _, body in ops.asked if path != "/ready"]
    assert {path for path, _ in calls} <= {"/components/ledger/instances"}
    return [json.loads(body)["instances"] for _, body in calls]


def test_each_value_has_its_turn_in_every_round_and_the_system_goes_back_in_the_end(
    client: Client, series: Series, ops: Ops
) -> None:
    order = []
    for _ in range(4):
        run = go_on(series)
        assert run is not None
        turn = series.current
        assert turn is not None
        order.append(int(turn.candidate[0]))
        own = run.plan
        assert next(one.instances for one in own.system.components if one.name == "ledger") == order[-1]
        assert own.people[0].profile.peak == 560 * order[-1]
        assert run.turn == f"{turn.candidate}, round {turn.block} of 2"
        # Nothing but the next value is set from turn to turn.
        assert counts(ops) == order
        end(run)
    assert go_on(series) is None
    assert series.state == "finished"
    assert counts(ops) == [*order, 2]
    assert sorted(order[:2]) == sorted(order[2:]) == [1, 3]
    told = client.get(f"/api/series/{series.pk}").json()
    assert told["scaled"] == "instances of ledger at 1, 3, 2 times"


@pytest.mark.parametrize("how", ["stopped", "failed"])
def test_whatever_ends_it_early_the_system_goes_back(series: Series, ops: Ops, how: str) -> None:
    run = go_on(series)
    assert run is not None
    if how == "stopped":
        rules.stop(TESTS, series)
        run.refresh_from_db()
        assert run.state == "stopped"  # it had not begun
    else:
        end(run, RunState.FAILED)
    assert go_on(series) is None
    assert series.state == how
    assert counts(ops)[1:] == [2]


def test_where_a_value_cannot_be_set_the_system_goes_back(series: Series, ops: Ops) -> None:
    ops.status = 500
    assert go_on(series) is None
    assert series.state == "failed"
    assert counts(ops)[-1] == 2


def test_a_run_of_it_alone_is_refused(planner: User, ops: Ops) -> None:
    experiment = experiments.create(TESTS, source(ops))
    with pytest.raises(Conflict, match="has values that take turns: start those"):
        runs.start(TESTS, experiment)


def play(values: list[Any], rounds: int = 1, **scaling: Any) -> Series:
    """A series of the practice system whose turns were played."""
    experiment: Experiment = experiments.create(TESTS, source(None, values=values, rounds=rounds, **scaling))
    series = rules.start(TESTS, experiment)
    for turn in series.turns.all():
        own = rules.plan_of(turn, series.plan)
        config = quillport().with_component("ledger", instances=int(turn.candidate[0]))
        run = played.play_as(experiment, own, config, timezone.now(), seed=turn.number)
        Run.objects.filter(pk=run.pk).update(turn=rules.label(turn, series.plan), simulated=False)
        turn.run, turn.over, turn.ready_after_s = run, True, 2.0
        turn.save()
    rules.end(series, Series.State.FINISHED, rules.DONE)
    series.refresh_from_db()
    return series


def test_points_laws_and_what_gives_out_next_are_told(client: Client, planner: User) -> None:
    """One ledger does 190 steps/s, and the planner 514."""
    series = play([1, 2, 4])
    told = client.get(f"/api/series/{series.pk}/scaling").json()
    one, two, four = told["points"]
    assert [point["words"] for point in told["points"]] == ["1 × `ledger`", "2 × `ledger`", "4 × `ledger`"]
    assert one["limit"]["value"] == pytest.approx(190, rel=0.05)
    assert two["limit"]["value"] == pytest.approx(380, rel=0.06)
    assert four["limit"]["value"] == pytest.approx(514, rel=0.06)
    assert two["efficiency"]["value"] == pytest.approx(1, abs=0.07)
    assert four["efficiency"]["value"] == pytest.approx(0.68, abs=0.06)
    assert one["limited_by"] == ["`ledger` CPU"]
    assert four["limited_by"] == ["`planner` CPU"]
    assert all(len(point["runs"]) == 1 for point in told["points"])
    assert one["comfort"]["value"] == pytest.approx(two["comfort"]["value"] / 2, rel=0.15)
    # Who buys tickets does not wait for the planner.
    assert (four["comfort"], four["comfort_over"]) == (None, 2240)
    # 0.46 an hour with one, and 0.19 for each more.
    assert [point["cost_per_hour"] for point in told["points"]] == pytest.approx([0.46, 0.65, 1.03])
    assert two["thousand_steps"]["value"] == pytest.approx(0.65 / 3.6 / two["limit"]["value"], rel=1e-6)
    beyond = {line["amount"]: line for line in told["others"]}
    assert set(beyond) == {3, 5, 6, 7, 8}
    assert beyond[8]["gives_out"] == "`planner` CPU"
    assert beyond[8]["limit"]["value"] == pytest.approx(514, rel=0.06)
    assert not beyond[8]["wide"]
    assert told["faded_from"] in (2, 3)
    assert told["cheapest"] in ("2 × `ledger`", "3 × `ledger`")
    assert told["caps"][0]["words"] == "`planner` CPU"
    assert "`planner` CPU" in told["sentence"]
    assert (told["why_not"], told["missing"]) == ("", [])
    assert len(told["band"]) == 60
    with pytest.raises(Conflict, match="something is scaled"):
        findings.of(series)
    findings.note(series)
    series.refresh_from_db()
    assert series.sentence == told["sentence"]


def test_what_generators_cost_of_a_run_does_not_keep_its_hardware_from_telling(client: Client, planner: User) -> None:
    """Nothing is known of its limit but what it did; where its processors are full, the utilisation law tells."""
    series = play([1, 2, 3])
    short = series.turns.get(candidate="3 × ledger").run
    assert short is not None
    assert short.result is not None
    told = short.result["findings"]
    told["measuring"]["verdict"] = "not trustworthy"
    told["saturation"] = {"reason": "generator", "at_least": 500.0}
    Run.objects.filter(pk=short.pk).update(result=short.result)
    found = client.get(f"/api/series/{series.pk}/scaling").json()
    three = found["points"][2]
    assert three["limit"] is None
    assert 0.9 * 514 < three["at_least"] < 1.1 * 514
    assert found["missing"] == []
    assert found["why_not"] == ""
    assert found["others"][0]["amount"] == 4
    assert found["others"][0]["limit"]["value"] == pytest.approx(514, rel=0.12)
    told["saturation"] = {"reason": "laws", "at_least": None}
    Run.objects.filter(pk=short.pk).update(result=short.result)
    found = client.get(f"/api/series/{series.pk}/scaling").json()
    assert "do not fit together" in found["missing"][0]


def test_two_values_are_compared_and_no_law_is_claimed(client: Client, planner: User) -> None:
    told = client.get(f"/api/series/{play([1, 2]).pk}/scaling").json()
    assert told["why_not"] == "A law needs 3 values measured, not 2."
    assert "times what 1 × `ledger` does" in told["sentence"]
    assert (told["laws"], told["band"], told["others"]) == ([], [], [])


def test_where_no_run_reached_its_limit_it_says_so(client: Client, planner: User) -> None:
    told = yaml.safe_load(source(None, values=[1, 2, 3], rounds=1))
    told["load"] = [{"climb": {"from": 20, "to": 100, "by": 20, "every": "40 s"}}]
    experiment = experiments.create(TESTS, yaml.safe_dump(told))
    series = rules.start(TESTS, experiment)
    assert scaled.of(series).sentence == "No value has been measured yet."
    for turn in series.turns.all():
        config = quillport().with_component("ledger", instances=int(turn.candidate[0]))
        run = played.play_as(experiment, rules.plan_of(turn, series.plan), config, timezone.now(), seed=turn.number)
        turn.run, turn.over = run, True
        turn.save()
    found = client.get(f"/api/series/{series.pk}/scaling").json()
    assert found["missing"] == []
    assert found["sentence"].startswith("No run reached the limit of the system")
    assert all(point["limit"] is None and point["at_least"] > 0 for point in found["points"])
    assert found["why_not"].startswith("No run reached its limit")
    Run.objects.filter(pk=run.pk).update(state="failed")
    assert f"run {run.pk} ended as failed" in client.get(f"/api/series/{series.pk}/scaling").json()["missing"][0]


def test_candidates_are_not_scaled(client: Client, planner: User) -> None:
    series = rules.start(TESTS, experiments.create(TESTS, example("candidates")))
    assert client.get(f"/api/series/{series.pk}/scaling").status_code == 409
