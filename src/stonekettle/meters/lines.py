"""Every line that can be drawn of what meters read: each metric as a whole, of each instance, and of each label.

A counter's line is its rate, a histogram's the mean of what it counted. Metrics that a resource is read from are left
out, for the resource tells them better.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from stonekettle.core.types import FloatArray
from stonekettle.meters.counts import NOBODY
from stonekettle.meters.figures import Figure, Pin, common_prefix, compute, readable, unit_shown
from stonekettle.meters.rates import START_TIME, per_second, total
from stonekettle.meters.recognise import mappings
from stonekettle.meters.samples import Readings, Samples
from stonekettle.plan.system import ResourceMapping, System

MOST_LABELS = 12
"""A metric with more label sets is not divided by them."""


@dataclass(frozen=True)
class MetricLine:
    """One line: the ``pin`` that draws it, its ``name`` in words, the instance or the labels it is ``of`` (empty: all),
    and a value per second, shape (seconds,). What ``counts`` is so many of something at a moment."""

    pin: Pin
    name: str
    of: str
    unit: str
    values: FloatArray
    counts: bool = False

    @property
    def key(self) -> str:
        return "|".join((self.pin.component, self.pin.metric, self.pin.figure, self.of))


def lines(system: System, readings: Readings, seconds: int, most: int) -> tuple[list[MetricLine], int]:
    """Every line over the run, at most so many, and how many there are beyond. Whole metrics come first, then those of
    instances, then those of labels."""
    found: dict[str, list[MetricLine]] = {"value": [], "per instance": [], "by label": []}
    for component in system.components:
        items = readings.by_component.get(component.name, ())
        metrics = {item.source.metric for item in items}
        told = _read_as_resources(metrics, mappings(metrics, component))
        prefix = common_prefix(metrics)
        by_metric: dict[str, list[Samples]] = defaultdict(list)
        for item in items:
            by_metric[item.source.metric].append(item)
        histograms = {name for name, own in by_metric.items() if own[0].source.kind == "bucket"}
        told |= {f"{name}_sum" for name in histograms}
        for metric, own in sorted(by_metric.items()):
            if component.name == NOBODY or metric in told or metric.endswith(START_TIME):
                continue
            name = readable(metric, prefix)
            if (whole := metric.removesuffix("_count")) in histograms and whole != metric:
                name = f"{readable(whole, prefix)}, count"
            if metric in histograms:
                figure = compute(Pin(component.name, metric, "mean"), readings, np.zeros(seconds))
                found["value"] += [_line(figure, name)] if figure.lines else []
                continue
            for line in _of_metric(component.name, metric, name, own, seconds):
                found[line.pin.figure].append(line)
    ordered = [line for kind in found.values() for line in kind]
    return ordered[:most], max(0, len(ordered) - most)


def _read_as_resources(metrics: set[str], known: Iterable[ResourceMapping]) -> set[str]:
    names = {name for one in known for name in (one.metric, one.capacity_metric, one.waiting_metric) if name}
    return {name.removesuffix("_total") for name in names} & metrics


def _line(figure: Figure, name: str) -> MetricLine:
    return MetricLine(figure.pin, f"{name}, mean", "", figure.unit, figure.lines[0].values)


def _of_metric(component: str, metric: str, name: str, own: Sequence[Samples], seconds: int) -> Iterator[MetricLine]:
    columns = [per_second(item, seconds) for item in own]
    unit = unit_shown(own)
    counts = own[0].source.kind == "gauge" and not unit
    yield MetricLine(Pin(component, metric), name, "", unit, total(columns), counts)
    instances: dict[str, list[FloatArray]] = defaultdict(list)
    labels: dict[str, list[FloatArray]] = defaultdict(list)
    for item, column in zip(own, columns, strict=True):
        instances[item.source.instance].append(column)
        labels[", ".join(value for _, value in item.source.labels) or "all"].append(column)
    if len(instances) > 1:
        for instance, parts in instances.items():
            yield MetricLine(Pin(component, metric, "per instance"), name, instance, unit, total(parts), counts)
    if 1 < len(labels) <= MOST_LABELS:
        for label, parts in labels.items():
            yield MetricLine(Pin(component, metric, "by label"), name, label, unit, total(parts), counts)
