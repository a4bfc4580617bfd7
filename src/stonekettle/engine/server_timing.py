"""What do responses themselves say of the time spent in each component (``Server-Timing``)?

Reading headers costs the generator time, so a sample of requests is read, spread over the second.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from stonekettle.engine.evenly import Evenly
from stonekettle.meters.samples import Samples, Source
from stonekettle.plan.models import Plan

PER_SECOND = 100
"""So many responses a second have their headers read, by each generator."""
INSTANCE = "responses"
METRIC = "server_timing_seconds"
_HEADER = b"server-timing:"


class TimingSampler:
    """Chooses the requests whose headers are read, and adds up what they say."""

    def __init__(self, names: Sequence[str]) -> None:
        self.wanted = bool(names)
        self._names = frozenset(names)
        self._budget = Evenly(PER_SECOND)
        self.take = self._budget.take
        """Whether to read the request that starts so far (0..1) into this second."""
        self._sums: dict[str, dict[str, list[float]]] = {}

    def add(self, step: int, lines: Sequence[bytes]) -> None:
        for line in lines:
            if line[: len(_HEADER)].lower() == _HEADER:
                for name, seconds in parse(line[len(_HEADER) :].decode("latin-1")):
                    if name in self._names:
                        entry = self._sums.setdefault(name, {}).setdefault(str(step), [0, 0.0])
                        entry[0] += 1
                        entry[1] += seconds

    def close_second(self) -> dict[str, dict[str, list[float]]]:
        """By name and step number: how many responses told it, and the sum of its seconds."""
        self._budget.close_second()
        found, self._sums = self._sums, {}
        return found


def parse(value: str) -> list[tuple[str, float]]:
    """Names and durations (s) of a ``Server-Timing`` value; entries without a duration are left out."""
    found = []
    for entry in value.split(","):
        name, *parameters = (part.strip() for part in entry.split(";"))
        for parameter in parameters:
            key, _, amount = parameter.partition("=")
            if key.strip().lower() == "dur":
                try:
                    found.append((name, float(amount.strip().strip('"')) / 1000))
                except ValueError:
                    break
    return found


def names_of(plan: Plan) -> tuple[str, ...]:
    """The entries any of the plan's meters wants."""
    return tuple(meter.server_timing for _, meter in plan.meters if meter.server_timing is not None)


def series(plan: Plan, rollups: Sequence[Mapping[str, Any]]) -> tuple[Samples, ...]:
    """Mean time in each component per second and step, from the rollups of all generators."""
    sums: dict[tuple[str, int], dict[int, tuple[float, float]]] = {}
    for rollup in rollups:
        for name, steps in rollup.get("timings", {}).items():
            for step, (count, total) in steps.items():
                by_second = sums.setdefault((name, int(step)), {})
                before = by_second.get(rollup["second"], (0.0, 0.0))
                by_second[rollup["second"]] = (before[0] + count, before[1] + total)
    steps_of = [step.name for _, step in plan.steps]
    found = []
    for component, meter in plan.meters:
        for (name, step), by_second in sorted(sums.items()):
            if name != meter.server_timing or step >= len(steps_of):
                continue
            seconds = sorted(by_second)
            source = Source(component.name, INSTANCE, METRIC, (("step", steps_of[step]),), "gauge")
            times = np.array(seconds, dtype=np.float64) + 1.0
            means = np.array([by_second[s][1] / by_second[s][0] for s in seconds])
            found.append(Samples(source, times, means))
    return tuple(found)
