"""Resources from readings: recognised, mapped, combined over instances."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest

from stonekettle.meters import resources
from stonekettle.meters.recognise import recognise
from stonekettle.plan.system import System
from tests.meters.conftest import readings, samples

Make = Callable[..., System]


def only(system: System, *items: object, seconds: int = 2) -> resources.ResourceSeries:
    (found,) = resources.series(system, readings(*items), seconds)  # type: ignore[arg-type]
    return found


@pytest.mark.parametrize(
    ("names", "key"),
    [
        (["x_cpu_seconds", "x_cpu_cores"], "cpu"),
        (["node_cpu_seconds"], "cpu"),
        (["system.cpu.time"], "cpu"),
        (["memory_MemAvailable_bytes", "memory_MemTotal_bytes"], "memory"),
        (["node_disk_io_time_seconds"], "disk"),
        (["db_pool_connections_in_use", "db_pool_connections_limit"], "connections"),
        (["host_network_received_bytes", "host_network_limit_bytes_per_second"], "network received"),
    ],
)
def test_known_names_are_recognised_with_any_prefix(make_system: Make, names: list[str], key: str) -> None:
    (found,) = recognise(names, make_system().components[0])
    assert found.name == key


def test_unknown_names_and_missing_capacities_are_not_guessed(make_system: Make) -> None:
    assert recognise(["other", "x_cpu_seconds", "process_cpu_seconds"], make_system().components[0]) == ()


def test_a_counter_of_busy_seconds_over_its_capacity(make_system: Make) -> None:
    found = only(make_system(), samples("cpu_seconds", [0, 1, 3], "counter"), samples("cpu_cores", [4, 4, 4]))
    np.testing.assert_allclose(found.utilisation, [0.25, 0.5])
    assert (found.key, found.servers) == ("shop.cpu", 4)


def test_time_by_mode_counts_what_is_not_idle(make_system: Make) -> None:
    idle = [samples("node_cpu_seconds", [0, 0.25, 0.5], "counter", cpu=cpu, mode="idle") for cpu in "01"]
    disk = [samples("node_cpu_seconds", [0, 0.25, 0.5], "counter", cpu=cpu, mode="iowait") for cpu in "01"]
    user = [samples("node_cpu_seconds", [0, 0.5, 1], "counter", cpu=cpu, mode="user") for cpu in "01"]
    found = only(make_system(), *idle, *disk, *user)
    assert found.servers == 2
    np.testing.assert_allclose(found.utilisation, [0.5, 0.5])


def test_time_that_a_host_takes_from_a_machine_and_that_counts_as_idle_too_is_no_work(make_system: Make) -> None:
    """Two cores, a second of each: 0.4 s worked, 1.6 s idle, and 1.2 s of them counted as taken besides."""
    found = only(
        make_system(),
        samples("host_cpu_busy_seconds", [0, 1.6, 3.2], "counter"),
        samples("host_cpu_cores", [2, 2, 2]),
        *(
            samples("host_cpu_mode_seconds", [0, each, 2 * each], "counter", mode=mode)
            for mode, each in (("user", 0.4), ("steal", 1.2), ("idle", 1.5), ("iowait", 0.1))
        ),
    )
    assert found.servers == 2
    np.testing.assert_allclose(found.utilisation, [0.2, 0.2])


def test_the_instance_type_gives_the_capacity(make_system: Make) -> None:
    system = make_system(instance_type={"vcpus": 2, "memory": "1 GB"})
    found = resources.series(
        system,
        readings(
            samples("process_cpu_seconds", [0, 1, 2], "counter"),
            samples("process_resident_memory_bytes", [0, 2.5e8, 5e8]),
        ),
        2,
    )
    assert [(r.name, r.utilisation[-1]) for r in found] == [("cpu", 0.5), ("memory", 0.5)]


def test_a_written_mapping_chooses_by_label_and_counts_down(make_system: Make) -> None:
    mapping = {
        "name": "slots", "kind": "threads", "metric": "slots_left", "direction": "free", "capacity": 8,
        "labels": {"pool": "main"}, "waiting_metric": "slots_waiting",
    }  # fmt: skip
    system = make_system(meter={"openmetrics": "http://127.0.0.1:9/metrics", "resources": [mapping]})
    found = only(
        system,
        samples("slots_left", [8, 6, 2], pool="main"),
        samples("slots_left", [0, 0, 0], pool="other"),
        samples("slots_waiting", [0, 0, 3]),
    )
    np.testing.assert_allclose(found.utilisation, [0.25, 0.75])
    assert found.waiting is not None
    assert found.waiting[-1] == 3


def test_instances_add_up_and_a_silent_one_leaves_no_hole(make_system: Make) -> None:
    found = only(
        make_system(),
        samples("cpu_seconds", [0, 1, 2], "counter", instance="a"),
        samples("cpu_cores", [2, 2, 2], instance="a"),
        samples("cpu_seconds", [0, 3], "counter", instance="b"),
        samples("cpu_cores", [4, 4], instance="b"),
    )
    np.testing.assert_allclose(found.utilisation, [4 / 6, 1 / 2])
    assert list(found.instances) == ["a", "b"]
    np.testing.assert_allclose(found.instances["a"], [1 / 2, 1 / 2])
    np.testing.assert_allclose(found.instances["b"], [3 / 4, np.nan])
    alone = only(make_system(), samples("cpu_seconds", [0, 1], "counter"), samples("cpu_cores", [2, 2]))
    assert alone.instances == {}


def test_a_metric_that_disappears_leaves_a_gap(make_system: Make) -> None:
    found = only(
        make_system(),
        samples("cpu_seconds", [0, 1, 2], "counter"),
        samples("cpu_cores", [2] * 6),
        seconds=5,
    )
    np.testing.assert_allclose(found.utilisation, [0.5, 0.5, np.nan, np.nan, np.nan])
