"""Clients, users and stored runs for the tests of the server."""

from __future__ import annotations

import json
import zlib
from collections.abc import Callable
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any, cast

import numpy as np
import pytest
from django.contrib.auth.models import User
from django.http import JsonResponse
from django.test import Client

from stonekettle.core.types import IntArray
from stonekettle.engine import records
from stonekettle.engine.rollup import Second, fold, pack_histograms
from stonekettle.meters.samples import Catalogue, Source
from stonekettle.plan import document, journey_document
from stonekettle.plan.checking import parse
from stonekettle.server.access import people, tokens
from stonekettle.server.access.models import Person
from stonekettle.server.access.roles import Actor, Role
from stonekettle.server.capacity import demo as capacity
from stonekettle.server.changes.models import SystemChange
from stonekettle.server.drafts import Document
from stonekettle.server.experiments import rules
from stonekettle.server.experiments.models import Experiment, Revision
from stonekettle.server.feeds import rules as feeds
from stonekettle.server.journeys import rules as journeys
from stonekettle.server.runs import data, merging, metering, schedules
from stonekettle.server.runs.models import Generator, GeneratorSecond, MetricsFile, Run, RunMarker, SetAside
from stonekettle.server.series.models import Series, Turn
from stonekettle.server.systems import rules as systems
from stonekettle.server.targets import rules as targets
from tests.server.acting import TESTS

ROOT = Path(__file__).parents[2]
QUICK = (ROOT / "examples" / "quick.yaml").read_text()

ONE_GROUP = np.arange(7)[None]
"""The numbers of its cells, for runs of a group that does seven steps."""
TERMS = {"host": "10.9.8.7", "ports": "443", "scheme": "https", "contact": "anna, 123"}

__all__ = ["QUICK", "TERMS"]


@pytest.fixture(autouse=True)
def quick_passwords(settings: Any) -> None:
    """A strong hash takes a second, and every test signs somebody in."""
    settings.PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]


@pytest.fixture(autouse=True)
def as_often_as_one_likes(settings: Any) -> None:
    settings.REQUESTS_LIMITED = False


@pytest.fixture
def planner(db: None) -> User:
    return people.create("planner", "a good password", Role.ADMINISTRATOR)


@pytest.fixture(autouse=True)
def jobs_at_once(settings: Any, tmp_path: Path) -> None:
    """No worker runs beside these tests."""
    settings.JOBS_AT_ONCE, settings.SPOOL = True, tmp_path / "spool"
    settings.LISTENERS = tmp_path / "listeners.json"


class PatientClient(Client):
    """Answers a request that begins a job with how the job ended."""

    def request(self, **request: Any) -> Any:
        answer = super().request(**request)
        if answer.status_code != 202 or b'"job"' not in answer.content:
            return answer
        job = self.get(f"/api/jobs/{answer.json()['job']}").json()
        assert job["state"] in ("done", "refused"), job
        found, status = job["problem"], (job["problem"] or {}).get("status")
        if job["state"] == "done":
            kind, *parts = job["outcome"].values()
            found = parts[0] if parts and isinstance(parts[0], dict) else {"id": parts[0] if parts else None}
            status = 201 if kind in ("journey", "feed", "metrics file added") else 200
        ended = JsonResponse(found, status=status)
        ended.json = lambda: json.loads(ended.content)  # type: ignore[attr-defined]
        return ended


@pytest.fixture
def client(planner: User) -> Client:
    """Signed in."""
    client = PatientClient()
    client.force_login(planner)
    return client


@pytest.fixture
def experiment(planner: User) -> Experiment:
    return rules.create(TESTS, QUICK)


def store_readings(run: Run, seconds: int) -> None:
    """Half of the ledger's four cores busy, and three queries to each of five requests a second."""
    catalogue = Catalogue()
    busy = Source("ledger", "ledger:1", "quillport_cpu_seconds", (), "counter")
    cores = Source("ledger", "ledger:1", "quillport_cpu_cores", (), "gauge")
    queries = Source("ledger", "ledger:1", "quillport_queries", (), "counter")
    rounds = [
        catalogue.batch(t, [(busy, t, 2.0 * t), (cores, t, 4.0), (queries, t, 15.0 * t)]) for t in range(seconds + 1)
    ]
    data.store(run.pk, rounds)


def store_second(generator: Generator, counted: Second, made: records.Records, numbers: IntArray = ONE_GROUP) -> None:
    """A second as its generator would have told it; ``numbers`` are those of each group's cells."""
    folded, histograms = fold(counted, made, numbers)
    GeneratorSecond.objects.create(
        generator=generator,
        second=counted.second,
        rollup=folded.as_dict(),
        histograms=pack_histograms(histograms),
        records=records.to_chunk(made),
    )


@pytest.fixture
def make_run(experiment: Experiment) -> Callable[..., Run]:
    """A run with ``seconds`` stored seconds of 5 requests each."""

    def make(seconds: int = 5, **fields: object) -> Run:
        revision = experiment.current
        run = Run.objects.create(revision=revision, plan_document=revision.document, **fields)
        generator = Generator.objects.create(run=run, name="local-1", region="local")
        for t in range(seconds):
            made = np.zeros(5, dtype=records.RECORD)
            made["step"], made["status"], made["total_us"] = [0, 1, 2, 3, 4], 200, 20_000
            counted = Second(t, 30.0, 1.0, 0.0, 0.2, 0.001, 0.1, 0.0, 0.0, 0.0, [1, 1, 1, 1, 1, 0, 0])
            store_second(generator, counted, made)
        store_readings(run, seconds)
        merging.merge(run.pk)
        metering.Reader(run.pk).look()
        run.refresh_from_db()
        return run

    return make


def example(name: str) -> str:
    return (ROOT / "examples" / f"{name}.yaml").read_text()


def _series(revision: Revision) -> Series:
    plan = document.to_document(document.read(example("candidates")))
    made = Series.objects.create(experiment=revision.experiment, revision=revision, plan_document=plan)
    Turn.objects.create(series=made, number=1, block=1, candidate="planner 3.3")
    return made


@pytest.fixture
def ids(planner: User, make_run: Callable[..., Run]) -> dict[str, int | str]:
    """One object of every kind, by the name its place has in addresses."""
    plan = document.to_document(document.read(example("quillport")))
    journey = journey_document.to_document(journey_document.read(example("day-ticket")))
    run = make_run(3, state="finished", begun_at=1.0, result={})
    invitation, token = people.invite(TESTS, "somebody", Role.READER, 7)
    tomorrow = datetime.now() + timedelta(days=1)
    schedule = schedules.schedule(TESTS, run.revision.experiment, tomorrow, "UTC", "")
    return {
        "run_id": run.pk,
        "other_id": run.pk,
        "experiment_id": run.revision.experiment_id,
        "system_id": systems.create(TESTS, plan["system"]).pk,
        "feed_id": feeds.drafts.create(TESTS, cast(Document, parse(example("riders")))).pk,
        "journey_id": journeys.drafts.create(TESTS, journey).pk,
        "file_id": MetricsFile.objects.create(
            run=run, component="ledger", name="a.csv", sources=[], chunk=zlib.compress(b"")
        ).pk,
        "job_id": 1,
        "person_id": Person.objects.get(user=people.create("somebody.else", None, Role.READER)).pk,
        "invitation_id": invitation.pk,
        "token": token,
        "plan_id": capacity.describe(TESTS, run.revision.experiment, datetime.now().date()).pk,
        "target_id": targets.claim(TESTS, TERMS).pk,
        "schedule_id": schedule.pk,
        "series_id": _series(run.revision).pk,
        "user": 1,
        "visit": 1,
        "kind": "comfort",
        "step": "step:0",
        "change_id": SystemChange.objects.create(
            run=run, name="Start many", who="ci", asked_s=1.0, state="ready", each=[[0, 2.0, "status 200"]]
        ).pk,
        "set_aside_id": SetAside.objects.create(run=run, from_s=0, until_s=1, why="x", who="ci").pk,
        "marker_id": RunMarker.objects.create(run=run, at_s=1.0, text="deployed", who="ci").pk,
        "token_id": tokens.make(Actor.of(planner), "ci", Role.READER, 1)[0].pk,
    }
