"""Metrics pushed to us: OTLP over HTTP, as protobuf or JSON (OpenTelemetry protocol 1.x)."""

from __future__ import annotations

import gzip
import io
import json
import math
import zlib
from collections import defaultdict
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from statistics import median
from typing import Any, TypeVar

import numpy as np
from google.protobuf import json_format
from google.protobuf.message import DecodeError, Message
from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceRequest
from opentelemetry.proto.common.v1.common_pb2 import KeyValue
from opentelemetry.proto.metrics.v1.metrics_pb2 import AggregationTemporality, Metric

from stonekettle.meters.exposition import Kind, unkeepable
from stonekettle.meters.samples import Samples, Source

MAX_BODY = 8_000_000
UNSET_SERVICE = "unknown_service"
CLOCK_OFF_S = 1.5
"""Time stamps this far from their arrival come from another clock and are moved onto ours."""
M = TypeVar("M", bound=Message)
_DELTA = AggregationTemporality.AGGREGATION_TEMPORALITY_DELTA
_INSTANCE_KEYS = ("service.instance.id", "host.name", "k8s.pod.name", "container.id")


class OtlpError(ValueError):
    """A body that holds no OTLP request of the kind expected; the message says why."""


@dataclass(frozen=True)
class Point:
    """One value: ``delta`` counts since the point before, not since the start. ``t`` in s since the
    epoch, by the sender's clock."""

    metric: str
    labels: dict[str, str]
    kind: Kind
    t: float
    value: float
    delta: bool = False


@dataclass(frozen=True)
class PushedPoints:
    """Points of one instance of a service; ``skipped`` names metrics that cannot be kept."""

    service: str
    instance: str
    points: tuple[Point, ...]
    skipped: tuple[str, ...] = ()


@dataclass(frozen=True)
class Arrival:
    """Points as they were received (``received_at`` by our clock, s since the epoch)."""

    instance: str
    received_at: float
    latest: float
    points: Sequence[Point]


def read(body: bytes, content_type: str, encoding: str) -> tuple[PushedPoints, ...]:
    """Points by service and instance. Raises :class:`OtlpError`."""
    request = parsed(ExportMetricsServiceRequest(), body, content_type, encoding, "metrics")
    found = []
    for resource in request.resource_metrics:
        attributes = labels_of(resource.resource.attributes)
        points: list[Point] = []
        skipped: list[str] = []
        for metric in (m for scope in resource.scope_metrics for m in scope.metrics):
            known = [point for point in _points(metric) if not unkeepable(point.metric, point.labels.items())]
            points += known
            if not known:
                skipped.append(metric.name)
        service, instance = sender(attributes)
        if unkeepable(service, attributes.items()):
            raise OtlpError(f"the attributes of a resource cannot be kept: {unkeepable(service, attributes.items())}")
        found.append(PushedPoints(service, instance, tuple(points), tuple(skipped)))
    return tuple(found)


def clock_offset(arrivals: Iterable[Arrival]) -> float:
    """How far a sender's clock is ahead of ours (s): the median of stamp less arrival. Delays of
    sending make it a little too small; they are far below a clock that matters."""
    return median([arrival.latest - arrival.received_at for arrival in arrivals])


def series(component: str, arrivals: Sequence[Arrival], zero: float) -> tuple[Samples, ...]:
    """Series on the run's clock (``zero`` is its start, s since the epoch), each sender's clock
    corrected when it is off. Counts since the point before are added up."""
    by_instance: dict[str, list[Arrival]] = defaultdict(list)
    for arrival in arrivals:
        by_instance[arrival.instance].append(arrival)
    found = []
    for instance, own in by_instance.items():
        offset = clock_offset(own)
        shift = zero + (offset if abs(offset) > CLOCK_OFF_S else 0.0)
        columns: dict[Source, list[tuple[float, float, bool]]] = defaultdict(list)
        for arrival in own:
            for point in arrival.points:
                source = Source(component, instance, point.metric, tuple(sorted(point.labels.items())), point.kind)
                columns[source].append((point.t - shift, point.value, point.delta))
        for source, rows in columns.items():
            rows.sort()
            times, first = np.unique([t for t, _, _ in rows], return_index=True)
            values = np.array([rows[i][1] for i in first])
            if rows[0][2]:
                values = np.cumsum(values)
            found.append(Samples(source, times, values))
    return tuple(found)


def parsed(
    request: M,
    body: bytes,
    content_type: str,
    encoding: str,
    what: str,
    amend: Callable[[dict[str, Any]], None] = lambda told: None,
) -> M:
    """A request filled with a body's content; ``amend`` changes JSON in which bytes are not written as protobuf's own
    JSON has them. Raises :class:`OtlpError`."""
    body = _plain(body, encoding)
    try:
        if "json" in content_type:
            told = json.loads(body)
            if not isinstance(told, dict):
                raise OtlpError(f"this is no OTLP {what} request: its JSON is no object")
            amend(told)
            json_format.ParseDict(told, request, ignore_unknown_fields=True)
        elif "protobuf" in content_type:
            request.ParseFromString(body)
        else:
            raise OtlpError(f"the content type {content_type!r} is neither application/x-protobuf nor application/json")
    except (DecodeError, json_format.ParseError, ValueError, RecursionError) as error:
        if isinstance(error, OtlpError):
            raise
        raise OtlpError(f"this is no OTLP {what} request: {error}") from error
    return request


def sender(attributes: Mapping[str, str]) -> tuple[str, str]:
    """The service and the instance that a resource's attributes name."""
    instance = next((attributes[key] for key in _INSTANCE_KEYS if key in attributes), "pushed")
    return attributes.get("service.name", UNSET_SERVICE), instance


def _plain(body: bytes, encoding: str) -> bytes:
    if encoding == "gzip":
        try:
            with gzip.open(io.BytesIO(body)) as unpacked:
                body = unpacked.read(MAX_BODY + 1)
        except (OSError, EOFError, zlib.error) as error:
            raise OtlpError(f"the body is not gzip: {error}") from error
    elif encoding not in ("", "identity"):
        raise OtlpError(f"the encoding {encoding!r} is not supported; send gzip or none")
    if len(body) > MAX_BODY:
        raise OtlpError(f"the body is over {MAX_BODY // 1_000_000} MB; push more often, or less at a time")
    return body


def _points(metric: Metric) -> Iterable[Point]:
    name = metric.name
    data = metric.WhichOneof("data")
    if data in ("gauge", "sum"):
        values: Any = getattr(metric, data)
        counter = data == "sum" and values.is_monotonic
        delta = counter and values.aggregation_temporality == _DELTA
        for point in values.data_points:
            value = point.as_double if point.HasField("as_double") else float(point.as_int)
            if math.isfinite(value):
                kind: Kind = "counter" if counter else "gauge"
                yield Point(name, labels_of(point.attributes), kind, _seconds(point), value, delta)
    elif data == "histogram":
        delta = metric.histogram.aggregation_temporality == _DELTA
        for point in metric.histogram.data_points:
            labels, t = labels_of(point.attributes), _seconds(point)
            so_far = 0
            bounds = [*(f"{bound:g}" for bound in point.explicit_bounds), "+Inf"]
            for bound, count in zip(bounds, point.bucket_counts, strict=False):
                so_far += count
                yield Point(name, {**labels, "le": bound}, "bucket", t, float(so_far), delta)
            yield Point(f"{name}_count", labels, "counter", t, float(point.count), delta)
            yield Point(f"{name}_sum", labels, "counter", t, point.sum, delta)


def _seconds(point: Any) -> float:
    return float(point.time_unix_nano / 1e9)


def labels_of(attributes: Iterable[KeyValue]) -> dict[str, str]:
    """The attributes that are single values, as text."""
    found: dict[str, str] = {}
    for attribute in attributes:
        kind = attribute.value.WhichOneof("value")
        if kind in ("string_value", "bool_value", "int_value", "double_value"):
            found[attribute.key] = str(getattr(attribute.value, kind))
    return found


def as_row(point: Point) -> list[Any]:
    """A point as plain data, read back by :func:`from_row`."""
    return [point.metric, point.labels, point.kind, point.t, point.value, point.delta]


def from_row(row: Sequence[Any]) -> Point:
    return Point(*row)


def wanted(labels: Mapping[str, str], point: Point) -> bool:
    """Whether a meter that chooses by ``labels`` takes the point."""
    return all(point.labels.get(key) == value for key, value in labels.items())
