"""Where the time of requests went among the components of a system, by what their servers told of single requests."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

import numpy as np
from ninja import Schema

from stonekettle.core.traces import Span, Stay, by_service, mean_time, stays_of
from stonekettle.core.types import IntArray
from stonekettle.meters.otlp_traces import PushedSpan
from stonekettle.plan.models import Plan
from stonekettle.server.runs import steps, traces
from stonekettle.server.runs.models import Run
from stonekettle.server.runs.search import Chosen, Filter

OUTSIDE = ""
"""What passed outside of everything that told of itself: the way to and fro, and waiting before it."""
NS = 1e-9


class ComponentMean(Schema):
    """The mean time (s) that the step's main request spent in a component itself, and its interval (95 %; null where
    too few requests were told of); "" stands for outside of all that told. ``traced`` requests were looked at."""

    name: str
    mean_s: float
    low_s: float | None
    high_s: float | None
    traced: int


class PathStay(Schema):
    """A stay of a request on its way, in the order of the way: ``depth`` others are around it, ``own_s`` of its time is
    in none within. ``start_s`` is since its request's start, moved where a server's clock differs from ours."""

    part: int
    component: str
    instance: str
    name: str
    depth: int
    start_s: float
    length_s: float
    own_s: float
    failed: bool


def by_level(run: Run, step: int, place: IntArray) -> dict[int, list[ComponentMean]]:
    """By level the means of each component, the longest first, from requests that succeeded and were in the sample;
    ``place`` is the level of each second, 0 for none."""
    told = traces.sample_of(run, step)
    if not told:
        return {}
    wanted = Filter(steps=(step,), seconds=place > 0, failed=False, parts=(0,))
    requests = Chosen(run, wanted)
    if not requests.total:
        return {}
    whole_s, users, visits = requests.total_us / 1e6, requests.column("user"), requests.column("visit")
    level = place[requests.column("second").astype(np.int64)]
    keys = users.astype(np.int64) << 32 | visits.astype(np.int64)
    once, counts = np.unique(keys, return_counts=True)
    singly = set(once[counts == 1].tolist())  # a step walked twice in a visit has one trace for both
    wanted_keys = np.array([user << 32 | visit for user, visit, _ in told], dtype=np.int64)
    rows_of: dict[int, list[tuple[float, dict[str, float]]]] = {}
    for row in np.flatnonzero(np.isin(keys, wanted_keys)).tolist():
        key = int(keys[row])
        own = told[key >> 32, key & 0xFFFFFFFF, step]
        main = traces.by_part(key >> 32, step, own).get(0) if key in singly else None
        if main:
            rows_of.setdefault(int(level[row]), []).append((float(whole_s[row]), _spent(run.plan, main)))
    return {number: _means(rows, float(whole_s[level == number].mean())) for number, rows in rows_of.items()}


def _means(rows: Sequence[tuple[float, Mapping[str, float]]], mean_whole_s: float) -> list[ComponentMean]:
    whole = np.array([whole_s for whole_s, _ in rows])
    names = sorted({name for _, spent in rows for name in spent})
    parts = {name: np.array([spent.get(name, 0.0) for _, spent in rows]) for name in names}
    parts[OUTSIDE] = np.maximum(0.0, whole - sum(parts.values(), np.zeros_like(whole)))
    found = []
    for name, part in parts.items():
        mean = mean_time(part, whole, mean_whole_s)
        found.append(
            ComponentMean(
                name=name,
                mean_s=mean.mean_s,
                low_s=steps.known(mean.low_s),
                high_s=steps.known(mean.high_s),
                traced=len(rows),
            )
        )
    return sorted(found, key=lambda one: (one.name == OUTSIDE, -one.mean_s))


def path_of(
    run: Run, user: int, step: int, spans: Sequence[PushedSpan], whole_s: Mapping[int, float]
) -> list[PathStay]:
    """The way of a step's requests through the components, one request after the other; ``whole_s`` is how long each
    took."""
    found = []
    for part, own in sorted(traces.by_part(user, step, spans).items()):
        stays = _stays(run.plan, own)
        first, last = min(stay.span.start_s for stay in stays), max(stay.span.end_s for stay in stays)
        # Its way to the first server is taken to be as long as the way back: clocks do not tell.
        before = max(0.0, (whole_s.get(part, math.nan) - (last - first)) / 2) if part in whole_s else 0.0
        instances = {span.id: span.instance for span in own}
        found += [
            PathStay(
                part=part,
                component=stay.span.service,
                instance=instances[stay.span.id],
                name=stay.span.name,
                depth=stay.depth,
                start_s=stay.span.start_s - first + before,
                length_s=stay.span.length_s,
                own_s=stay.own_s,
                failed=stay.span.failed,
            )
            for stay in stays
        ]
    return found


def failing(run: Run, spans: Sequence[PushedSpan]) -> str | None:
    """The component in which a request failed first, the innermost that says so; None where none does."""
    failed = [stay for stay in _stays(run.plan, spans) if stay.span.failed]
    return max(failed, key=lambda stay: (stay.depth, -stay.span.end_s)).span.service if failed else None


def _spent(plan: Plan, spans: Sequence[PushedSpan]) -> dict[str, float]:
    return by_service(_stays(plan, spans))


def _stays(plan: Plan, spans: Sequence[PushedSpan]) -> list[Stay]:
    """Spans in their places, on a clock that begins with the first of them; services by their components' names."""
    begun = min(span.start_ns for span in spans)
    names = _components(plan)
    return stays_of(
        Span(
            span.id,
            span.parent,
            names.get(span.service, span.service),
            span.name,
            (span.start_ns - begun) * NS,
            (span.end_ns - begun) * NS,
            span.failed,
        )
        for span in spans
    )


def _components(plan: Plan) -> dict[str, str]:
    """The component that a service's name stands for, where they are not called the same."""
    return {meter.otlp: component.name for component, meter in plan.meters if meter.otlp is not None}
