"""Counters become utilisation, over resets and gaps."""

from __future__ import annotations

import numpy as np
import pytest

from stonekettle.meters.exposition import Metric
from stonekettle.meters.resources import InstanceGauge, Reading, combine, recognise, series
from stonekettle.plan.models import ResourceMapping

CPU = ResourceMapping(name="cpu", kind="cpu", metric="x_cpu_seconds", capacity_metric="x_cpu_cores")
POOL = ResourceMapping(name="connections", kind="pool", metric="in_use", capacity=10, waiting_metric="waiting")


def page(cpu: float, cores: float = 2.0) -> dict[str, Metric]:
    return {
        "x_cpu_seconds": Metric("x_cpu_seconds", "counter", cpu),
        "x_cpu_cores": Metric("x_cpu_cores", "gauge", cores),
    }


def test_known_names_are_recognised_with_any_prefix() -> None:
    (found,) = recognise(page(1.0))
    assert (found.kind, found.metric, found.capacity_metric) == ("cpu", "x_cpu_seconds", "x_cpu_cores")
    assert recognise({"other": Metric("other", "gauge", 1.0)}) == ()


def test_a_counter_needs_two_scrapes() -> None:
    gauge = InstanceGauge()
    assert gauge.amounts(0.0, page(5.0), [CPU]) == {}
    assert gauge.amounts(2.0, page(8.0), [CPU]) == {"cpu": (1.5, 2.0, None)}


def test_a_reset_counts_from_zero_again() -> None:
    gauge = InstanceGauge()
    gauge.amounts(0.0, page(500.0), [CPU])
    assert gauge.amounts(1.0, page(0.5), [CPU])["cpu"][0] == pytest.approx(0.5)


def test_a_missed_scrape_spreads_over_its_time() -> None:
    gauge = InstanceGauge()
    gauge.amounts(0.0, page(0.0), [CPU])
    assert gauge.amounts(10.0, page(10.0), [CPU])["cpu"][0] == pytest.approx(1.0)


def test_gauges_are_read_at_once_with_those_waiting() -> None:
    metrics = {"in_use": Metric("in_use", "gauge", 7), "waiting": Metric("waiting", "gauge", 3)}
    assert InstanceGauge().amounts(0.0, metrics, [POOL]) == {"connections": (7, 10, 3)}


def test_a_metric_that_disappears_gives_no_reading() -> None:
    gauge = InstanceGauge()
    gauge.amounts(0.0, page(1.0), [CPU])
    assert gauge.amounts(1.0, {}, [CPU]) == {}


def test_instances_are_combined_by_capacity() -> None:
    (reading,) = combine("ledger", [CPU], [{"cpu": (1.0, 2.0, None)}, {"cpu": (3.0, 4.0, None)}, {}])
    assert reading.servers == 6.0
    assert reading.utilisation == pytest.approx(4 / 6)


def test_seconds_without_a_reading_are_gaps() -> None:
    reading = Reading("ledger", "cpu", "cpu", 2.0, 0.5, None)
    (found,) = series({0: [reading], 3: [reading]}, 4)
    assert found.utilisation[[0, 3]].tolist() == [0.5, 0.5]
    assert np.isnan(found.utilisation[[1, 2]]).all()
    assert found.waiting is None
