"""Every metric of a system as its last run saw it: the metric shelf."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any, Literal

import numpy as np
from ninja import Schema

from stonekettle.core.types import FloatArray
from stonekettle.meters.counts import NOBODY
from stonekettle.meters.exposition import unit_of
from stonekettle.meters.figures import FigureKind, Pin, common_prefix, compute, kinds_for, readable
from stonekettle.meters.rates import START_TIME
from stonekettle.meters.samples import Samples
from stonekettle.server.runs import data
from stonekettle.server.runs.models import Run

SPARK_POINTS = 48
Column = list[float | None]


class ShelfMetric(Schema):
    """A metric of a component: what it is, the figures it offers, and its first figure over the last
    run (``spark``, evenly spaced) with its mean under load. ``name`` is the metric in words."""

    component: str
    metric: str
    name: str
    kind: Literal["counter", "gauge", "histogram"]
    help: str
    unit: str
    instances: int
    series: int
    figures: list[FigureKind]
    spark: Column
    spark_unit: str
    mean: float | None


class Shelf(Schema):
    run_id: int | None
    metrics: list[ShelfMetric]


def of(run: Run | None) -> Shelf:
    """The shelf from a run; empty before there was one."""
    if run is None:
        return Shelf(run_id=None, metrics=[])
    measured = data.load(run)
    throughput = measured.run.succeeded.astype(np.float64)
    helps = _helps(run)
    found = []
    for component, items in sorted(measured.readings.by_component.items()):
        if component == NOBODY:
            continue
        metrics = {item.source.metric for item in items if not item.source.metric.endswith(START_TIME)}
        prefix = common_prefix(metrics)
        for metric in sorted(metrics):
            own = [item for item in items if item.source.metric == metric]
            figures = kinds_for(own)
            spark, unit = _spark(Pin(component, metric, _first_drawn(figures)), measured, throughput)
            under_load = spark[np.isfinite(spark) & (throughput > 0)]
            found.append(
                ShelfMetric(
                    component=component,
                    metric=metric,
                    name=readable(metric, prefix),
                    kind=_kind(own),
                    help=helps.get((component, metric), ""),
                    unit=unit_of(metric),
                    instances=len({item.source.instance for item in own}),
                    series=len(own),
                    figures=list(figures),
                    spark=thinned(spark, SPARK_POINTS),
                    spark_unit=unit,
                    mean=float(under_load.mean()) if under_load.size else None,
                )
            )
    return Shelf(run_id=run.pk, metrics=found)


def thinned(values: FloatArray, points: int) -> Column:
    """Means of even stretches; None where nothing is known."""
    if not values.size:
        return []
    parts = np.array_split(values, min(points, values.size))
    means = [float(part[np.isfinite(part)].mean()) if np.isfinite(part).any() else math.nan for part in parts]
    return [None if math.isnan(mean) else mean for mean in means]


def _kind(own: Sequence[Samples]) -> Literal["counter", "gauge", "histogram"]:
    kind = own[0].source.kind
    return "histogram" if kind == "bucket" else kind


def _first_drawn(figures: tuple[FigureKind, ...]) -> FigureKind:
    return "value" if figures[0] == "by label" else figures[0]


def _spark(pin: Pin, measured: data.Measured, throughput: FloatArray) -> tuple[FloatArray, str]:
    figure = compute(pin, measured.readings, throughput)
    if figure.lines:
        return figure.lines[0].values, figure.unit
    if figure.shares is not None:
        # A histogram's line: the middle of its distribution, by the bucket that holds it.
        middle = np.argmax(np.cumsum(np.nan_to_num(figure.shares), axis=0) >= 0.5, axis=0)
        bounds = np.array(figure.bounds)
        known = np.isfinite(figure.shares).all(axis=0)
        return np.where(known & np.isfinite(bounds[middle]), bounds[middle], np.nan), figure.unit
    return np.full(throughput.size, np.nan), ""


def _helps(run: Run) -> dict[tuple[str, str], str]:
    reports: list[dict[str, Any]] = run.meter_reports
    return {
        (report["component"], metric): told["text"]
        for report in reports
        for metric, told in report.get("helps", {}).items()
    }
