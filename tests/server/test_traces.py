"""Traces: pushed with a system's token, joined to the requests they name, kept for those that matter, and read."""

from __future__ import annotations

import json
import time
from collections.abc import Callable, Iterable
from dataclasses import replace
from datetime import timedelta
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from django.test import Client
from django.utils import timezone

from stonekettle.engine import records
from stonekettle.engine.kept import Whole
from stonekettle.engine.records import ERRORS, trace_id
from stonekettle.engine.rollup import Second
from stonekettle.meters import otlp_traces
from stonekettle.meters.otlp_traces import PushedSpan, as_json, request_of
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.runs import analysing, kept, merging, traces
from stonekettle.server.runs import rules as runs
from stonekettle.server.runs.models import Generator, Run, Trace
from stonekettle.server.systems import rules as systems
from stonekettle.server.systems.models import System
from tests.server.conftest import TESTS, store_second

pytestmark = pytest.mark.django_db
MakeRun = Callable[..., Run]
SECONDS = 40
FAILS_FROM = 30
"""From this second on, one of four fails."""
T0 = 1_790_000_000_000_000_000
MS = 1_000_000
STEP = 1
PUT = "application/x-protobuf"
EACH = 2
ASKED = 5
"""A user whose first visit asks for its traces to be kept."""


@pytest.fixture(autouse=True)
def one_in_two(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(traces, "traced_each", lambda plan: EACH)


def is_asked(user: int) -> bool:
    return records.is_traced(user, 1, EACH)


@pytest.fixture
def system() -> System:
    return systems.create(TESTS, {"name": "Trams", "base_url": "practice://gateway"})


@pytest.fixture
def run(make_run: MakeRun, system: System) -> Run:
    """Forty seconds of a step that takes 100 ms, four times a second, each by another user in a visit of its own."""
    made = make_run(0, state="finished", begun_at=7.0, system=system)
    generator = Generator.objects.get(run=made)
    for t in range(SECONDS):
        rows = np.zeros(4, dtype=records.RECORD)
        rows["start_us"], rows["step"], rows["status"] = 1_000_000 * t, STEP, 200
        rows["user"], rows["visit"] = np.arange(4) + 4 * t, 1
        rows["first_byte_us"], rows["total_us"] = 90_000, 100_000
        if t >= FAILS_FROM:
            rows["status"][0], rows["error"][0] = 503, ERRORS.index("status")
        store_second(generator, Second(t, 30.0, 1.0, 0.0, 0.2, 0.001, 0.1, 0.0, 0.0, 0.0, [0, 4, 0, 0, 0, 0, 0]), rows)
    merging.merge(made.pk)
    return made


def way(user: int, ledger_ms: int = 60, failed: bool = False, part: int = 0) -> list[PushedSpan]:
    """A gateway of 80 ms that asks a ledger whose clock is an hour behind."""
    sender = f"{user:08x}{STEP:04x}{part + 1:04x}"
    gateway = PushedSpan(
        f"{user:07x}a{part:08x}", sender, "gateway", "gateway-0", "POST /a", "server", T0, T0 + 80 * MS, failed
    )
    asked = T0 - 3_600_000 * MS
    ledger = PushedSpan(
        f"{user:07x}b{part:08x}", gateway.id, "ledger", "l-1", "", "server", asked, asked + ledger_ms * MS, failed
    )
    return [gateway, ledger]


def push(run: Run, system: System, users: Iterable[int], spans: Callable[[int], list[PushedSpan]] = way) -> int:
    told = [(trace_id(run.pk, user, 1, STEP), span) for user in users for span in spans(user)]
    return traces.keep(system, request_of(told).SerializeToString(), PUT, "")


def keep_whole(run: Run, user: int) -> None:
    texts = ("GET", "http://x", "", "", "", "", 0)
    kept.keep(run.pk, [Whole(5_000_000, user, 1, 0, STEP, 503, "status", 100_000, 0, "failed", 0.5, *texts)])


def users_of(run: Run) -> set[int]:
    return set(Trace.objects.filter(run=run).values_list("user", flat=True))


def test_they_are_pushed_with_a_token_and_the_practice_system_is_told_it(
    run: Run, system: System, settings: Any, django_capture_on_commit_callbacks: Any
) -> None:
    with django_capture_on_commit_callbacks(execute=True):
        token = systems.new_token(TESTS, system)
        systems.new_token(TESTS, systems.create(TESTS, {"name": "Other", "base_url": "http://127.0.0.1:9"}))
    assert json.loads(Path(settings.LISTENERS).read_text()) == [{"system": system.pk, "token": token}]
    assert Path(settings.LISTENERS).stat().st_mode & 0o077 == 0
    body = as_json(request_of((trace_id(run.pk, 7, 1, STEP), span) for span in way(7)))
    address, anonymous = f"/api/systems/{system.pk}/v1/traces", Client()

    def pushed(sent: str, key: str) -> Any:
        bearer = {"Authorization": f"Bearer {key}"}
        return anonymous.post(address, sent, content_type="application/json", headers=bearer)

    assert pushed(body, "wrong").status_code == 401
    assert pushed("{", token).json()["title"] == "Not OTLP traces"
    assert pushed(body, token).content == b"{}"
    assert users_of(run) == {7}


def test_the_practice_system_is_let_tell_once_it_is_run(
    experiment: Experiment, system: System, settings: Any, django_capture_on_commit_callbacks: Any
) -> None:
    Experiment.objects.filter(pk=experiment.pk).update(system=system)
    experiment.refresh_from_db()
    for _ in range(2):
        with django_capture_on_commit_callbacks(execute=True):
            runs.start(TESTS, experiment)
        Run.objects.update(state="finished")
    (listener,) = json.loads(Path(settings.LISTENERS).read_text())
    system.refresh_from_db()
    assert systems.is_token(system, listener["token"])


def test_what_belongs_to_no_run_of_the_system_is_passed_over(run: Run, system: System, make_run: MakeRun) -> None:
    other = make_run(0, begun_at=7.0, system=systems.create(TESTS, {"name": "Other", "base_url": "http://127.0.0.1:9"}))
    strange = [(trace, span) for trace in ("ab" * 16, trace_id(run.pk, 1, 1, 999)) for span in way(1)]
    assert traces.keep(system, request_of(strange).SerializeToString(), PUT, "") == 0
    assert push(other, system, [3]) == 0
    run.ended_at = timezone.now() - timedelta(seconds=traces.LATE_S + 5)
    run.save()
    assert push(run, system, [3]) == 0


def test_of_too_many_the_same_are_kept_of_every_sender(run: Run, system: System, monkeypatch: Any) -> None:
    monkeypatch.setattr(traces, "MOST_AT_ONCE", 10)
    push(run, system, range(50), lambda user: way(user)[:1])
    some = users_of(run)
    assert len(some) == 10
    push(run, system, reversed(range(50)), lambda user: way(user)[1:])
    assert users_of(run) == some


def test_of_a_long_run_they_are_thinned_evenly_but_for_requests_kept_whole(
    run: Run, system: System, monkeypatch: Any
) -> None:
    monkeypatch.setattr(traces, "MOST_HELD", 60)
    monkeypatch.setattr(traces, "MOST_AT_ONCE", 20)
    keep_whole(run, 3)
    for first in range(0, 160, 10):
        push(run, system, range(first, first + 10))
    run.refresh_from_db()
    assert run.traced_below < 1
    held = users_of(run)
    assert 3 in held
    assert 10 <= len(held) <= 60
    assert all(any(first <= user < first + 40 for user in held) for first in range(0, 160, 40))


def test_after_the_end_those_of_kept_requests_and_the_sample_stay(run: Run, system: System) -> None:
    push(run, system, range(160))
    keep_whole(run, 20)
    traces.settle(run)
    sampled = {user for user in range(160) if is_asked(user)}
    assert users_of(run) == {20, *sampled}
    run.ended_at = timezone.now()
    run.save()
    push(run, system, [20, 22, ASKED], lambda user: way(user)[1:])
    assert 22 not in users_of(run)
    assert Trace.objects.filter(run=run).count() == len(sampled) + 1 + 2


def test_a_step_tells_in_which_component_its_time_is_spent(client: Client, run: Run, system: System) -> None:
    random = np.random.default_rng(3)
    ledger = {user: int(random.integers(40, 80)) for user in range(160)}
    push(run, system, range(160), lambda user: way(user, ledger[user]))
    for analysed in (False, True):
        if analysed:
            analysing.analyse(run, state="finished", cause="done")
        page = client.get(f"/api/runs/{run.pk}/steps/step:{STEP}").json()
        told = [level for level in page["levels"] if level["components"]]
        assert told
        for level in told:
            by_name = {one["name"]: one for one in level["components"]}
            assert list(by_name)[-1] == ""
            spent = [
                ledger[u]
                for u in ledger
                if (u % 4 or u // 4 < FAILS_FROM) and level["from_s"] <= u // 4 < level["until_s"] and is_asked(u)
            ]
            assert by_name["ledger"]["traced"] == pytest.approx(len(spent), abs=8)
            assert by_name["ledger"]["low_s"] <= np.mean(spent) / 1e3 <= by_name["ledger"]["high_s"]
            assert by_name[""]["mean_s"] == pytest.approx(0.02)
            assert sum(one["mean_s"] for one in level["components"]) == pytest.approx(0.1)


def test_errors_tell_in_which_component_they_came_to_be(client: Client, run: Run, system: System) -> None:
    def told(user: int) -> list[PushedSpan]:
        return [] if user == 120 else way(user, failed=user != 124)

    push(run, system, range(0, 160, 2), told)
    (kind,) = client.get(f"/api/runs/{run.pk}/errors").json()["kinds"]
    assert (kind["kind"], kind["count"], kind["traced"]) == ("status 503", 10, 9)
    assert kind["components"] == [{"name": "ledger", "count": 8}]
    lines = client.get(f"/api/runs/{run.pk}/requests", {"answer": "failed", "order": "first"}).json()["lines"]
    assert [line["traced"] for line in lines][:3] == [False, True, True]


def test_a_request_shows_its_way_part_by_part(client: Client, run: Run, system: System) -> None:
    push(run, system, [5], lambda user: way(user) + way(user, 30, failed=True, part=2))
    visit = client.get(f"/api/runs/{run.pk}/visits/5/1").json()
    (trace,) = visit["paths"]
    assert trace == visit["lines"][0]["trace"]
    main = [stay for stay in visit["paths"][trace] if stay["part"] == 0]
    assert [(stay["component"], stay["depth"]) for stay in main] == [("gateway", 0), ("ledger", 1)]
    # 100 ms at the client, 80 of them at the gateway; the ledger's clock is brought back into it.
    assert [stay["start_s"] for stay in main] == pytest.approx([0.01, 0.01])
    assert [stay["own_s"] for stay in main] == pytest.approx([0.02, 0.06])
    assert [stay["failed"] for stay in visit["paths"][trace] if stay["part"] == 2] == [True, True]
    assert len(visit["paths"][trace]) == 4


def test_they_are_a_file_that_reads_back_and_go_with_the_requests(client: Client, run: Run, system: System) -> None:
    run.ended_at = timezone.now()
    run.save()
    push(run, system, [ASKED])
    path = f"/api/runs/{run.pk}"
    assert client.post(f"{path}/exports", {"what": "traces.jsonl"}, content_type="application/json").status_code < 300
    (line,) = b"".join(client.get(f"{path}/traces.jsonl").streaming_content).splitlines()  # type: ignore[attr-defined]
    read = otlp_traces.read(line, "application/json", "")
    assert read == {trace_id(run.pk, ASKED, 1, STEP): way(ASKED)}
    assert client.get(f"/api/systems/{system.pk}").json()["traced_at"] is not None
    run.delete()
    assert not Trace.objects.exists()


def test_a_services_other_name_is_that_of_its_component(run: Run, system: System) -> None:
    told = traces.by_part(5, STEP, [replace(span, parent="") for span in way(5)])
    assert {part: len(spans) for part, spans in told.items()} == {0: 2}
    assert time.time() - (traces.last_told(system) or time.time()) < 60
