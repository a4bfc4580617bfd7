"""Metrics pushed for a system: kept for a while, and found again for a run."""

from __future__ import annotations

import time
from collections.abc import Iterator

from stonekettle.meters import otlp
from stonekettle.meters.samples import Samples
from stonekettle.plan.models import Plan
from stonekettle.server.runs.models import Run
from stonekettle.server.systems.models import Push, System

KEPT_S = 14 * 86_400.0
FRESH_S = 120.0
MARGIN_S = 75.0
"""Pushes come seldom: those just before and after a run hold its first and last values."""


def keep(system: System, body: bytes, content_type: str, encoding: str) -> int:
    """Keep a pushed request; how many points. Raises :class:`otlp.OtlpError`."""
    now = time.time()
    rows = [
        Push(
            system=system,
            service=pushed.service[:200],
            instance=pushed.instance[:200],
            received_at=now,
            latest=max(point.t for point in pushed.points),
            points=[otlp.as_row(point) for point in pushed.points],
        )
        for pushed in otlp.read(body, content_type, encoding)
        if pushed.points
    ]
    Push.objects.bulk_create(rows)
    return sum(len(row.points) for row in rows)


def during(run: Run, plan: Plan, since: float = 0.0) -> Iterator[Samples]:
    """What was pushed for the run's system while it ran, from ``since`` (s) on, on its clock."""
    if run.system_id is None or run.begun_at is None:
        return
    end = run.ended_at.timestamp() if run.ended_at else time.time()
    for component, meter in plan.meters:
        if meter.otlp is None:
            continue
        found = Push.objects.filter(
            system_id=run.system_id,
            service=meter.otlp,
            received_at__gte=run.begun_at + since - MARGIN_S,
            received_at__lte=end + MARGIN_S,
        ).order_by("received_at")
        arrivals = [arrival(push, meter.labels) for push in found]
        yield from otlp.series(component.name, arrivals, run.begun_at)


def arrival(push: Push, labels: dict[str, str]) -> otlp.Arrival:
    points = [point for point in map(otlp.from_row, push.points) if otlp.wanted(labels, point)]
    return otlp.Arrival(push.instance, push.received_at, push.latest, points)


def forget_old() -> None:
    Push.objects.filter(received_at__lt=time.time() - KEPT_S).delete()
