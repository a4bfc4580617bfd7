"""How long the plate of an hour with 200 metrics takes, beside the same hour without meters.

Works in a throw-away database: ``./kettle bench plate`` gives it one.
"""

from __future__ import annotations

import statistics
import time
from pathlib import Path
from typing import Any

import numpy as np
from django.conf import settings
from django.contrib.auth.models import User
from django.core.management import call_command
from django.core.management.base import BaseCommand, CommandParser
from django.test import Client

from stonekettle.engine import records
from stonekettle.engine.rollup import Second, fold, pack_histograms
from stonekettle.meters.samples import Catalogue, Source
from stonekettle.server.experiments import rules
from stonekettle.server.figures import figure, tell
from stonekettle.server.runs import data
from stonekettle.server.runs.models import Generator, GeneratorSecond, Run
from stonekettle.server.runs.plate import width_of
from stonekettle.server.systems import rules as systems

SECONDS = 3_600
METRICS = 200
PINS = 12
LIMIT_S = 1.0
LIVE_SHARE = 0.1
ROUNDS = 5


class Command(BaseCommand):
    help = __doc__

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--json", type=Path)
        parser.add_argument("--quick", action="store_true", help="a tenth of the hour")

    def handle(self, *args: Any, **options: Any) -> None:
        call_command("migrate", verbosity=0)
        seconds = SECONDS // 10 if options["quick"] else SECONDS
        user = User.objects.create_user("bench")
        client = Client(SERVER_NAME="localhost")
        client.force_login(user)
        bare, full = _run(user, seconds, 0), _run(user, seconds, METRICS)
        without, with_meters = _seconds(client, bare), _seconds(client, full)
        live = _seconds(client, full, f"?after={seconds - 6}&bin_s={width_of(seconds)}")
        figures = [
            figure(f"plate of {seconds} s without meters", f"{without:.2f} s"),
            figure(
                f"plate of {seconds} s with {METRICS} metrics, {PINS} of them pinned",
                f"{with_meters:.2f} s",
                f"under {LIMIT_S:g} s",
                with_meters < LIMIT_S,
            ),
            figure("ratio of the two", f"{with_meters / without:.2f}"),
            figure(
                "a live look at its end, share of the whole plate",
                f"{live / with_meters:.3f}",
                f"under {LIVE_SHARE:g}",
                live / with_meters < LIVE_SHARE,
            ),
        ]
        tell(self.stdout, figures, options["json"])


def _seconds(client: Client, run: Run, window: str = "") -> float:
    """The median time of the whole answer, as the browser gets it."""
    taken = []
    for _ in range(ROUNDS):
        began = time.perf_counter()
        answer = client.get(f"/api/runs/{run.pk}/plate{window}")
        taken.append(time.perf_counter() - began)
        assert answer.status_code == 200, answer.content
    return statistics.median(taken)


def _run(user: User, seconds: int, metrics: int) -> Run:
    """A run of so many seconds and metrics, stored as a real one is."""
    source = (settings.ROOT / "examples" / "quillport.yaml").read_text()
    experiment = rules.create(source, user)
    system = systems.create({**experiment.current.document["system"], "name": f"With {metrics} metrics"}, user)
    pins = [{"component": "ledger", "metric": f"metric_{i}", "figure": "per request"} for i in range(PINS)]
    system.pins = pins if metrics else []
    system.save()
    revision = experiment.current
    run = Run.objects.create(
        revision=revision, system=system, plan_document=revision.document, state="finished", begun_at=1.0
    )
    generator = Generator.objects.create(run=run, name="local-1", region="local")
    made = np.zeros(200, dtype=records.RECORD)
    made["status"], made["step"] = 200, np.arange(200) % 7
    made["total_us"] = np.random.default_rng(1).lognormal(10, 0.6, 200).astype(np.uint32)
    rows = []
    for t in range(seconds):
        folded, histograms = fold(Second(t, 300.0, 9.0, 0.0, 0.02, 0.001, 0.1, 0.0, 0.0, 0.0, [29] * 7), made, 7)
        packed = pack_histograms(histograms)
        rows.append(
            GeneratorSecond(generator=generator, second=t, rollup=folded.as_dict(), histograms=packed, records=b"")
        )
    GeneratorSecond.objects.bulk_create(rows, batch_size=500)
    catalogue = Catalogue()
    sources = [Source("ledger", "ledger:1", f"metric_{i}", (), "counter" if i % 2 else "gauge") for i in range(metrics)]
    growth = np.random.default_rng(2).uniform(0, 10, len(sources))
    batches = [
        catalogue.batch(t, [(source, t + 0.004, float(growth[i] * t)) for i, source in enumerate(sources)])
        for t in range(seconds + 1)
    ]
    if metrics:
        data.store(run.pk, batches)
    return run
