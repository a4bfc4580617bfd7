"""What does a metrics page say? OpenMetrics, the older text format, and the proxy's status page.

A page is read in full once, by the formats' reference parser. After that the heads of its lines
(name and labels) are known, and reading it again each second costs a look-up and a number a line.
"""

from __future__ import annotations

import math
import re
from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Literal

from prometheus_client import Metric as Family
from prometheus_client.openmetrics.parser import text_string_to_metric_families as parse_openmetrics
from prometheus_client.parser import text_string_to_metric_families as parse_text

Kind = Literal["counter", "gauge", "bucket"]
Labels = tuple[tuple[str, str], ...]

MAX_NAME = 500
MAX_LABELS = 8_000
MAX_SPLIT = 256
"""A metric with more label sets than this is kept as one sum only."""
MAX_SERIES = 5_000
"""A page with more series than this keeps every metric as one sum only."""
_IGNORED = -1
_UNITS = ("seconds", "bytes", "ratio", "celsius", "volts", "joules", "meters")


class ExpositionError(ValueError):
    """A page that is not a metrics page."""


@dataclass(frozen=True, slots=True)
class Series:
    """What one value is of. Counters are named without ``_total``; a ``bucket`` is a cumulative
    count with its upper bound in the label ``le``."""

    metric: str
    labels: Labels
    kind: Kind


@dataclass(frozen=True)
class MetricHelp:
    """What a page says of a metric: a sentence and a unit, either of which may be empty."""

    text: str
    unit: str


@dataclass(frozen=True)
class Page:
    """The values of a page by series; ``newest`` is its youngest explicit time stamp (s since the
    epoch), None where it gives none."""

    values: Mapping[Series, float]
    newest: float | None = None


@dataclass(frozen=True, slots=True)
class _Sample:
    name: str
    series: Series
    value: float
    timestamp: float | None


class PageReader:
    """Reads one endpoint's page again and again. ``labels`` choose the samples that count; ``left_out`` says
    which cannot be kept, and why."""

    def __init__(self, labels: Mapping[str, str] | None = None) -> None:
        self._chosen = dict(labels or {})
        self._heads: dict[str, int] = {}
        self._series: list[Series] = []
        self.helps: dict[str, MetricHelp] = {}
        self.left_out = ""

    def read(self, text: str, content_type: str) -> Page:
        """The page's values. Raises :class:`ExpositionError` when malformed."""
        return self._read_again(text, content_type) or self._read_in_full(text, content_type)

    def _read_again(self, text: str, content_type: str) -> Page | None:
        """By known line heads; None when a line is new."""
        heads = self._heads
        if not heads or ("openmetrics" in content_type and not text.rstrip().endswith("# EOF")):
            return None
        sums: dict[int, float] = {}
        try:
            for line in text.split("\n"):
                if not line or line[0] == "#":
                    continue
                head, _, value = line.rpartition(" ")
                place = heads[head]
                if place != _IGNORED:
                    number = float(value)
                    if number == number:
                        sums[place] = sums.get(place, 0.0) + number
        except (KeyError, ValueError):
            return None
        return Page({self._series[place]: value for place, value in sums.items()})

    def _read_in_full(self, text: str, content_type: str) -> Page:
        families = _families(text, content_type)
        self.helps = {_stem(f.name): MetricHelp(f.documentation, f.unit or unit_of(f.name)) for f in families}
        samples = [sample for family in families for sample in _samples(family)]
        faults = Counter(fault for s in samples if (fault := unkeepable(s.series.metric, s.series.labels)))
        self.left_out = "; ".join(f"{count} series left out: {fault}" for fault, count in faults.items())
        counted = [sample if self._counts(sample) else None for sample in samples]
        sums: dict[Series, float] = {}
        kept = _split([s.series for s in counted if s is not None])
        for sample in counted:
            if sample is not None and not math.isnan(sample.value):
                key = kept[sample.series]
                sums[key] = sums.get(key, 0.0) + sample.value
        self._learn(text, samples, [None if s is None else kept[s.series] for s in counted])
        stamps = [s.timestamp for s in samples if s.timestamp is not None]
        return Page(sums, max(stamps, default=None))

    def _counts(self, sample: _Sample) -> bool:
        labels = dict(sample.series.labels)
        if unkeepable(sample.series.metric, sample.series.labels):
            return False
        return not sample.name.endswith("_created") and all(labels.get(k) == v for k, v in self._chosen.items())

    def _learn(self, text: str, samples: list[_Sample], kept: list[Series | None]) -> None:
        """Remember each line's head; not for pages with time stamps, exemplars or reordered lines."""
        self._heads, self._series = {}, list(dict.fromkeys(s for s in kept if s is not None))
        places = {series: i for i, series in enumerate(self._series)}
        lines = [line for line in text.split("\n") if line and line[0] != "#"]
        if len(lines) != len(samples):
            return
        heads: dict[str, int] = {}
        for line, sample, series in zip(lines, samples, kept, strict=True):
            head, _, value = line.rpartition(" ")
            # Another value at the end is a time stamp's or an exemplar's.
            if head.partition("{")[0] != sample.name or not _is_value(value, sample.value):
                return
            heads[head] = _IGNORED if series is None else places[series]
        self._heads = heads


def parse(text: str, content_type: str) -> Page:
    """A page read once. Raises :class:`ExpositionError` when malformed."""
    return PageReader().read(text, content_type)


def unkeepable(metric: str, labels: Iterable[tuple[str, str]]) -> str:
    """Why a series cannot be kept; empty where it can."""
    if len(metric) > MAX_NAME:
        return f"its metric's name is over {MAX_NAME} characters long"
    length = 0
    for text in (metric, *(part for pair in labels for part in pair)):
        length += len(text)
        if "\0" in text:
            return "a NUL character stands in its name or labels"
    return f"its labels are over {MAX_LABELS} characters long" if length > MAX_LABELS else ""


def unit_of(name: str) -> str:
    """The unit a metric's name ends with, by the formats' own habit."""
    stem = _stem(name).removesuffix("_sum")
    return next((unit for unit in _UNITS if stem.endswith(f"_{unit}")), "")


def _stem(name: str) -> str:
    return name.removesuffix("_total")


def _families(text: str, content_type: str) -> list[Family]:
    if status := _STATUS_PAGE.match(text):
        return list(_status_families(status))
    read = parse_openmetrics if "openmetrics" in content_type else parse_text
    try:
        return list(read(text))
    except (ValueError, KeyError, IndexError) as error:
        raise ExpositionError(f"this is not a metrics page: {error}") from error


def _samples(family: Family) -> Iterable[_Sample]:
    """The samples of a family in the page's order."""
    for sample in family.samples:
        name = sample.name
        labels = tuple(sorted(sample.labels.items()))
        kind: Kind = "gauge"
        metric = _stem(name)
        if family.type == "counter" or name.endswith("_total"):
            kind = "counter"
        elif name.endswith("_bucket") and "le" in sample.labels:
            kind, metric = "bucket", name.removesuffix("_bucket")
        elif family.type in ("histogram", "summary") and name.endswith(("_sum", "_count")):
            kind = "counter"
        stamp = None if sample.timestamp is None else float(sample.timestamp)
        yield _Sample(name, Series(metric, labels, kind), sample.value, stamp)


def _split(series: list[Series]) -> dict[Series, Series]:
    """Each series as it is kept: by itself, or as part of its metric's sum where there are many."""
    sets: dict[str, set[Labels]] = {}
    for item in series:
        sets.setdefault(item.metric, set()).add(_without_bound(item.labels))
    crowded = len(set(series)) > MAX_SERIES
    kept = {}
    for item in series:
        if crowded or len(sets[item.metric]) > MAX_SPLIT:
            bound = tuple(pair for pair in item.labels if item.kind == "bucket" and pair[0] == "le")
            kept[item] = Series(item.metric, bound, item.kind)
        else:
            kept[item] = item
    return kept


def _without_bound(labels: Labels) -> Labels:
    return tuple(pair for pair in labels if pair[0] != "le")


def _is_value(text: str, value: float) -> bool:
    try:
        number = float(text)
    except ValueError:
        return False
    return number == value or (math.isnan(number) and math.isnan(value))


_STATUS_PAGE = re.compile(
    r"Active connections: (?P<active>\d+)\s+server accepts handled requests[^\n]*\n"
    r"\s*(?P<accepted>\d+) (?P<handled>\d+) (?P<requests>\d+)[^\n]*\n"
    r"Reading: (?P<reading>\d+) Writing: (?P<writing>\d+) Waiting: (?P<waiting>\d+)"
)
"""The status page web proxies answer in plain text instead of a metrics page."""
_STATUS_COUNTERS = {"accepted": "Connections accepted", "handled": "Connections handled", "requests": "Requests"}
_STATUS_GAUGES = {
    "active": "Connections open",
    "reading": "Connections sending a request",
    "writing": "Connections being answered",
    "waiting": "Connections kept open",
}


def _status_families(found: re.Match[str]) -> Iterable[Family]:
    for kind, names in (("counter", _STATUS_COUNTERS), ("gauge", _STATUS_GAUGES)):
        for part, text in names.items():
            name = "proxy_requests" if part == "requests" else f"proxy_connections_{part}"
            family = Family(name, text, kind)
            family.add_sample(f"{name}_total" if kind == "counter" else name, {}, float(found[part]))
            yield family
