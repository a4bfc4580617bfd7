"""Runs: their rules, their data and their API."""

from __future__ import annotations

import csv
import io
import json
import math
import os
import time
from collections.abc import Callable
from datetime import timedelta
from typing import Any

import pyarrow.parquet as pq
import pytest
from django.core.management import call_command
from django.core.management.base import CommandError
from django.test import Client
from django.utils import timezone
from procrastinate.contrib.django.models import ProcrastinateJob
from pytest_django import DjangoAssertNumQueries

from stonekettle.core import levels
from stonekettle.core.load_profile import Target
from stonekettle.core.orders import Order
from stonekettle.engine import orderbook
from stonekettle.engine.errors import IllegalTransition
from stonekettle.engine.lifecycle import RunState
from stonekettle.server.access.roles import Actor
from stonekettle.server.experiments import rules as experiments
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.problems import Conflict
from stonekettle.server.runs import analysing, bundling, data, exports, merging, rules, search, tasks
from stonekettle.server.runs.models import Generator, GeneratorSecond, Run, RunFact, RunNote, RunOrder, RunWish
from tests.server.acting import TESTS
from tests.server.conftest import QUICK

MakeRun = Callable[..., Run]


def test_starting_queues_one_job_and_freezes_the_plan(client: Client, experiment: Experiment) -> None:
    answer = client.post(f"/api/experiments/{experiment.pk}/runs", content_type="application/json")
    assert answer.status_code == 201
    run = Run.objects.get(pk=answer.json()["id"])
    assert run.state == "queued"
    assert run.plan_document == experiment.current.document
    assert ProcrastinateJob.objects.filter(args={"run_id": run.pk}, queue_name="conductor").count() == 1


def test_a_second_run_waits_for_the_first(client: Client, experiment: Experiment) -> None:
    rules.start(TESTS, experiment)
    answer = client.post(f"/api/experiments/{experiment.pk}/runs", content_type="application/json")
    assert answer.status_code == 409
    assert "still queued" in answer.json()["detail"]


def test_runs_on_different_systems_go_side_by_side(client: Client, experiment: Experiment) -> None:
    rules.start(TESTS, experiment)
    elsewhere = experiments.create(TESTS, QUICK.replace("base_url: practice://gateway", "base_url: http://127.0.0.1:9"))
    run = rules.start(TESTS, elsewhere)
    assert run.target == "http://127.0.0.1:9"
    part = experiments.create(TESTS, QUICK.replace("base_url: practice://gateway", "base_url: practice://planner"))
    with pytest.raises(Conflict, match="is still queued on Quillport"):
        rules.start(TESTS, part)
    for port in (10, 11):
        elsewhere = QUICK.replace("practice://gateway\n", f"http://127.0.0.1:{port}\n")
        rules.start(TESTS, experiments.create(TESTS, elsewhere))
    last = experiments.create(TESTS, QUICK.replace("practice://gateway\n", "http://127.0.0.1:12\n"))
    with pytest.raises(Conflict, match="4 runs are under way"):
        rules.start(TESTS, last)


def test_every_move_is_recorded_and_illegal_ones_change_nothing(make_run: MakeRun) -> None:
    run = make_run(0)
    rules.move(run.pk, RunState.PREPARING, "A worker took the run.")
    with pytest.raises(IllegalTransition):
        rules.move(run.pk, RunState.FINISHED, "cheating")
    rules.move(run.pk, RunState.FAILED, "The system does not answer.")
    run.refresh_from_db()
    assert (run.state, run.cause) == ("failed", "The system does not answer.")
    assert run.ended_at is not None
    assert [t.state for t in run.transitions.all()] == ["preparing", "failed"]


def test_stopping_a_queued_run_ends_it_at_once(client: Client, experiment: Experiment) -> None:
    run = rules.start(TESTS, experiment)
    assert client.post(f"/api/runs/{run.pk}/stop", content_type="application/json").status_code == 202
    run.refresh_from_db()
    assert run.state == "stopped"
    assert "planner" in run.cause
    with pytest.raises(Conflict):
        rules.request_stop(Actor.itself("planner"), run)


def test_stored_seconds_are_read_back_as_run_data(make_run: MakeRun) -> None:
    run = data.load(make_run(5)).run
    assert run.seconds == 5
    assert run.completed.sum(axis=0).tolist() == [5, 5, 5, 5, 5, 0, 0]
    assert run.resources[0].key == "ledger.cpu"
    assert run.resources[0].utilisation.tolist() == [0.5] * 5


def test_findings_can_be_recomputed_from_stored_data(client: Client, make_run: MakeRun) -> None:
    run = make_run(5, state="finished")
    analysing.analyse(run, state="finished", cause="done")
    found = client.get(f"/api/runs/{run.pk}").json()
    assert found["result"]["totals"]["requests"] == 25
    assert found["verdict"].startswith("Inconclusive")
    first = Run.objects.get(pk=run.pk).result
    analysing.analyse(run, state="finished", cause="done")
    assert Run.objects.get(pk=run.pk).result == first


def test_findings_of_an_older_analysis_are_made_anew_on_command(client: Client, make_run: MakeRun) -> None:
    old, other, empty = (make_run(seconds, state="finished", begun_at=1.0) for seconds in (5, 5, 0))
    for run in (old, other):
        analysing.analyse(run, state="finished", cause="done")
    Run.objects.filter(pk=old.pk).update(analysis_version=1, verdict="Before.")
    out = io.StringIO()
    call_command("reanalyse_runs", stdout=out)
    assert out.getvalue().startswith(f"Run {old.pk}: Inconclusive")
    assert "(version 1: Before.)" in out.getvalue()
    assert f"Run {other.pk}" not in out.getvalue()
    call_command("reanalyse_runs", stdout=out)
    assert "of the newest analysis" in out.getvalue()
    call_command("reanalyse_runs", str(other.pk), str(empty.pk), stdout=out)
    assert f"Run {other.pk}: unchanged.\nRun {empty.pk}: it recorded nothing." in out.getvalue()
    with pytest.raises(CommandError, match="no run 999 that has ended"):
        call_command("reanalyse_runs", "999")


def test_a_deleted_run_is_in_no_list_and_can_be_had_back_for_a_day(
    client: Client, make_run: MakeRun, settings: Any
) -> None:
    run, other = make_run(5, state="finished", begun_at=1.0), make_run(5, state="running")
    listed = lambda: [line["id"] for line in client.get("/api/runs").json()["runs"]]  # noqa: E731
    room = client.get(f"/api/runs/{run.pk}").json()["room"]
    assert all(size > 100 for size in room.values())
    assert "Stop it first" in client.delete(f"/api/runs/{other.pk}").json()["detail"]
    assert client.delete(f"/api/runs/{run.pk}").status_code == 204
    assert listed() == [other.pk]
    assert client.get("/api/experiments").json()[0]["last_run_id"] == other.pk
    found = client.get(f"/api/runs/{run.pk}").json()
    assert found["deleted_by"] == "planner"
    exported(client, run, "seconds.csv")
    tasks.make_room(0)
    assert client.post(f"/api/runs/{run.pk}/restore").status_code == 204
    assert listed() == [other.pk, run.pk]
    assert client.get(f"/api/runs/{run.pk}").json()["undo_until"] is None
    client.delete(f"/api/runs/{run.pk}")
    Run.objects.filter(pk=run.pk).update(deleted_at=timezone.now() - timedelta(hours=25))
    bundling.compact(run.pk)
    assert search.Chosen(run).page().num_rows
    (copy,) = (settings.SPOOL / "bundles").glob("*.parquet")
    tasks.make_room(0)
    assert not copy.exists()
    assert not any((settings.SPOOL / "exports").iterdir())
    assert not Run.objects.filter(pk=run.pk).exists()
    assert not GeneratorSecond.objects.filter(generator__run_id=run.pk).exists()


def test_files_are_complete(client: Client, make_run: MakeRun) -> None:
    run = make_run(5, state="finished")
    analysing.analyse(run, state="finished", cause="done")
    base = f"/api/runs/{run.pk}"
    assert json.loads(client.get(f"{base}/result.json").content)["experiment"] == "Quick look"
    assert "Ask for it first" in client.get(f"{base}/requests.parquet").json()["detail"]
    parquet, seconds = exported(client, run, "requests.parquet"), exported(client, run, "seconds.csv")
    assert len(seconds.decode().splitlines()) == 6
    head, *lines = client.get(f"{base}/facts.csv").content.decode().splitlines()
    assert head.startswith("level,subject,figure,value")
    assert not lines  # five seconds make no level
    table = pq.read_table(io.BytesIO(parquet))
    assert table.num_rows == 25
    assert table["step"].to_pylist()[:2] == ["Home page", "Departures board"]


def exported(client: Client, run: Run, what: str) -> bytes:
    """A file of the run, asked for and downloaded."""
    client.post(f"/api/runs/{run.pk}/exports", {"what": what}, content_type="application/json")
    return b"".join(client.get(f"/api/runs/{run.pk}/{what}").streaming_content)  # type: ignore[attr-defined]


def test_files_wait_for_the_end_of_the_run(client: Client, make_run: MakeRun) -> None:
    run = make_run(2, state="running")
    assert client.get(f"/api/runs/{run.pk}/seconds.csv").status_code == 409
    asked = client.post(f"/api/runs/{run.pk}/exports", {"what": "seconds.csv"}, content_type="application/json")
    assert asked.status_code == 409


def test_a_file_is_made_anew_once_the_run_has_changed(client: Client, make_run: MakeRun) -> None:
    run = make_run(5, state="finished", begun_at=time.time() - 60)
    Run.objects.filter(pk=run.pk).update(ended_at=timezone.now())
    before = exported(client, run, "seconds.csv")
    told = GeneratorSecond.objects.get(generator__run=run, second=3)
    late = Generator.objects.create(run=run, name="local-2", region="local")
    GeneratorSecond.objects.create(
        generator=late, second=3, rollup=told.rollup, histograms=told.histograms, records=told.records
    )
    merging.merge(run.pk)
    assert client.get(f"/api/runs/{run.pk}/seconds.csv").status_code == 409
    assert exported(client, run, "seconds.csv") != before
    assert pq.read_table(io.BytesIO(exported(client, run, "requests.parquet"))).num_rows == 30
    assert b"markers" not in exported(client, run, "seconds.csv")
    body = {"text": "the backup ran", "at_s": 2}
    assert client.post(f"/api/runs/{run.pk}/markers", body, content_type="application/json").status_code == 201
    assert b"the backup ran" in exported(client, run, "seconds.csv")
    run.refresh_from_db()
    exports.forget_old()
    assert exports.path_of(run, "seconds.csv").exists()
    for path in exports.path_of(run, "seconds.csv").parent.iterdir():
        os.utime(path, (0, 0))
    exports.forget_old()
    assert client.get(f"/api/runs/{run.pk}/seconds.csv").status_code == 409


def test_an_abandoned_run_fails_with_its_data_analysed(make_run: MakeRun) -> None:
    run = make_run(5, state="running", conductor_seen_at=timezone.now() - timedelta(minutes=1))
    alive = make_run(1, state="running", conductor_seen_at=timezone.now())
    tasks.fail_abandoned(timestamp=0)
    run.refresh_from_db()
    assert run.state == "running", "one look proves nothing: after an outage every sign of life is old"
    tasks.fail_abandoned(timestamp=10)
    run.refresh_from_db()
    alive.refresh_from_db()
    assert run.state == "failed"
    assert "was lost; data reach to second 5" in run.cause
    assert run.result is not None
    assert alive.state == "running"


def test_runs_are_listed_a_page_at_a_time(
    client: Client,
    make_run: MakeRun,
    django_assert_max_num_queries: DjangoAssertNumQueries,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    runs = [make_run(0, state="finished") for _ in range(5)]
    monkeypatch.setattr("stonekettle.server.runs.api.PAGE", 3)
    with django_assert_max_num_queries(4):
        page = client.get("/api/runs").json()
    assert [r["id"] for r in page["runs"]] == [r.pk for r in reversed(runs[2:])]
    assert page["more"]
    rest = client.get(f"/api/runs?before={page['runs'][-1]['id']}").json()
    assert (len(rest["runs"]), rest["more"]) == (2, False)
    assert client.get("/api/now").json()["runs"] == []


def test_a_wish_waits_for_the_lead_and_its_answer_can_be_read(client: Client, make_run: Callable[..., Run]) -> None:
    run = make_run(2, state="running", begun_at=1.0)
    body = {"verb": "raise", "amount": 60, "over_s": 20, "why": "to see"}
    asked = client.post(f"/api/runs/{run.pk}/wishes", body, content_type="application/json")
    assert asked.status_code == 202
    assert (asked.json()["who"], asked.json()["accepted"]) == ("planner", None)
    RunWish.objects.filter(run=run).update(accepted=True, answer="Raised to 60 within 20 s.")
    RunNote.objects.create(run=run, at_s=2.5, who="planner", text="Raised to 60 within 20 s.")
    (line,) = client.get(f"/api/runs/{run.pk}/wishes").json()
    assert line["answer"] == "Raised to 60 within 20 s."
    assert client.get(f"/api/runs/{run.pk}").json()["notes"][0]["at_s"] == 2.5


def test_a_run_that_waits_is_stopped_by_a_wish_at_once_and_asking_twice_is_asking_once(
    client: Client, make_run: Callable[..., Run]
) -> None:
    waiting = make_run(0)
    asked = client.post(f"/api/runs/{waiting.pk}/wishes", {"verb": "stop"}, content_type="application/json")
    assert asked.status_code == 202
    assert (asked.json()["accepted"], asked.json()["answer"]) == (
        True,
        "Stopped by planner before a worker took it.",
    )
    running = make_run(0, state="running", begun_at=1.0)
    ids = {
        client.post(f"/api/runs/{running.pk}/wishes", {"verb": "stop"}, content_type="application/json").json()["id"]
        for _ in range(2)
    }
    assert RunWish.objects.filter(run=running).count() == len(ids) == 1


@pytest.mark.parametrize(
    ("body", "status", "part"),
    [
        ({"verb": "raise"}, 409, "Give an amount"),
        ({"verb": "pause", "amount": 3}, 409, "Give an amount"),
        ({"verb": "fly"}, 422, "verb"),
        ({"verb": "raise", "amount": -1}, 422, "amount"),
    ],
)
def test_a_wish_that_makes_no_sense_is_refused_at_once(
    client: Client, make_run: Callable[..., Run], body: dict[str, object], status: int, part: str
) -> None:
    run = make_run(0, state="running", begun_at=1.0)
    answer = client.post(f"/api/runs/{run.pk}/wishes", body, content_type="application/json")
    assert answer.status_code == status
    assert part in answer.content.decode()
    assert not RunWish.objects.exists()


def test_a_run_without_load_cannot_be_steered(client: Client, make_run: Callable[..., Run]) -> None:
    run = make_run(0, state="finished")
    answer = client.post(f"/api/runs/{run.pk}/wishes", {"verb": "hold"}, content_type="application/json")
    assert answer.status_code == 409
    assert "makes no load now (finished)" in answer.json()["detail"]


def test_a_run_that_was_steered_is_analysed_and_shown_as_it_was_driven(
    client: Client, make_run: Callable[..., Run]
) -> None:
    run = make_run(30, state="finished", begun_at=1.0)
    for number, (at, users) in enumerate([(0, 30), (12, 45), (30, 0)], start=1):
        order = Order(number, at, {"everyone": Target.steady(users)}, last=users == 0)
        RunOrder.objects.create(run=run, number=number, order=orderbook.to_plain(order), who="planner")
    profile = client.get(f"/api/runs/{run.pk}").json()["outline"]["profile"]
    assert [level["users"] for level in profile["levels"]] == [30, 45]
    assert data.load(run).run.planned_users[[3, 20]].tolist() == [30, 45]


def test_a_run_from_before_orders_were_kept_is_read_by_its_plan(make_run: Callable[..., Run]) -> None:
    run = make_run(3)
    assert run.ordered == run.plan.planned


def test_the_command_line_steers_and_tells_the_answer(
    make_run: Callable[..., Run], capsys: pytest.CaptureFixture[str]
) -> None:
    run = make_run(0, state="running", begun_at=1.0)
    refusal = "There is nothing to resume: the load follows its profile."

    def answered(self: RunWish, *_: object, **__: object) -> None:
        self.accepted, self.answer = self.verb != "resume", refusal if self.verb == "resume" else "Held where it is."

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(RunWish, "refresh_from_db", answered)
        call_command("steer_run", str(run.pk), "hold", "--who", "root")
        assert "Held where it is." in capsys.readouterr().out
        with pytest.raises(CommandError, match="nothing to resume"):
            call_command("steer_run", str(run.pk), "resume", "--who", "root")
    with pytest.raises(CommandError, match="There is no run 999"):
        call_command("steer_run", "999", "hold", "--who", "root")


def test_facts_are_kept_with_the_findings_and_made_anew_with_them(
    client: Client, make_run: MakeRun, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(levels, "MIN_COMPLETIONS", 20)
    run = make_run(90, state="finished", begun_at=1.0)
    for _ in range(2):
        analysing.analyse(run, state="finished", cause="done")
    told = RunFact.objects.filter(run=run)
    load = told.get(level=1, subject="", figure="load")
    assert load.value == pytest.approx(30)
    p95 = told.get(level=1, subject__endswith=" / Departures board", figure="p95")
    assert p95.value == pytest.approx(0.02, rel=0.02)
    assert p95.standard_error == pytest.approx(0, abs=1e-9)
    lines = list(csv.DictReader(io.StringIO(client.get(f"/api/runs/{run.pk}/facts.csv").content.decode())))
    assert len(lines) == told.count()
    (of_p95,) = (
        line
        for line in lines
        if (line["level"], line["figure"]) == ("1", "p95") and line["subject"].endswith(" / Departures board")
    )
    blocks = [float(block) for block in of_p95["blocks"].split()]
    assert len(blocks) >= 4
    assert blocks == pytest.approx([math.log(p95.value)] * len(blocks), rel=0.01)
    assert float(next(line["value"] for line in lines if line["figure"] == "load")) == load.value


def test_findings_of_another_analysis_leave_the_page_whole(client: Client, make_run: MakeRun) -> None:
    run = make_run(5, state="finished")
    analysing.analyse(run, state="finished", cause="done")
    stored = Run.objects.get(pk=run.pk).result
    Run.objects.filter(pk=run.pk).update(result={**stored, "findings": {"version": 99}})
    found = client.get(f"/api/runs/{run.pk}").json()["result"]
    assert found["findings"] is None
    assert found["notes"] == stored["notes"]
