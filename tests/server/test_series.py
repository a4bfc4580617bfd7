"""Candidates that take turns: what is done to the system and when, what ends a series, and what it tells."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

import pytest
import yaml
from django.contrib.auth.models import User
from django.test import Client
from django.utils import timezone

from stonekettle.engine.errors import TargetError
from stonekettle.engine.lifecycle import RunState
from stonekettle.plan.models import Plan
from stonekettle.practice.config import quillport
from stonekettle.server.access import halting
from stonekettle.server.experiments import rules as experiments
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.runs import played
from stonekettle.server.runs import rules as runs
from stonekettle.server.runs.models import Run
from stonekettle.server.series import rules, taking
from stonekettle.server.series.models import Series, Turn
from tests.ops import Ops
from tests.server.acting import TESTS
from tests.server.conftest import example

pytestmark = pytest.mark.django_db


def source(ops: Ops, **candidates: Any) -> str:
    """The example with its operations and its service at a server of the test's own."""
    told = yaml.safe_load(example("candidates"))
    told["system"]["base_url"] = ops.url
    told["system"]["operations"] = {"address": ops.url}
    for component in told["system"]["components"]:
        component.pop("meters")
    for place, one in enumerate(told["candidates"]["each"], start=3):
        one["begin"] = [{"call": f"PUT /deploy/3.{place}"}]
        one["ready"] = {"ask": "/ready", "every": "0.25 s", "within": "2 s"}
        one["end"] = [{"call": f"POST /end/3.{place}"}]
    told["candidates"] |= {"blocks": 2, **candidates}
    told["load"] = [{"hold": {"users": 60, "for": "45 s"}}]
    return yaml.safe_dump(told, sort_keys=False)


@pytest.fixture
def experiment(planner: User, ops: Ops) -> Experiment:
    return experiments.create(TESTS, source(ops))


@pytest.fixture
def series(client: Client, experiment: Experiment) -> Series:
    answer = client.post(f"/api/experiments/{experiment.pk}/series")
    assert answer.status_code == 201, answer.content
    return Series.objects.get(pk=answer.json()["id"])


def go_on(series: Series) -> Run | None:
    """As the workers do: look, and take the turn."""
    taking.keep()
    series.refresh_from_db()
    if series.busy:
        taking.take(series.pk)
        series.refresh_from_db()
    turn = series.current
    return turn.run if turn is not None else None


def end(run: Run, state: RunState = RunState.FINISHED) -> None:
    ways = [RunState.PREPARING, RunState.RUNNING, RunState.DRAINING, RunState.ANALYSING, state]
    for one in ways if state is RunState.FINISHED else [RunState.PREPARING, state]:
        runs.move(run.pk, one, "so it was")


def test_every_candidate_has_its_turn_in_every_block(client: Client, series: Series, ops: Ops) -> None:
    done = []
    for number in range(1, 5):
        run = go_on(series)
        assert run is not None
        turn = Turn.objects.get(run=run)
        assert turn.number == number
        own = run.plan
        assert own.candidates is None
        assert next(one.version for one in own.system.components if one.name == "planner") == turn.candidate[-3:]
        assert run.turn == f"{turn.candidate}, block {turn.block} of 2"
        assert turn.ready_after_s is not None
        assert (run.state, run.target) == ("queued", ops.url)
        done.append((turn.block, turn.candidate))
        assert go_on(series) == run  # nothing happens while it runs
        end(run)
    assert go_on(series) is None
    assert (series.state, series.cause) == ("finished", "Everything had its turn, as often as was planned.")
    assert sorted(done) == [(block, name) for block in (1, 2) for name in ("planner 3.3", "planner 3.4")]
    assert [block for block, _ in done] == [1, 1, 2, 2]
    told = [path for path in ops.paths() if path != "/ready"]
    assert told == [path for _, name in done for path in (f"/deploy/{name[-3:]}", f"/end/{name[-3:]}")]
    lines = client.get(f"/api/series/{series.pk}").json()["lines"]
    assert [one["what"] for one in lines[0]["done"]] == [
        f"PUT /deploy/{done[0][1][-3:]}",
        "ready at /ready",
        f"POST /end/{done[0][1][-3:]}",
    ]
    assert client.get("/api/runs").json()["runs"][0]["turn"].endswith("block 2 of 2")


def test_the_order_in_each_block_is_drawn(experiment: Experiment, planner: User) -> None:
    orders = set()
    for _ in range(30):
        series = rules.start(TESTS, experiment)
        orders.add(tuple(turn.candidate for turn in series.turns.filter(block=1)))
        rules.end(series, Series.State.STOPPED, "")
    assert len(orders) == 2


def test_what_cannot_be_done_ends_the_series_and_its_run(client: Client, series: Series, ops: Ops) -> None:
    ops.status = 500
    go_on(series)
    assert series.state == "failed"
    assert "answered with status 500" in series.cause
    run = Run.objects.get()
    assert (run.state, run.cause) == ("failed", series.cause)
    # What ends it was tried all the same.
    assert ops.paths()[-1].startswith("/end/")
    assert go_on(series) is None or Run.objects.count() == 1
    assert client.get(f"/api/series/{series.pk}").json()["left_s"] is None


@pytest.mark.parametrize(("state", "ended"), [(RunState.STOPPED, "stopped"), (RunState.FAILED, "failed")])
def test_a_turn_that_does_not_finish_ends_the_series(series: Series, ops: Ops, state: RunState, ended: str) -> None:
    run = go_on(series)
    assert run is not None
    end(run, state)
    go_on(series)
    assert series.state == ended
    assert f"Run {run.pk}" in series.cause
    assert "so it was" in series.cause
    assert ops.paths()[-1].startswith("/end/")
    assert Run.objects.count() == 1


def test_who_stops_it_ends_the_turn_and_what_was_begun(client: Client, series: Series, ops: Ops) -> None:
    run = go_on(series)
    assert run is not None
    assert client.post(f"/api/series/{series.pk}/stop").status_code == 202
    run.refresh_from_db()
    assert run.state == "stopped"  # it was queued still
    assert client.get(f"/api/series/{series.pk}").json()["stopping"]
    go_on(series)
    assert (series.state, series.cause) == ("stopped", "Stopped by planner.")
    assert ops.paths()[-1].startswith("/end/")
    assert client.post(f"/api/series/{series.pk}/stop").status_code == 409


def test_who_stops_it_while_a_turn_is_made_is_heard(series: Series, ops: Ops, monkeypatch: pytest.MonkeyPatch) -> None:
    hold = runs.hold

    def held(*given: Any, **told: Any) -> Run:
        run = hold(*given, **told)
        rules.stop(TESTS, series)
        return run

    monkeypatch.setattr(runs, "hold", held)
    run = go_on(series)
    assert run is not None
    assert run.run_state == RunState.STOPPED
    go_on(series)
    assert (series.state, series.cause) == ("stopped", f"Stopped by {TESTS.name}.")
    assert not [path for method, path, _, _ in ops.asked if path.startswith("/deploy")]


def test_a_halt_ends_it_before_anything_is_changed(series: Series, ops: Ops) -> None:
    halting.halt(TESTS, "the harbour floods")
    go_on(series)
    assert ops.paths() == []
    assert (series.state, series.cause.startswith("Waits: ")) == ("going", True)
    assert not Run.objects.exists()


def test_another_run_is_waited_for_though_not_for_ever(series: Series, experiment: Experiment, ops: Ops) -> None:
    held = Run.objects.create(
        revision=experiment.current, plan_document=experiment.current.document, target=ops.url, state="running"
    )
    assert go_on(series) is None
    assert series.state == "going"
    assert series.cause.startswith(f"Waits: Run {held.pk} is still running")
    Series.objects.filter(pk=series.pk).update(waits_since=timezone.now() - timedelta(hours=2))
    go_on(series)
    assert series.state == "failed"
    assert "over an hour" in series.cause


def test_a_worker_that_was_lost_is_noticed(series: Series, ops: Ops) -> None:
    run = go_on(series)
    assert run is not None
    Series.objects.filter(pk=series.pk).update(busy=True, seen_at=timezone.now() - timedelta(minutes=2))
    taking.keep()
    series.refresh_from_db()
    run.refresh_from_db()
    assert (series.state, run.state) == ("failed", "failed")
    assert "worker" in series.cause


def test_a_start_says_what_is_in_its_way(client: Client, planner: User, ops: Ops) -> None:
    plain = experiments.create(TESTS, example("quick"))
    answer = client.post(f"/api/experiments/{plain.pk}/series")
    assert (answer.status_code, "Nothing takes turns" in answer.json()["detail"]) == (409, True)
    told = yaml.safe_load(source(ops))
    told["candidates"]["each"][0]["begin"] = [{"command": "rm -rf /"}]
    commanding = experiments.create(TESTS, yaml.safe_dump(told))
    answer = client.post(f"/api/experiments/{commanding.pk}/series")
    assert answer.status_code == 422
    assert answer.json()["problems"][0]["path"] == "candidates.each[0].begin[0].command"
    ready = client.get(f"/api/experiments/{commanding.pk}/readiness").json()
    assert not ready["may_start"]
    assert any("runs no commands" in line["text"] for line in ready["lines"])
    made = experiments.create(TESTS, source(ops))
    answer = client.post(f"/api/experiments/{made.pk}/runs")
    assert (answer.status_code, "take turns" in answer.json()["detail"]) == (409, True)
    assert client.post(f"/api/experiments/{made.pk}/series").status_code == 201
    assert client.post(f"/api/experiments/{made.pk}/series").status_code == 409
    told["candidates"]["each"][0]["begin"] = [{"call": "PUT http://10.1.2.3/x"}]
    elsewhere = experiments.create(TESTS, yaml.safe_dump(told))
    answer = client.post(f"/api/experiments/{elsewhere.pk}/series")
    assert answer.status_code == 422
    assert "candidates.each[0].begin[0].call" in str(answer.json()["problems"])


def test_secrets_of_a_call_are_no_part_of_the_text(planner: User, ops: Ops) -> None:
    told = yaml.safe_load(source(ops))
    told["candidates"]["each"][0]["begin"][0]["headers"] = {"Authorization": "Bearer t-1"}
    with pytest.raises(Exception, match="secrets would be readable"):
        experiments.create(TESTS, yaml.safe_dump(told))


def test_a_turn_is_no_part_of_the_history_and_no_baseline_judges_it(client: Client, played_series: Series) -> None:
    assert client.get(f"/api/experiments/{played_series.experiment_id}/history").json()["runs"] == []
    first = Run.objects.order_by("pk")[0]
    assert first.against is None
    answer = client.post(f"/api/runs/{first.pk}/baseline")
    assert (answer.status_code, "candidate's turn" in answer.json()["detail"]) == (409, True)


@pytest.fixture
def played_series(planner: User) -> Series:
    """A series of the practice system whose turns were played."""
    told = yaml.safe_load(example("candidates"))
    told["candidates"]["blocks"] = 2
    told["load"] = [{"hold": {"users": 60, "for": "45 s"}}]
    experiment = experiments.create(TESTS, yaml.safe_dump(told, sort_keys=False))
    series = rules.start(TESTS, experiment)
    for turn in series.turns.all():
        own: Plan = rules.plan_of(turn, series.plan)
        config = quillport()
        if turn.candidate == "planner 3.4":
            config = config.with_component("planner", cpus=8)
        run = played.play_as(experiment, own, config, timezone.now(), seed=turn.number)
        Run.objects.filter(pk=run.pk).update(turn=rules.label(turn, series.plan), simulated=False)
        turn.run, turn.over, turn.ready_after_s = run, True, 2.0 + turn.number
        turn.save()
    rules.end(series, Series.State.FINISHED, "Everything had its turn, as often as was planned.")
    return series


def test_candidates_are_compared_block_by_block(client: Client, played_series: Series) -> None:
    told = client.get(f"/api/series/{played_series.pk}/findings").json()
    (between,) = told["between"]
    assert (between["candidate"], between["against"], between["blocks"]) == ("planner 3.4", "planner 3.3", [1, 2])
    assert told["sentence"].startswith("planner 3.4 against planner 3.3: ")
    assert between["loads"] == pytest.approx([60], rel=0.02)
    assert {line["figure"] for line in between["by_block"]} <= {"mean", "p95", "demand"}
    assert all(len(line["ratios"]) == 2 for line in between["by_block"])
    texts = [one["text"] for one in between["apart"]]
    assert any("lanner version 3.3 → 3.4" in text for text in texts), texts
    first, second = told["candidates"]
    assert (first["candidate"], first["turns"], first["what"]) == ("planner 3.3", 2, [])
    assert second["what"] == ["keeps timetables in memory"]
    assert {use["key"] for use in first["uses"]} == {"planner.cpu", "planner.memory"}
    assert told["bearable"]["load"] == pytest.approx(60, rel=0.02)
    # A turn that does not count takes its block with it, and says why.
    turn = played_series.turns.first()
    assert turn is not None
    Run.objects.filter(pk=turn.run_id).update(left_out="a backup ran")
    told = client.get(f"/api/series/{played_series.pk}/findings").json()
    assert told["between"] == []
    assert told["sentence"] == "No answer: there are not two blocks in which every turn counts."


def test_of_several_candidates_and_values_each_is_compared(client: Client, planner: User, ops: Ops) -> None:
    told = yaml.safe_load(source(ops))
    told["candidates"]["factor"] = {"name": "Door", "values": [{"name": "front"}, {"name": "back"}]}
    made = experiments.create(TESTS, yaml.safe_dump(told))
    series = rules.start(TESTS, made)
    assert series.turns.count() == 8
    assert {(t.candidate, t.value) for t in series.turns.filter(block=2)} == {
        (name, value) for name in ("planner 3.3", "planner 3.4") for value in ("front", "back")
    }
    found = client.get(f"/api/series/{series.pk}/findings").json()
    assert found["sentence"] == "No answer yet: it takes two whole blocks."
    assert [(one["candidate"], one["value"]) for one in found["candidates"]] == [
        ("planner 3.3", "front"),
        ("planner 3.3", "back"),
        ("planner 3.4", "front"),
        ("planner 3.4", "back"),
    ]


def test_a_target_that_is_none_any_more_leaves_no_run_behind(
    series: Series, ops: Ops, monkeypatch: pytest.MonkeyPatch
) -> None:
    def refused(*_: object) -> None:
        raise TargetError("candidates.each[0].begin[0].call", "it is no target any more.", "Prove it again.")

    monkeypatch.setattr(taking.allowances, "confirmed", refused)
    go_on(series)
    run = Run.objects.get()
    assert (series.state, run.state) == ("failed", "failed")
    assert "no target any more" in series.cause
    assert ops.paths() == []


def test_what_fails_after_a_turn_is_told_and_spoils_nothing(
    series: Series, ops: Ops, monkeypatch: pytest.MonkeyPatch
) -> None:
    run = go_on(series)
    assert run is not None
    end(run)
    ops.status = 500
    go_on(series)
    first = series.turns.get(number=1)
    assert first.over
    assert "answered with status 500" in first.done[-1]["outcome"]
    # The next turn cannot begin either, and says so; the first one counts.
    assert series.state == "failed"
    assert Run.objects.get(pk=run.pk).state == "finished"


def test_a_turn_that_does_not_count_is_told_where_it_belongs(client: Client, planner: User) -> None:
    told = yaml.safe_load(example("candidates"))
    told["candidates"]["blocks"] = 3
    told["candidates"]["each"].append({**told["candidates"]["each"][0], "name": "third", "setting": "the third"})
    told["load"] = [{"hold": {"users": 30, "for": "40 s"}}]
    experiment = experiments.create(TESTS, yaml.safe_dump(told, sort_keys=False))
    series = rules.start(TESTS, experiment)
    for turn in series.turns.all():
        own = rules.plan_of(turn, series.plan)
        turn.run = played.play_as(experiment, own, quillport(), timezone.now(), seed=turn.number)
        turn.over = True
        turn.save()
    third = series.turns.get(candidate="third", block=2)
    Run.objects.filter(pk=third.run_id).update(left_out="a backup ran")
    lines = client.get(f"/api/series/{series.pk}/findings").json()["between"]
    assert [(one["candidate"], one["blocks"], len(one["missing"])) for one in lines] == [
        ("planner 3.4", [1, 2, 3], 0),
        ("third", [1, 3], 1),
    ]
    assert lines[1]["missing"] == [f"Block 2: run {third.run_id} is left out: a backup ran."]
