"""What the records of a large run take: room, time to compact them, to find among them, to ask them in SQL, and to
make findings.

Five million requests over an hour, 30 steps, 40 resources, 31 objectives. Works in a throw-away database:
``./kettle bench records`` gives it one.
"""

from __future__ import annotations

import multiprocessing
import resource
import shutil
import tempfile
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import yaml
from django.conf import settings
from django.contrib.auth.models import User
from django.core.management import call_command
from django.core.management.base import BaseCommand, CommandParser
from django.db import connections

from stonekettle.engine import bundles, records
from stonekettle.engine.rollup import Second, fold, pack_histograms
from stonekettle.meters.samples import Catalogue, Source
from stonekettle.report.sql import attempts
from stonekettle.server.access import people
from stonekettle.server.access.roles import Actor, Role
from stonekettle.server.experiments import rules
from stonekettle.server.figures import figure, tell
from stonekettle.server.runs import analysing, asking, data, merging, metering
from stonekettle.server.runs.asking import StatementError
from stonekettle.server.runs.models import Generator, GeneratorSecond, RecordBundle, Run
from stonekettle.server.runs.search import Chosen, Filter

SECONDS, RATE, STEPS, RESOURCES, LEVELS = 3_600, 1_400, 30, 40, 12
MOST_BYTES, MOST_CPU, MOST_S, MOST_MB, WARM_S, COLD_S = 16.0, 0.10, 5.0, 500, 0.5, 3.0
GROUPED_S, REFUSED_S = 2.0, 5.0
BY_STEP_AND_LEVEL = (
    "SELECT step, level, count(*), quantile_cont(response_s, 0.95) FROM requests GROUP BY ALL ORDER BY ALL"
)


class Command(BaseCommand):
    help = __doc__

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--json", type=Path)
        parser.add_argument("--quick", action="store_true", help="a tenth of the hour")

    def handle(self, *args: Any, **options: Any) -> None:
        call_command("migrate", verbosity=0)
        seconds = SECONDS // 10 if options["quick"] else SECONDS
        settings.SPOOL = Path(tempfile.mkdtemp(prefix="kettle-bench-"))
        try:
            figures = [*_rooms(), *self._large_run(seconds)]
        finally:
            shutil.rmtree(settings.SPOOL)
        tell(self.stdout, figures, options["json"])

    def _large_run(self, seconds: int) -> list[dict[str, Any]]:
        run = _run(people.create("bench", None, Role.PLANNER), seconds)
        self.stdout.write(f"Recording {seconds * RATE} requests …")
        _record(run, seconds)
        rows = sum(RecordBundle.objects.filter(run=run).values_list("rows", flat=True))
        wanted = Filter(steps=(3, 4), slower_than_s=0.05)

        def ask() -> None:
            found = Chosen(run, wanted)
            assert found.page(by="total_us", descending=True).num_rows
            assert found.together()

        cold, warm = _taken(ask), min(_taken(ask) for _ in range(5))
        grouped = min(_taken(lambda: asking.answer(run, BY_STEP_AND_LEVEL)) for _ in range(3))
        slowest = max(_taken(partial(_refuse, run, one)) for one in attempts.ALL)
        connections.close_all()
        with multiprocessing.get_context("fork").Pool(1) as pool:
            found_s, found_mb = pool.apply(_findings, (run.pk,))
        return [
            figure(
                f"a filter over {rows} records, cold and warm",
                f"{cold:.2f} s, {warm * 1000:.0f} ms",
                f"under {COLD_S:g} s, {WARM_S * 1000:.0f} ms",
                cold < COLD_S and warm < WARM_S,
            ),
            figure(
                f"SQL: {rows} records by step and level",
                f"{grouped:.2f} s",
                f"under {GROUPED_S:g} s",
                grouped < GROUPED_S,
            ),
            figure(
                f"{len(attempts.ALL)} hostile statements refused, the slowest",
                f"{slowest:.2f} s",
                f"under {REFUSED_S:g} s",
                slowest < REFUSED_S,
            ),
            figure(
                f"findings of {seconds} s, {STEPS} steps, {RESOURCES} resources, {STEPS + 1} objectives",
                f"{found_s:.1f} s, {found_mb:.0f} MB",
                f"under {MOST_S:g} s, {MOST_MB} MB",
                found_s < MOST_S and found_mb < MOST_MB,
            ),
        ]


def _rooms() -> list[dict[str, Any]]:
    """Bytes a record takes, and the cpu time that compacting takes."""
    found = []
    for rate in (60, 5_000):
        chunks = [records.to_chunk(_second(t, rate)) for t in range(60)]
        began = time.process_time()
        packed = bundles.pack([records.from_table(records.from_chunk(chunk)) for chunk in chunks], range(60))
        share = (time.process_time() - began) / 60 / (rate / 1_000)
        size = len(packed.data) / packed.rows
        found += [
            figure(f"a record at {rate} a second", f"{size:.1f} bytes", f"under {MOST_BYTES:g}", size <= MOST_BYTES),
            figure(
                f"compacting at {rate} a second, of a core per 1,000",
                f"{share:.1%}",
                f"under {MOST_CPU:.0%}" if rate > 1_000 else "",
                share < MOST_CPU if rate > 1_000 else None,
            ),
        ]
    return found


def _second(t: int, rate: int, level: float = 1.0) -> records.Records:
    """A second of requests as a run has them: a few hundred users, sizes by step, times by chance."""
    random = np.random.default_rng(t)
    made = np.zeros(rate, dtype=records.RECORD)
    made["start_us"] = np.sort(random.integers(t * 1_000_000, (t + 1) * 1_000_000, rate))
    made["scheduled_us"] = made["start_us"] - random.exponential(90, rate).astype(np.int64)
    made["user"], made["visit"] = random.integers(0, max(20, 2 * rate), rate), 1 + t // 20 + random.integers(0, 2, rate)
    made["step"], made["status"] = random.integers(0, STEPS, rate), np.where(random.random(rate) < 0.2, 201, 200)
    new = random.random(rate) < 0.02
    made["flags"] = np.where(new, records.NEW_CONNECTION, 0)
    for name in ("dns_us", "connect_us", "tls_us", "sent_us"):
        made[name] = np.where(new, random.integers(100, 400, rate), 0)
    made["bytes_out"] = 180 + 13 * made["step"]
    made["bytes_in"] = 900 + 300 * made["step"] + random.integers(0, 4, rate)
    made["first_byte_us"] = (random.lognormal(9.5, 0.6, rate) * level).astype(np.uint32)
    made["total_us"] = made["first_byte_us"] + random.integers(5, 40, rate)
    made["hidden_gap_us"], made["blind_us"] = random.exponential(40, rate), random.exponential(120, rate)
    return made


def _run(user: User, seconds: int) -> Run:
    metric = {"kind": "cpu", "capacity": 4}
    resources = [{"name": f"busy {k}", "metric": f"metric_{k}", **metric} for k in range(RESOURCES)]
    hold = seconds // LEVELS
    plan = {
        "name": "Large",
        "system": {
            "name": "Large",
            "base_url": "http://127.0.0.1:9",
            "components": [
                {"name": "part", "meters": [{"openmetrics": ["http://127.0.0.1:9/metrics"], "resources": resources}]}
            ],
        },
        "journeys": [
            {
                "name": "visit",
                "steps": [{"name": f"step {s}", "request": f"GET /{s}", "think": "1 s"} for s in range(STEPS)],
            }
        ],
        "load": [{"climb": {"from": 100, "to": 100 * LEVELS, "by": 100, "every": f"{hold} s"}}],
        "objectives": [*({"step": f"step {s}", "p95": "50 ms"} for s in range(STEPS)), {"p95": "60 ms"}],
    }
    revision = rules.create(Actor.of(user), yaml.safe_dump(plan)).current
    return Run.objects.create(revision=revision, plan_document=revision.document, state="finished", begun_at=1.0)


def _record(run: Run, seconds: int) -> None:
    """Store the run as one generator and one meter would have told it."""
    generator = Generator.objects.create(run=run, name="local-1", region="local")
    cells, users = np.arange(STEPS)[None], run.ordered.mean_users(seconds)
    for minute in range(0, seconds, 60):
        rows, some = [], []
        for t in range(minute, min(minute + 60, seconds)):
            made = _second(t, RATE, 1 + users[t] / 600)
            there = [float(users[t])]
            counted = Second(
                t, there[0], there[0] * 0.03, 0.0, 0.002, 0.001, 0.3, 0.0, 0.0, 0.0, [RATE // STEPS] * STEPS, there
            )
            folded, histograms = fold(counted, made, cells)
            rows.append(
                GeneratorSecond(
                    generator=generator,
                    second=t,
                    rollup=folded.as_dict(),
                    histograms=pack_histograms(histograms),
                    records=b"",
                    bundled=True,
                )
            )
            some.append(made)
        GeneratorSecond.objects.bulk_create(rows)
        packed = bundles.pack(some, [row.second for row in rows])
        told = {name: getattr(packed, name) for name in ("rows", "first_second", "last_second", "slowest_us", "errors")}
        RecordBundle.objects.create(run=run, content=packed.data, steps=packed.steps, **told)
    merging.merge(run.pk)
    catalogue = Catalogue()
    sources = [Source("part", "part:1", f"metric_{k}", (), "gauge") for k in range(RESOURCES)]
    noise = np.random.default_rng(2).normal(0, 0.02, (seconds + 1, RESOURCES))
    batches = [
        catalogue.batch(
            t,
            [
                (source, t + 0.004, float(4 * users[min(t, seconds - 1)] / (1_300 + 20 * k) + noise[t, k]))
                for k, source in enumerate(sources)
            ],
        )
        for t in range(seconds + 1)
    ]
    data.store(run.pk, batches)
    metering.Reader(run.pk).look()  # as it does while a run is under way


def _findings(run_id: int) -> tuple[float, float]:
    """Make the findings in this process: the time, and by how much its memory grew (MB)."""
    run = Run.objects.get(pk=run_id)
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    taken = _taken(lambda: analysing.analyse(run, state="finished", cause="done"))
    return taken, (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024


def _refuse(run: Run, statement: str) -> None:
    try:
        asking.answer(run, statement)
    except StatementError:
        return
    raise AssertionError(f"{statement} was answered")


def _taken(action: Callable[[], object]) -> float:
    began = time.perf_counter()
    action()
    return time.perf_counter() - began
