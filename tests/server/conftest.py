"""Clients, users and stored runs for the tests of the server."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from django.contrib.auth.models import User
from django.http import JsonResponse
from django.test import Client

from stonekettle.engine import records
from stonekettle.engine.rollup import Second, fold, pack_histograms
from stonekettle.meters.samples import Catalogue, Source
from stonekettle.server.experiments import rules
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.runs import data, merging, metering
from stonekettle.server.runs.models import Generator, GeneratorSecond, Run

ROOT = Path(__file__).parents[2]
QUICK = (ROOT / "examples" / "quick.yaml").read_text()

__all__ = ["QUICK"]


@pytest.fixture(autouse=True)
def quick_passwords(settings: Any) -> None:
    """A strong hash takes a second, and every test signs somebody in."""
    settings.PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]


@pytest.fixture
def planner(db: None) -> User:
    return User.objects.create_user("planner", password="a good password")


@pytest.fixture(autouse=True)
def jobs_at_once(settings: Any, tmp_path: Path) -> None:
    """No worker runs beside these tests."""
    settings.JOBS_AT_ONCE, settings.SPOOL = True, tmp_path / "spool"


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
    return rules.create(QUICK, planner)


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
            folded, histograms = fold(counted, made, np.arange(7)[None])
            GeneratorSecond.objects.create(
                generator=generator,
                second=t,
                rollup=folded.as_dict(),
                histograms=pack_histograms(histograms),
                records=records.to_chunk(made),
            )
        store_readings(run, seconds)
        merging.merge(run.pk)
        metering.Reader(run.pk).look()
        run.refresh_from_db()
        return run

    return make
