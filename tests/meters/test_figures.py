"""Derived figures from readings."""

from __future__ import annotations

import numpy as np
import pytest

from stonekettle.meters.figures import Pin, common_prefix, compute, kinds_for, readable, title
from tests.meters.conftest import readings, samples

NAN = float("nan")
SECONDS = np.arange(11.0)
LOAD = np.full(10, 5.0)
QUERIES = samples("db_queries", 15 * SECONDS, "counter")
CPU = samples("cpu_seconds", 0.5 * SECONDS, "counter")


def values(pin: Pin, *items: object) -> np.ndarray:
    return compute(pin, readings(*items), LOAD).lines[0].values  # type: ignore[arg-type]


def test_calls_per_request_are_a_counters_rate_over_throughput() -> None:
    found = compute(Pin("shop", "db_queries", "per step"), readings(QUERIES), LOAD)
    np.testing.assert_allclose(found.lines[0].values, 3.0)
    assert found.unit == "per step"


def test_time_per_request_keeps_its_unit() -> None:
    found = compute(Pin("shop", "cpu_seconds", "per step"), readings(CPU), LOAD)
    np.testing.assert_allclose(found.lines[0].values, 0.1)
    assert found.unit == "s per step"


def test_the_mean_of_a_histogram_is_its_sum_over_its_count() -> None:
    counts = {
        5: samples("t_seconds_count", 10 * SECONDS, "counter"),
        15: samples("t_seconds_count", 10 * SECONDS, "counter", instance="b"),
    }
    bucket = samples("t_seconds", 10 * SECONDS, "bucket", le="1")
    sums = [
        samples("t_seconds_sum", 0.5 * SECONDS, "counter"),
        samples("t_seconds_sum", 1.5 * SECONDS, "counter", instance="b"),
    ]
    found = compute(Pin("shop", "t_seconds", "mean"), readings(bucket, *counts.values(), *sums), LOAD)
    np.testing.assert_allclose(found.lines[0].values, 0.1)
    assert found.unit == "s"
    assert not compute(Pin("shop", "t_seconds", "mean"), readings(bucket, *sums), LOAD).lines
    assert kinds_for([bucket]) == ("spread", "mean")


def test_a_value_sums_instances_and_labels() -> None:
    other = samples("db_queries", 5 * SECONDS, "counter", instance="b")
    np.testing.assert_allclose(values(Pin("shop", "db_queries"), QUERIES, other), 20.0)
    np.testing.assert_allclose(values(Pin("shop", "db_queries", "largest"), QUERIES, other), 15.0)


def test_instances_and_labels_get_a_line_each_the_largest_first() -> None:
    items = [samples("g", np.full(11, float(i)), instance=f"i{i}", op=f"op{i % 2}") for i in range(8)]
    by_instance = compute(Pin("shop", "g", "per instance"), readings(*items), LOAD)
    assert [line.label for line in by_instance.lines] == ["i7", "i6", "i5", "i4", "i3", "i2"]
    by_label = compute(Pin("shop", "g", "by label"), readings(*items), LOAD)
    assert [(line.label, line.values[-1]) for line in by_label.lines] == [("op1", 16), ("op0", 12)]


def test_a_ratio_of_two_metrics_is_of_their_sums_over_a_few_seconds() -> None:
    reads = samples("disk_read_seconds", np.cumsum([0, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0]) * 0.2, "counter")
    count = samples("disk_reads", np.cumsum([0, 100, 0, 0, 0, 0, 0, 0, 0, 0, 0]), "counter")
    found = compute(Pin("shop", "disk_read_seconds", "ratio", "shop", "disk_reads"), readings(reads, count), LOAD)
    np.testing.assert_allclose(found.lines[0].values[:5], 0.002)
    assert np.isnan(found.lines[0].values[5:]).all()
    assert found.unit == "s"


def test_a_share_is_of_all_components() -> None:
    other = samples("db_queries", 45 * SECONDS, "counter", component="ledger")
    np.testing.assert_allclose(values(Pin("shop", "db_queries", "share"), QUERIES, other), 0.25)


def test_a_gap_stays_a_gap_in_every_figure() -> None:
    gappy = samples("db_queries", [0, 15, 30, 135, 150], "counter", times=[0, 1, 2, 9, 10])
    found = values(Pin("shop", "db_queries", "per step"), gappy)
    assert np.isnan(found[2:9]).all()
    np.testing.assert_allclose(found[[0, 1, 9]], 3.0)


def test_a_histogram_becomes_a_distribution_over_time() -> None:
    buckets = [
        samples("t_seconds", rate * SECONDS, "bucket", le=le, op=op)
        for op in ("read", "write")
        for le, rate in (("0.01", 1), ("0.1", 4), ("+Inf", 5))
    ]
    found = compute(Pin("shop", "t_seconds", "spread"), readings(*buckets), LOAD)
    assert found.bounds == (0.01, 0.1, float("inf"))
    assert found.unit == "s"
    assert found.shares is not None
    np.testing.assert_allclose(found.shares[:, 3], [0.2, 0.6, 0.2])


def test_a_run_without_the_metric_has_no_line() -> None:
    assert compute(Pin("shop", "gone"), readings(QUERIES), LOAD).lines == ()
    assert compute(Pin("shop", "db_queries", "ratio", "shop", "gone"), readings(QUERIES), LOAD).lines == ()


@pytest.mark.parametrize(
    ("items", "first"),
    [
        ([QUERIES], "per step"),
        ([samples("g", [1.0, 2.0])], "value"),
        ([samples("g", [1.0], step="a"), samples("g", [1.0], step="b")], "by label"),
        ([samples("t", [1.0], "bucket", le="1")], "spread"),
    ],
)
def test_the_most_telling_figure_comes_first(items: list[object], first: str) -> None:
    assert kinds_for(items)[0] == first  # type: ignore[arg-type]


def test_names_are_words_without_what_they_share() -> None:
    names = ["host_cpu_seconds", "host_disk_reads_total", "host_memory_used_bytes", "up"]
    assert common_prefix(names) == "host"
    assert readable("host_memory_used_bytes", "host") == "memory used"
    assert common_prefix(["a_x", "b_x", "c_x"]) == ""
    ratio = Pin("shop", "host_disk_read_seconds", "ratio", "shop", "host_disk_reads")
    items = readings(*(samples(name, [1.0]) for name in (*names, ratio.metric)))
    assert title(ratio, items) == "shop disk read per disk reads"
