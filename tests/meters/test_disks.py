"""What disks did by reading and by writing, as systems of different shapes tell it."""

from __future__ import annotations

import numpy as np
import pytest

from stonekettle.meters.disks import DiskMeans, DiskWork, work
from stonekettle.meters.samples import Samples
from tests.meters.conftest import readings, samples

SECONDS = np.arange(11.0)


def counter(metric: str, a_second: float, **labels: str) -> Samples:
    return samples(metric, a_second * SECONDS, "counter", **labels)


def found(*items: Samples) -> dict[str, DiskWork]:
    return {one.op: one for one in work(readings(*items), 10)}


HOST = [
    *(counter("host_disk_reads_total", 40, disk=disk) for disk in ("sda", "sdb")),
    counter("host_disk_read_seconds_total", 0.4),
    counter("host_disk_read_bytes_total", 80 * 8192),
    counter("host_disk_writes_total", 10),
    counter("host_disk_write_seconds_total", 0.2),
    counter("host_disk_written_bytes_total", 10 * 65_536),
]
PIECES = [
    counter("node_disk_reads_completed_total", 80),
    counter("node_disk_read_time_seconds_total", 0.4),
    counter("node_disk_read_bytes_total", 80 * 8192),
    counter("node_disk_writes_completed_total", 10),
    counter("node_disk_write_time_seconds_total", 0.2),
    counter("node_disk_written_bytes_total", 10 * 65_536),
]
BY_DIRECTION = [
    counter(metric, value, direction=direction)
    for direction, values in (("read", (80, 0.4, 80 * 8192)), ("write", (10, 0.2, 10 * 65_536)))
    for metric, value in zip(
        ("system.disk.operations", "system.disk.operation_time", "system.disk.io"), values, strict=True
    )
]
BY_HISTOGRAM = [
    counter(metric, value, op=op)
    for op, values in (("read", (80, 0.4, 80 * 8192)), ("write", (10, 0.2, 10 * 65_536)))
    for metric, value in zip(
        ("shop_disk_latency_seconds_count", "shop_disk_latency_seconds_sum", "shop_disk_block_bytes_sum"),
        values,
        strict=True,
    )
]


@pytest.mark.parametrize("told", [HOST, PIECES, BY_DIRECTION, BY_HISTOGRAM], ids=["host", "pieces", "label", "spread"])
def test_reading_and_writing_are_told_apart(told: list[Samples]) -> None:
    by_op = found(*told)
    reading, writing = by_op["read"].means(0, 10), by_op["write"].means(3, 7)
    assert (reading.rate, reading.took_s, reading.size_bytes) == pytest.approx((80, 0.005, 8192))
    assert (writing.rate, writing.took_s, writing.size_bytes) == pytest.approx((10, 0.02, 65_536))


def test_a_disk_that_host_and_process_tell_of_is_counted_once() -> None:
    assert found(*HOST, *BY_HISTOGRAM)["read"].means(0, 10).rate == pytest.approx(80)


def test_what_is_not_told_is_not_made_up() -> None:
    (reading,) = work(readings(counter("host_disk_reads_total", 40)), 10)
    assert reading.means(0, 10) == DiskMeans(pytest.approx(40), None, None)  # type: ignore[arg-type]
    assert reading.means(10, 10) == DiskMeans(None, None, None)
    idle = found(counter("host_disk_reads_total", 0), counter("host_disk_read_seconds_total", 0))["read"]
    assert idle.means(0, 10) == DiskMeans(0.0, None, None)
    gauge = samples("host_disk_reads", SECONDS, "gauge")
    assert not found(gauge, counter("system.disk.operations", 4, direction="sideways"), counter("reads", 3))
