"""OTLP metrics as protobuf and JSON, from clocks that are right and wrong."""

from __future__ import annotations

import gzip

import numpy as np
import pytest
from google.protobuf import json_format
from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceRequest
from opentelemetry.proto.metrics.v1.metrics_pb2 import AggregationTemporality

from stonekettle.meters.otlp import Arrival, OtlpError, Point, as_row, clock_offset, from_row, read, series, wanted
from stonekettle.meters.rates import per_second

T0 = 1_790_000_000.0
PROTOBUF = "application/x-protobuf"
CUMULATIVE = AggregationTemporality.AGGREGATION_TEMPORALITY_CUMULATIVE
DELTA = AggregationTemporality.AGGREGATION_TEMPORALITY_DELTA


def request(t: float = T0) -> ExportMetricsServiceRequest:
    """A gauge, a counter, a histogram and a summary of one instance of the ledger."""
    made = ExportMetricsServiceRequest()
    resource = made.resource_metrics.add()
    for key, value in (("service.name", "ledger"), ("service.instance.id", "ledger-7")):
        attribute = resource.resource.attributes.add()
        attribute.key, attribute.value.string_value = key, value
    metrics = resource.scope_metrics.add().metrics
    gauge = metrics.add(name="db.open").gauge.data_points.add(time_unix_nano=int(t * 1e9), as_int=7)
    label = gauge.attributes.add()
    label.key, label.value.string_value = "pool", "main"
    counter = metrics.add(name="db.queries").sum
    counter.is_monotonic, counter.aggregation_temporality = True, CUMULATIVE
    counter.data_points.add(time_unix_nano=int(t * 1e9), as_double=120.5)
    histogram = metrics.add(name="db.time").histogram
    histogram.aggregation_temporality = CUMULATIVE
    histogram.data_points.add(
        time_unix_nano=int(t * 1e9), count=6, sum=0.9, explicit_bounds=[0.1, 0.5], bucket_counts=[3, 2, 1]
    )
    metrics.add(name="db.summary").summary.data_points.add(time_unix_nano=int(t * 1e9), count=1)
    return made


def bodies() -> list[tuple[bytes, str, str]]:
    binary = request().SerializeToString()
    text = json_format.MessageToJson(request()).encode()
    return [
        (binary, PROTOBUF, ""),
        (text, "application/json; charset=utf-8", "identity"),
        (gzip.compress(binary), PROTOBUF, "gzip"),
    ]


@pytest.mark.parametrize(("body", "content_type", "encoding"), bodies(), ids=["protobuf", "json", "gzip"])
def test_every_kind_of_metric_is_read(body: bytes, content_type: str, encoding: str) -> None:
    (found,) = read(body, content_type, encoding)
    assert (found.service, found.instance) == ("ledger", "ledger-7")
    points = {(p.metric, p.labels.get("le", "")): p for p in found.points}
    assert points["db.open", ""].value == 7
    assert points["db.open", ""].labels == {"pool": "main"}
    assert (points["db.queries", ""].kind, points["db.queries", ""].value) == ("counter", 120.5)
    assert [points["db.time", le].value for le in ("0.1", "0.5", "+Inf")] == [3, 5, 6]
    assert points["db.time_sum", ""].value == 0.9
    assert found.skipped == ("db.summary",)
    assert all(p.t == pytest.approx(T0) for p in found.points)


@pytest.mark.parametrize(
    ("body", "content_type", "encoding", "part"),
    [
        (b"{", "application/json", "", "no OTLP metrics request"),
        (b"\xff\xff", PROTOBUF, "", "no OTLP metrics request"),
        (b"", "text/plain", "", "neither"),
        (b"nothing", PROTOBUF, "gzip", "not gzip"),
        (b"", PROTOBUF, "br", "not supported"),
        (gzip.compress(bytes(9_000_000)), PROTOBUF, "gzip", "over 8 MB"),
    ],
)
def test_what_is_no_request_is_refused(body: bytes, content_type: str, encoding: str, part: str) -> None:
    with pytest.raises(OtlpError, match=part):
        read(body, content_type, encoding)


def arrivals(ahead_s: float = 0.0, *, delta: bool = False) -> list[Arrival]:
    """Ten pushes 5 s apart of a counter that grows by 50 in each, by a clock that is ``ahead_s``."""
    found = []
    for k in range(10):
        value = 50.0 if delta else 50.0 * k
        t = T0 + 5 * k
        found.append(Arrival("i", t + 0.03, t + ahead_s, [Point("q", {}, "counter", t + ahead_s, value, delta)]))
    return found


@pytest.mark.parametrize("ahead_s", [0.0, 30.0, -3600.0])
def test_another_clock_is_moved_onto_ours(ahead_s: float) -> None:
    (found,) = series("ledger", arrivals(ahead_s), T0)
    np.testing.assert_allclose(found.times, 5.0 * np.arange(10), atol=0.1)
    np.testing.assert_allclose(per_second(found, 45), 10.0)
    assert clock_offset(arrivals(ahead_s)) == pytest.approx(ahead_s, abs=0.1)


def test_counts_since_the_point_before_are_added_up() -> None:
    (found,) = series("ledger", arrivals(delta=True), T0)
    np.testing.assert_allclose(per_second(found, 45), 10.0)


def test_a_point_sent_twice_counts_once() -> None:
    twice = arrivals()
    (found,) = series("ledger", [*twice, twice[3]], T0)
    assert found.times.size == 10


def test_points_survive_being_stored_and_are_chosen_by_label() -> None:
    point = Point("q", {"app": "x"}, "gauge", T0, 1.0)
    assert from_row(as_row(point)) == point
    assert wanted({"app": "x"}, point)
    assert not wanted({"app": "y"}, point)
