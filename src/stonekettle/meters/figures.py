"""Derived figures without a formula language: what people compute by hand from two metrics.

``value``        the metric summed over instances and labels (counters by their rate)
``per step``  a counter's rate over the system's throughput (forced flow law, Denning & Buzen 1978)
``per instance`` one line for each instance
``by label``     one line for each set of labels
``largest``      the greatest instance
``ratio``        the metric over another one
``share``        the component's part of the metric over all components
``spread``       a histogram's distribution over time
``mean``         a histogram's mean over time, by its sum and its count
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from stonekettle.core.types import FloatArray
from stonekettle.meters.exposition import unit_of
from stonekettle.meters.rates import largest, per_second, total
from stonekettle.meters.samples import Readings, Samples

FigureKind = Literal["value", "per step", "per instance", "by label", "largest", "ratio", "share", "spread", "mean"]
MAX_LINES = 6
WINDOW_S = 5
"""Ratios are of sums over so many seconds: a single second holds too few events."""


@dataclass(frozen=True)
class Pin:
    """A figure of a metric of a component, in ``ratio`` over the other one."""

    component: str
    metric: str
    figure: FigureKind = "value"
    other_component: str = ""
    other_metric: str = ""


@dataclass(frozen=True)
class Line:
    """One series of a figure, a value per second."""

    label: str
    values: FloatArray


@dataclass(frozen=True)
class Figure:
    """A figure over the run. ``unit`` may be empty. A spread has ``bounds`` (upper, increasing) and
    ``shares`` of shape (buckets, seconds) instead of lines."""

    pin: Pin
    unit: str
    lines: tuple[Line, ...]
    bounds: tuple[float, ...] = ()
    shares: FloatArray | None = None


def compute(pin: Pin, readings: Readings, throughput: FloatArray) -> Figure:
    """The pin's figure; without lines where the run has not its metric. ``throughput`` (1/s) has one
    entry per second of the run."""
    seconds = throughput.shape[0]
    items = _of(readings, pin.component, pin.metric)
    if not items:
        return Figure(pin, "", ())
    if pin.figure == "spread":
        return _spread(pin, items, seconds)
    if pin.figure == "mean":
        return _mean(pin, readings, items, seconds)
    items = [item for item in items if item.source.kind != "bucket"]
    unit = unit_shown(items)
    columns = {id(item): per_second(item, seconds) for item in items}

    def summed(chosen: Iterable[Samples]) -> FloatArray:
        return total([columns[id(item)] for item in chosen])

    if not items:
        return Figure(pin, "", ())
    by_instance = _grouped(items, lambda item: item.source.instance)
    name = pin.component
    if pin.figure == "per instance":
        return Figure(pin, unit, _most([Line(key, summed(own)) for key, own in by_instance.items()]))
    if pin.figure == "by label":
        by_label = _grouped(items, lambda item: ", ".join(value for _, value in item.source.labels) or "all")
        return Figure(pin, unit, _most([Line(key, summed(own)) for key, own in by_label.items()]))
    if pin.figure == "largest":
        return Figure(pin, unit, (Line(name, largest([summed(own) for own in by_instance.values()])),))
    value = summed(items)
    if pin.figure == "per step":
        amount = "" if _is_count(items) else unit.removesuffix("/s")
        return Figure(pin, f"{amount} per step".strip(), (Line(name, _ratio(value, throughput)),))
    if pin.figure == "ratio":
        others = [o for o in _of(readings, pin.other_component, pin.other_metric) if o.source.kind != "bucket"]
        if not others:
            return Figure(pin, "", ())
        other = total([per_second(item, seconds) for item in others])
        own_unit, other_unit = (text.removesuffix("/s") for text in (unit, unit_shown(others)))
        unit = own_unit if own_unit != other_unit else ""
        return Figure(pin, unit, (Line(name, _ratio(value, other)),))
    if pin.figure == "share":
        everywhere = [
            item
            for items_there in readings.by_component.values()
            for item in items_there
            if item.source.metric == pin.metric and item.source.kind != "bucket"
        ]
        return Figure(pin, "share", (Line(name, _ratio(value, total([per_second(i, seconds) for i in everywhere]))),))
    return Figure(pin, unit, (Line(name, value),))


def kinds_for(items: Sequence[Samples]) -> tuple[FigureKind, ...]:
    """The figures that make sense for a metric's series, the most telling first."""
    kinds = {item.source.kind for item in items}
    if kinds == {"bucket"}:
        return ("spread", "mean")
    found: list[FigureKind] = ["per step", "value"] if kinds == {"counter"} else ["value"]
    if len({item.source.labels for item in items}) > 1:
        found.insert(0 if kinds == {"gauge"} else len(found), "by label")
    if len({item.source.instance for item in items}) > 1:
        found += ["per instance", "largest"]
    return (*found, "ratio", "share")


def readable(metric: str, prefix: str = "") -> str:
    """A metric's name as words, without its unit and the ``prefix`` it shares with others."""
    words = metric.replace(".", "_").removesuffix("_total")
    unit = unit_of(words)
    bare = words.replace(f"_{unit}", "") if unit else words
    return (bare.removeprefix(f"{prefix}_") if prefix else bare).replace("_", " ")


def title(pin: Pin, readings: Readings) -> str:
    """What a pin's row is called."""

    def name(component: str, metric: str) -> str:
        metrics = {item.source.metric for item in readings.by_component.get(component, ())}
        return readable(metric, common_prefix(metrics))

    own = f"{pin.component} {name(pin.component, pin.metric)}"
    if pin.figure == "ratio":
        other = name(pin.other_component, pin.other_metric)
        return f"{own} per {other if pin.other_component == pin.component else f'{pin.other_component} {other}'}"
    return own if pin.figure in ("value", "spread") else f"{own}, {pin.figure}"


def common_prefix(metrics: Iterable[str]) -> str:
    """The first word that more than half of a component's metrics begin with; empty without one."""
    names = [metric.replace(".", "_") for metric in metrics]
    first = Counter(name.partition("_")[0] for name in names if "_" in name)
    word, count = first.most_common(1)[0] if first else ("", 0)
    return word if count > 2 and count > len(names) / 2 else ""


def _of(readings: Readings, component: str, metric: str) -> list[Samples]:
    return [item for item in readings.by_component.get(component, ()) if item.source.metric == metric]


def unit_shown(items: Sequence[Samples]) -> str:
    """The unit of the value: a counter's is per second."""
    unit = {"seconds": "s", "bytes": "B", "ratio": "share"}.get(found := unit_of(items[0].source.metric), found)
    return f"{unit}/s" if items[0].source.kind == "counter" else unit


def _is_count(items: Sequence[Samples]) -> bool:
    return unit_of(items[0].source.metric) == ""


def _grouped(items: Iterable[Samples], key: Callable[[Samples], str]) -> dict[str, list[Samples]]:
    found: dict[str, list[Samples]] = defaultdict(list)
    for item in items:
        found[key(item)].append(item)
    return found


def _most(lines: Sequence[Line]) -> tuple[Line, ...]:
    """The largest lines by their mean, so many as one row can show."""

    def mean(line: Line) -> float:
        known = line.values[np.isfinite(line.values)]
        return float(known.mean()) if known.size else 0.0

    return tuple(sorted(lines, key=mean, reverse=True)[:MAX_LINES])


def _ratio(upper: FloatArray, lower: FloatArray) -> FloatArray:
    """Ratio of sums over the last few seconds, NaN where the upper is unknown or the lower zero."""
    known = np.isfinite(upper) & np.isfinite(lower)
    window = np.ones(WINDOW_S)

    def recent(values: FloatArray) -> FloatArray:
        return np.convolve(np.where(known, values, 0.0), window)[: values.size]

    below = recent(lower)
    result: FloatArray = np.full(upper.size, np.nan)
    np.divide(recent(upper), below, out=result, where=known & (below > 0))
    return result


def _mean(pin: Pin, readings: Readings, items: Sequence[Samples], seconds: int) -> Figure:
    """The mean of a histogram's events of the last few seconds; without a line where its sum or count is not told."""
    sums, counts = (_of(readings, pin.component, f"{pin.metric}_{part}") for part in ("sum", "count"))
    if not sums or not counts:
        return Figure(pin, "", ())
    upper, lower = (total([per_second(item, seconds) for item in own]) for own in (sums, counts))
    return Figure(pin, unit_shown(items), (Line(pin.component, _ratio(upper, lower)),))


def _spread(pin: Pin, items: Sequence[Samples], seconds: int) -> Figure:
    """Share of a second's events in each bucket, from cumulative counts."""
    buckets = [item for item in items if item.source.kind == "bucket"]
    by_bound: dict[float, list[FloatArray]] = defaultdict(list)
    for item in buckets:
        if item.source.bound is not None:
            by_bound[item.source.bound].append(per_second(item, seconds))
    if not by_bound:
        return Figure(pin, "", ())
    bounds = sorted(by_bound)
    cumulative = np.vstack([total(by_bound[bound]) for bound in bounds])
    counts = np.clip(np.diff(cumulative, axis=0, prepend=0.0), 0.0, None)
    all_events = counts.sum(axis=0)
    shares = np.divide(counts, all_events, out=np.full(counts.shape, np.nan), where=all_events > 0)
    return Figure(pin, unit_shown(buckets), (), tuple(bounds), shares)
