"""What the page of a large live run costs: a look in its first minute and in its last, and opening it whole.

The run has an hour, 50 steps, 40 strips, and 50 instances with 200 series each. Works in a throw-away database:
``./kettle bench plate`` gives it one.
"""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import yaml
from django.contrib.auth.models import User
from django.core.management import call_command
from django.core.management.base import BaseCommand, CommandParser
from django.test import Client

from stonekettle.core.run_data import ResourceSeries
from stonekettle.engine import records
from stonekettle.engine.rollup import Second, fold, pack_histograms
from stonekettle.engine.script import cell_numbers
from stonekettle.meters.samples import Catalogue, Readings, Source
from stonekettle.server.access import people
from stonekettle.server.access.roles import Actor, Role
from stonekettle.server.experiments import rules
from stonekettle.server.figures import figure, tell
from stonekettle.server.runs import data, merging, metering
from stonekettle.server.runs.models import Generator, GeneratorSecond, Run
from stonekettle.server.systems import rules as systems

SECONDS = 3_600
COMPONENTS, INSTANCES, STRIPS, SERIES = 10, 5, 4, 200
JOURNEYS, STEPS = 10, 5
RATE = 60
PINS = 12
LOOK_S, LOOK_BYTES, OPEN_S, VIEWER = 0.030, 30_000, 1.5, 0.02
ROUNDS = 9


class Command(BaseCommand):
    help = __doc__

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--json", type=Path)
        parser.add_argument("--quick", action="store_true", help="a tenth of the hour")

    def handle(self, *args: Any, **options: Any) -> None:
        call_command("migrate", verbosity=0)
        seconds = SECONDS // 10 if options["quick"] else SECONDS
        user = people.create("bench", None, Role.PLANNER)
        client = Client(SERVER_NAME="localhost")
        client.force_login(user)
        run = _run(user)
        self.stdout.write("Minute 1 …")
        _tell_seconds(run, 0, 59)
        before = _sequence(run)
        _tell_seconds(run, 59, 60)
        early, early_size = _look(client, run, before)
        self.stdout.write(f"All {seconds} seconds …")
        _tell_seconds(run, 60, seconds - 1)
        _store_scrapes(run, seconds)
        before = _sequence(run)
        merging_s = _tell_seconds(run, seconds - 1, seconds)
        late, late_size = _look(client, run, before)
        began = time.perf_counter()
        whole = client.get(f"/api/runs/{run.pk}/plate")
        opening_s = time.perf_counter() - began
        assert whole.status_code == 200, whole.content
        reader = metering.Reader(run.pk)
        reader.look()
        reading_s = statistics.median([_cpu(reader.look) for _ in range(3)])
        figures = [
            figure("a live look in minute 1, cpu", f"{early * 1000:.1f} ms"),
            figure(
                f"a live look after {seconds} s, cpu",
                f"{late * 1000:.1f} ms",
                f"under {LOOK_S * 1000:.0f} ms",
                late < LOOK_S,
            ),
            figure("the ratio of the two", f"{late / early:.2f}", "under 1.5", late < 1.5 * early),
            figure("a viewer who looks once a second, of a core", f"{late:.2%}", f"under {VIEWER:.0%}", late < VIEWER),
            figure(
                "size of a look, early and late",
                f"{early_size / 1000:.1f} kB, {late_size / 1000:.1f} kB",
                f"under {LOOK_BYTES / 1000:.0f} kB",
                max(early_size, late_size) < LOOK_BYTES,
            ),
            figure(
                f"opening all {seconds} s",
                f"{opening_s:.2f} s, {len(whole.content) / 1e6:.2f} MB",
                f"under {OPEN_S:g} s",
                opening_s < OPEN_S,
            ),
            figure("merging a second that two generators told, cpu", f"{merging_s * 1000:.0f} ms"),
            figure(f"reading {COMPONENTS * INSTANCES * SERIES} series once, cpu", f"{reading_s * 1000:.0f} ms"),
        ]
        tell(self.stdout, figures, options["json"])


def _cpu(action: Callable[[], object]) -> float:
    began = time.process_time()
    action()
    return time.process_time() - began


def _sequence(run: Run) -> int:
    return Run.objects.only("sequence").get(pk=run.pk).sequence


def _look(client: Client, run: Run, after: int) -> tuple[float, int]:
    """The median cpu time of a look for what was written ``after``, in the process that answers; its size."""
    whole = client.get(f"/api/runs/{run.pk}/plate").json()
    window = f"?after={after}&bin_s={whole['bin_s']}&has={whole['of']}"
    taken, size = [], 0
    for _ in range(ROUNDS):
        began = time.process_time()
        answer = client.get(f"/api/runs/{run.pk}/plate{window}")
        taken.append(time.process_time() - began)
        size = len(answer.content)
        assert answer.status_code == 200, answer.content
        assert 0 < len(answer.json()["start"]) < 10
    return statistics.median(taken), size


def _run(user: User) -> Run:
    """A run under way that nothing is known of yet."""
    mapping = {"kind": "cpu", "capacity": 4}
    resources = [{"name": f"busy {k}", "metric": f"metric_{2 * k}", **mapping} for k in range(STRIPS)]
    components = [
        {
            "name": f"part-{c}",
            "meters": [{"openmetrics": [_address(c, i) for i in range(INSTANCES)], "resources": resources}],
        }
        for c in range(COMPONENTS)
    ]
    described = {"name": "Large", "base_url": "http://127.0.0.1:9", "components": components}
    system = systems.create(Actor.of(user), described)
    system.pins = [{"component": "part-1", "metric": f"metric_{2 * i + 1}", "figure": "per step"} for i in range(PINS)]
    system.save()
    journeys = [
        {
            "name": f"journey {j}",
            "steps": [{"name": f"step {j}.{s}", "request": f"GET /{j}/{s}", "think": "1 s"} for s in range(STEPS)],
        }
        for j in range(JOURNEYS)
    ]
    plan = {
        "name": "Large",
        "system": described,
        "journeys": journeys,
        "load": [{"hold": {"users": 600, "for": f"{SECONDS} s"}}],
        "objectives": [{"step": "step 0.0", "p95": "1 s"}],
    }
    experiment = rules.create(Actor.of(user), yaml.safe_dump(plan))
    revision = experiment.current
    return Run.objects.create(
        revision=revision, system=system, plan_document=revision.document, state="running", begun_at=1.0
    )


def _address(component: int, instance: int) -> str:
    return f"http://127.0.0.1:{9000 + component * INSTANCES + instance}/metrics"


def _tell_seconds(run: Run, first: int, end: int) -> float:
    """Seconds of two generators, merged as they are while a run is under way, and what meters told of them; the cpu
    time that merging took."""
    cells = JOURNEYS * STEPS
    random = np.random.default_rng(first)
    generators = [Generator.objects.get_or_create(run=run, name=f"local-{i}", region="local")[0] for i in (1, 2)]
    rows = []
    for t in range(first, end):
        for generator in generators:
            made = np.zeros(RATE * 5, dtype=records.RECORD)
            made["status"], made["step"] = 200, np.arange(made.size) % cells
            made["total_us"] = random.lognormal(10, 0.6, made.size).astype(np.uint32)
            counted = Second(
                t, 300.0, 9.0, 0.0, 0.02, 0.001, 0.1, 0.0, 0.0, 0.0, [made.size // cells] * cells, present=[300.0]
            )
            folded, histograms = fold(counted, made, cell_numbers(run.plan))
            rows.append(
                GeneratorSecond(
                    generator=generator,
                    second=t,
                    rollup=folded.as_dict(),
                    histograms=pack_histograms(histograms),
                    records=b"",
                )
            )
    GeneratorSecond.objects.bulk_create(rows, batch_size=500)
    merging_s = _cpu(lambda: merging.merge(run.pk))
    seconds = end - first
    strips = [
        ResourceSeries(
            f"part-{c}", f"busy {k}", "cpu", np.full(seconds, 20.0), random.uniform(0, 1, seconds), np.zeros(seconds)
        )
        for c in range(COMPONENTS)
        for k in range(STRIPS)
    ]
    run.refresh_from_db()
    pins = metering.pins_of(run)
    found = metering.table(first, strips, pins, Readings(), np.full(seconds, 600.0))
    values = {(metering.pin_row(pin), pin.component): random.uniform(0, 5, seconds) for pin in pins}
    metering.write(run, replace(found, columns={**found.columns, **values}))
    return merging_s


def _store_scrapes(run: Run, seconds: int) -> None:
    """What a look of the reader needs: the last rounds of scrapes."""
    catalogue = Catalogue()
    sources = [
        Source(f"part-{c}", _address(c, i), f"metric_{n}", (), "counter" if n % 2 else "gauge")
        for c in range(COMPONENTS)
        for i in range(INSTANCES)
        for n in range(SERIES)
    ]
    growth = np.random.default_rng(2).uniform(0, 3, len(sources)).tolist()
    for t in range(max(0, seconds - 40), seconds + 1):
        read = [
            (source, t + 0.004, growth[i] * (t if source.kind == "counter" else 1)) for i, source in enumerate(sources)
        ]
        data.store(run.pk, [catalogue.batch(t, read)])
