"""Which processes take the processors, by what agents told of the busiest."""

from __future__ import annotations

import numpy as np
import pytest

from stonekettle.core.levels import measure
from stonekettle.core.orders import PlannedLevel
from stonekettle.meters.samples import Kind, Readings, Samples, Source
from stonekettle.report import processes
from tests.conftest import steady_run

(LEVEL,) = measure(steady_run(seconds=60), [PlannedLevel(0, 60, 100)])


def counted(
    name: str,
    cores: float,
    times: range = range(61),
    metric: str = "host_process_cpu_seconds",
    kind: Kind = "counter",
    label: str = "name",
    pid: str = "7",
) -> Samples:
    at = np.array(times, dtype=np.float64)
    return Samples(Source("ledger", "ledger:1", metric, (("pid", pid), (label, name)), kind), at, 100 + cores * at)


def test_the_busiest_come_first_with_those_of_one_name_together() -> None:
    told = processes.busiest(
        Readings(
            (
                counted("sleeper", 0.001),
                counted("backup", 0.5),
                counted("postgres", 1.2, pid="8"),
                counted("postgres", 1.5, pid="9"),
            )
        ),
        [LEVEL],
        60,
    )
    assert [name for name, _ in told["ledger"]] == ["postgres", "backup"]
    assert [cores for _, cores in told["ledger"]] == pytest.approx([2.7, 0.5])


def test_one_that_is_told_of_for_a_while_takes_nothing_else() -> None:
    """Of 48 seconds that count it is among the busiest in the last twelve."""
    (name, cores), (other, half) = processes.busiest(
        Readings((counted("postgres", 1.0), counted("cron", 2.0, range(48, 61)))), [LEVEL], 60
    )["ledger"]
    assert (name, cores) == ("postgres", pytest.approx(1.0))
    assert (other, half) == ("cron", pytest.approx(0.5, abs=0.05))


def test_names_are_told_by_open_conventions_too_and_other_metrics_are_none() -> None:
    other = counted("worker", 0.8, metric="process.cpu.time", label="process.executable.name")
    assert [name for name, _ in processes.busiest(Readings((other,)), [LEVEL], 60)["ledger"]] == ["worker"]
    for none in (
        counted("worker", 0.8, metric="host_cpu_busy_seconds"),
        counted("worker", 0.8, kind="gauge"),
        counted("worker", 0.8, label="core"),
        counted("worker", 0.8, range(0)),
    ):
        assert processes.busiest(Readings((none,)), [LEVEL], 60) == {}
    assert processes.busiest(Readings((other,)), [], 60) == {}
