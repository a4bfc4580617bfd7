"""Every line of what meters read, each told once."""

from __future__ import annotations

import numpy as np

from stonekettle.meters.lines import lines
from stonekettle.plan.system import Component, System
from tests.meters.conftest import readings, samples

SECONDS = np.arange(11.0)
SYSTEM = System(name="s", base_url="http://x", components=(Component(name="shop"),))


def told(*items: object, most: int = 100) -> dict[str, float]:
    found, _ = lines(SYSTEM, readings(*items), 10, most)  # type: ignore[arg-type]
    return {f"{line.name} {line.of}".strip(): float(line.values[-1]) for line in found}


def test_each_metric_is_told_as_a_whole_by_instance_and_by_label() -> None:
    items = [
        samples("queue_length", np.full(11, float(10 * i + j)), instance=f"i{i}", op=f"op{j}")
        for i in range(2)
        for j in range(2)
    ]
    assert told(*items) == {
        "queue length": 22.0,
        "queue length i0": 1.0,
        "queue length i1": 21.0,
        "queue length op0": 10.0,
        "queue length op1": 12.0,
    }


def test_counters_are_rates_and_histograms_means() -> None:
    found = told(
        samples("reads", 5 * SECONDS, "counter"),
        samples("latency_seconds", 10 * SECONDS, "bucket", le="1"),
        samples("latency_seconds_sum", 0.5 * SECONDS, "counter"),
        samples("latency_seconds_count", 10 * SECONDS, "counter"),
    )
    assert found == {"reads": 5.0, "latency, mean": 0.05, "latency, count": 10.0}


def test_what_a_resource_is_read_from_is_left_to_it() -> None:
    found = told(
        samples("cpu_busy_seconds", 0.5 * SECONDS, "counter"),
        samples("cpu_cores", np.full(11, 4.0)),
        samples("process_start_time_seconds", np.full(11, 1e9)),
        samples("threads", SECONDS),
    )
    assert list(found) == ["threads"]


def test_no_more_than_asked_for_are_told_whole_ones_first() -> None:
    items = [samples(f"m{k}", SECONDS, instance=f"i{i}") for k in range(4) for i in range(3)]
    found, beyond = lines(SYSTEM, readings(*items), 10, 6)  # type: ignore[arg-type]
    assert [line.of for line in found] == ["", "", "", "", "i0", "i1"]
    assert beyond == 10
    assert len({line.key for line in lines(SYSTEM, readings(*items), 10, 99)[0]}) == 16  # type: ignore[arg-type]
