"""How long what is kept of runs."""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.core.management import call_command
from django.test import Client
from django.utils import timezone

from stonekettle.server.runs import analysing, rules, tasks
from stonekettle.server.runs.models import GeneratorSecond, MeterSecond, RecordBundle, Run, RunFact, RunSecond
from stonekettle.server.systems import rules as systems
from stonekettle.server.systems.models import System
from tests.server.acting import TESTS

pytestmark = pytest.mark.django_db
MakeRun = Callable[..., Run]


@pytest.fixture
def system(planner: User) -> System:
    return systems.create(TESTS, {"name": "Mill", "base_url": "http://127.0.0.1:8080"})


@pytest.fixture
def old_run(make_run: MakeRun, system: System) -> Callable[..., Run]:
    """An analysed run of the system that ended so many days ago."""

    def make(days: float, **fields: object) -> Run:
        ended = timezone.now() - timedelta(days=days)
        run = make_run(20, state="finished", begun_at=1.0, system=system, ended_at=ended, **fields)
        analysing.analyse(run, state="finished", cause="done")
        return run

    return make


def keep(client: Client, system: System | None, **days: int | None) -> Any:
    assert system is not None
    return client.put(f"/api/systems/{system.pk}/keeping", days, content_type="application/json")


def room(run: Run) -> tuple[bool, bool, bool]:
    """Whether its requests, its seconds and its findings are there."""
    rows = (RecordBundle, RunSecond, RunFact)
    return tuple(model.objects.filter(run=run).exists() for model in rows)  # type: ignore[attr-defined,return-value]


def test_each_goes_in_its_time_and_what_is_to_go_is_told_before(client: Client, old_run: Callable[..., Run]) -> None:
    young, older, oldest = old_run(3), old_run(20), old_run(50)
    assert keep(client, young.system).json()["going"] == {"requests": 0, "seconds": 0, "runs": 0}
    tasks.make_room(0)
    assert [room(run)[:2] for run in (young, older, oldest)] == [(True, True)] * 3
    told = keep(client, young.system, requests_days=7, seconds_days=30).json()
    assert told["going"] == {"requests": 2, "seconds": 1, "runs": 0}
    tasks.make_room(0)
    assert [room(run)[:2] for run in (young, older, oldest)] == [(True, True), (False, True), (False, False)]
    assert not MeterSecond.objects.filter(run=oldest).exists()
    assert not GeneratorSecond.objects.filter(generator__run=older).exists()
    assert client.get(f"/api/systems/{young.system_id}/keeping").json()["going"] == {
        "requests": 0,
        "seconds": 0,
        "runs": 0,
    }


def test_a_run_without_its_measurements_keeps_its_findings_and_says_so(
    client: Client, old_run: Callable[..., Run]
) -> None:
    run = old_run(20)
    before = client.get(f"/api/runs/{run.pk}").json()
    keep(client, run.system, requests_days=1, seconds_days=1)
    tasks.make_room(0)
    found = client.get(f"/api/runs/{run.pk}").json()
    assert found["result"] == before["result"]
    assert found["goes"]["requests"]
    assert found["goes"]["seconds"]
    assert client.get(f"/api/runs/{run.pk}/plate").json()["t"] == []
    for what in ("requests.parquet", "seconds.csv"):
        refused = client.post(f"/api/runs/{run.pk}/exports", {"what": what}, content_type="application/json")
        assert refused.status_code == 409
        assert "are gone since" in refused.json()["detail"]
    call_command("reanalyse_runs", run.pk)
    run.refresh_from_db()
    assert run.result == before["result"]


def test_findings_that_need_single_requests_are_not_made_anew_without_them(old_run: Callable[..., Run]) -> None:
    run = old_run(20, requests_gone_at=timezone.now())
    rules.check_analysable(run)
    second = RunSecond.objects.filter(run=run, every=1).first()
    assert second is not None
    second.told = {**second.told, "stalls": [[2.1, 2.5]]}
    second.save()
    with pytest.raises(rules.Conflict, match="stood still at times"):
        rules.check_analysable(run)


def test_a_run_that_shall_be_kept_stays_and_another_can_be_had_back(
    client: Client, old_run: Callable[..., Run]
) -> None:
    kept, gone = old_run(20), old_run(20)
    assert client.post(f"/api/runs/{kept.pk}/keep", {"kept": True}, content_type="application/json").status_code == 204
    keep(client, kept.system, requests_days=7, seconds_days=7, runs_days=7)
    tasks.make_room(0)
    found = client.get(f"/api/runs/{kept.pk}").json()
    assert (found["deleted_at"], found["kept"], found["goes"]["run"]) == (None, True, None)
    found = client.get(f"/api/runs/{gone.pk}").json()
    assert found["deleted_by"] == "how long its system keeps runs"
    assert found["undo_until"]
    client.post(f"/api/runs/{gone.pk}/restore")
    tasks.make_room(0)
    found = client.get(f"/api/runs/{gone.pk}").json()
    assert (found["deleted_at"], found["kept"]) == (None, True)
    assert room(gone) == room(kept)


@pytest.mark.parametrize(
    ("days", "what"),
    [
        ({"requests_days": 30, "seconds_days": 7}, "Requests cannot outlast the seconds"),
        ({"requests_days": None, "seconds_days": 7}, "Requests cannot outlast the seconds"),
        ({"requests_days": 7, "seconds_days": 90, "runs_days": 30}, "Seconds cannot outlast the run"),
        ({"requests_days": 0}, "greater than or equal to 1"),
        ({"runs_days": 99999}, "less than or equal to 3650"),
    ],
)
def test_times_that_cannot_be_are_refused(client: Client, system: System, days: dict[str, int], what: str) -> None:
    refused = keep(client, system, **days)
    assert refused.status_code in (400, 409, 422)
    assert what in str(refused.json())
    assert client.get(f"/api/systems/{system.pk}/keeping").json()["requests_days"] is None
