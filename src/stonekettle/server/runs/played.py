"""Runs of an experiment played in virtual time against the practice system's twin, for a page that is not empty.

They go through the same writers as measured ones (orders, seconds, records, samples, findings) and are marked as
simulated wherever they appear.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime, timedelta

import numpy as np
from django.utils import timezone

from stonekettle.core.run_data import ResourceSeries, RunData
from stonekettle.core.types import FloatArray
from stonekettle.engine import orderbook, records
from stonekettle.engine.lifecycle import RunState
from stonekettle.engine.rollup import Second, fold, pack_histograms
from stonekettle.engine.script import cell_numbers
from stonekettle.engine.strategies import PLAN
from stonekettle.meters.samples import Catalogue, Source
from stonekettle.plan.models import Plan
from stonekettle.practice import config
from stonekettle.practice.twin import Twin, journeys_of
from stonekettle.server.experiments.models import Experiment
from stonekettle.server.runs import analysing, data
from stonekettle.server.runs.models import Generator, GeneratorSecond, Run, RunOrder, Transition
from stonekettle.server.runs.rules import target_of

GENERATOR = "twin"
CAUSE = "The load profile has ended."
_METRICS = {
    "cpu": ("quillport_cpu_seconds", "counter", "quillport_cpu_cores"),
    "disk": ("quillport_disk_busy_seconds", "counter", "quillport_disk_devices"),
    "connections": ("quillport_pool_connections_in_use", "gauge", "quillport_pool_connections_limit"),
}
"""How the practice system's meters tell a resource: its use, and how much there is of it."""
_WAITING = "quillport_pool_connections_waiting"


def play(experiment: Experiment, begun: datetime, seed: int) -> Run:
    """A finished run of the newest revision that began at ``begun``."""
    revision = experiment.current
    run = Run(revision=revision, system=experiment.system, plan_document=revision.document, simulated=True)
    plan = run.plan
    run.target, run.begun_at, run.state, run.cause = target_of(plan), begun.timestamp(), "finished", CAUSE
    twin = Twin(config.quillport(), journeys_of(plan), seed=seed)
    seen = twin.run(plan.planned)
    run.ended_at = begun + timedelta(seconds=seen.seconds)
    run.save()
    Run.objects.filter(pk=run.pk).update(queued_at=begun)
    _tell_story(run, begun, plan)
    _store_seconds(run, plan, seen, twin.done)
    _store_samples(run, seen)
    analysing.analyse(run, state="finished", cause=CAUSE)
    return run


def _tell_story(run: Run, begun: datetime, plan: Plan) -> None:
    moves = [
        (RunState.RUNNING, 0.0, "Played in virtual time against a simulation of the practice system."),
        (RunState.DRAINING, plan.planned.duration_s, CAUSE),
        (RunState.FINISHED, plan.planned.duration_s, CAUSE),
    ]
    for state, at_s, cause in moves:
        made = Transition.objects.create(run=run, state=state.value, cause=cause)
        Transition.objects.filter(pk=made.pk).update(at=begun + timedelta(seconds=at_s))
    RunOrder.objects.bulk_create(
        RunOrder(run=run, number=order.number, order=orderbook.to_plain(order), who=PLAN)
        for order in plan.planned.orders
    )


def _store_seconds(run: Run, plan: Plan, seen: RunData, done: Sequence[tuple[float, ...]]) -> None:
    generator = Generator.objects.create(
        run=run, name=GENERATOR, region="", label="simulated", state=Generator.State.FINISHED
    )
    cells = cell_numbers(plan)
    rows = []
    for second, made in _records(done, seen.seconds):
        told = Second(
            second=second,
            users=float(seen.users[second]),
            in_flight=float(seen.in_flight[second]),
            overdue=0.0,
            start_gap_s=float(seen.start_gap_s[second]),
            lag_p99_s=0.0,
            cpu=float(seen.reasons.cpu[second]),
            run_queue=0.0,
            stolen=0.0,
            switches=0.0,
            started=seen.started[second].tolist(),
            present=[float(seen.users[second])],
            arrived=[0],
            turned_away=[0],
        )
        folded, histograms = fold(told, made, cells)
        rows.append(
            GeneratorSecond(
                generator=generator,
                second=second,
                rollup=folded.as_dict(),
                histograms=pack_histograms(histograms),
                records=records.to_chunk(made),
            )
        )
    GeneratorSecond.objects.bulk_create(rows)


def _records(done: Sequence[tuple[float, ...]], seconds: int) -> Iterator[tuple[int, records.Records]]:
    """The records of each second, in order; a run without an end has none in some."""
    start, end, _, step, failed, user, visit = np.array(done, dtype=np.float64).reshape(-1, 7).T
    made = np.zeros(len(start), dtype=records.RECORD)
    made["start_us"] = made["scheduled_us"] = start * 1e6
    made["total_us"] = made["first_byte_us"] = (end - start) * 1e6
    made["user"], made["visit"], made["step"] = user, visit, step
    made["error"], made["status"] = failed > 0, np.where(failed > 0, 503, 200)
    of_second = np.minimum(end.astype(np.int64), seconds - 1)
    for second in range(seconds):
        yield second, made[of_second == second]


def _store_samples(run: Run, seen: RunData) -> None:
    """What meters would have read at the edges of the seconds."""
    columns = [column for resource in seen.resources for column in _columns(resource)]
    catalogue = Catalogue()
    batches = [
        catalogue.batch(edge, [(source, float(edge), float(values[edge])) for source, values in columns])
        for edge in range(seen.seconds + 1)
    ]
    data.store(run.pk, batches)


def _columns(resource: ResourceSeries) -> Iterator[tuple[Source, FloatArray]]:
    """A resource as its metrics, each with a value at every edge: a counter's sum so far, a gauge's of the second
    before."""
    used, kind, limit = _METRICS[resource.name]

    def source(metric: str, what: str) -> Source:
        instance = f"{resource.component}:1"
        return Source(resource.component, instance, metric, (), "counter" if what == "counter" else "gauge")

    busy = resource.utilisation * resource.capacity
    at_edges = np.concatenate([[0.0], np.cumsum(busy) if kind == "counter" else busy])
    yield source(used, kind), at_edges
    yield source(limit, "gauge"), np.concatenate([resource.capacity[:1], resource.capacity])
    if resource.waiting is not None:
        yield source(_WAITING, "gauge"), np.concatenate([[0.0], resource.waiting])


def days_ago(days: float) -> datetime:
    return timezone.now() - timedelta(days=days)
