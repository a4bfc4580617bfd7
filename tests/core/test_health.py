"""The checks of each level: what they find where it was planted, and how seldom they find anything else."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace

import numpy as np
import pytest

from stonekettle.core import health
from stonekettle.core.analysis import Analysis, analyse
from stonekettle.core.health import Check, CheckKind
from stonekettle.core.orders import as_planned
from stonekettle.core.run_data import RunData
from stonekettle.practice.twin import simulate
from tests.conftest import climb, one_server_system, visits

PROFILE = climb(20, 160, 20, 30.0)
HELD_S = 30


@pytest.fixture(scope="module")
def honest() -> RunData:
    """Eight levels of a system with room for two thirds of them."""
    return simulate(one_server_system(10.0, servers=1), visits(1.0), PROFILE, seed=5)


def found(run: RunData) -> tuple[Analysis, dict[tuple[CheckKind, int], Check]]:
    analysis = analyse(run, as_planned(PROFILE), [], 0.01)
    return analysis, {(check.kind, check.level): check for check in health.of_levels(analysis)}


def with_work(run: RunData, level: int, factor: float) -> RunData:
    """The same run, but for how busy its server was during a level."""
    cpu, memory = run.resources
    utilisation = cpu.utilisation.copy()
    utilisation[(level - 1) * HELD_S : level * HELD_S] *= factor
    return replace(run, resources=(replace(cpu, utilisation=utilisation), memory))


def test_an_honest_run_passes_every_check_and_a_full_resource_tells_nothing_of_its_work(honest: RunData) -> None:
    analysis, checks = found(honest)
    assert len(checks) == 9 * len(analysis.levels)
    assert {check.standing for check in checks.values()} == {"holds", "unknown"}
    assert {key for key, check in checks.items() if check.standing == "unknown"} <= {("work", n) for n in (6, 7, 8)}


@pytest.mark.parametrize(("factor", "standing"), [(1.15, "strained"), (1.4, "broken"), (0.7, "broken")])
def test_a_level_with_other_work_is_told_and_no_other(honest: RunData, factor: float, standing: str) -> None:
    _, checks = found(with_work(honest, 3, factor))
    told = {level: check for (kind, level), check in checks.items() if kind == "work"}
    assert told[3].standing == standing
    assert told[3].key == "shop.cpu"
    assert told[3].figure == pytest.approx(factor - 1, abs=0.04)
    assert {told[level].standing for level in (1, 2, 4)} == {"holds"}


def test_work_that_is_everywhere_alike_is_seldom_told_as_another() -> None:
    """Nominally one run in fifty: of forty, four would come once in a hundred times."""
    alarms = 0
    for seed in range(40):
        run = simulate(one_server_system(10.0, servers=2), visits(1.0), climb(20, 160, 20, 16.0), seed=100 + seed)
        analysis = analyse(run, as_planned(climb(20, 160, 20, 16.0)), [], 0.01)
        checks = [check for check in health.of_levels(analysis) if check.kind == "work"]
        alarms += any(check.standing in ("strained", "broken") for check in checks)
    assert alarms <= 3


def late(run: RunData) -> RunData:
    """A twelfth of the users of the fourth level wait for their generator."""
    overdue = run.overdue.copy()
    overdue[3 * HELD_S : 4 * HELD_S] = 80 / 12
    return replace(run, overdue=overdue)


def counted_twice(run: RunData) -> RunData:
    in_flight = run.in_flight.copy()
    in_flight[3 * HELD_S : 4 * HELD_S] += 8.0
    return replace(run, in_flight=in_flight)


def unread(run: RunData) -> RunData:
    cpu, memory = run.resources
    utilisation = cpu.utilisation.copy()
    utilisation[3 * HELD_S : 4 * HELD_S] = math.nan
    return replace(run, resources=(replace(cpu, utilisation=utilisation), memory))


def silent(run: RunData) -> RunData:
    users = run.users.copy()
    users[3 * HELD_S + 15 : 4 * HELD_S - 3] = math.nan
    return replace(run, users=users)


def paused(run: RunData) -> RunData:
    gap = run.start_gap_s.copy()
    gap[3 * HELD_S + 20] = 4.0
    return replace(run, start_gap_s=gap)


@pytest.mark.parametrize(
    ("harm", "kind", "standing", "figure"),
    [
        (late, "ordered", "broken", -1 / 12),
        (late, "late", "broken", 1 / 12),
        (counted_twice, "little", "broken", -0.1),
        (unread, "meters", "strained", 1.0),
        (silent, "gaps", "strained", None),
        (paused, "pauses", "strained", 4.0),
    ],
)
def test_what_is_wrong_at_a_level_is_told_of_it_alone(
    honest: RunData, harm: Callable[[RunData], RunData], kind: CheckKind, standing: str, figure: float | None
) -> None:
    analysis, checks = found(harm(honest))
    assert checks[kind, 4].standing == standing
    if figure is not None:
        assert checks[kind, 4].figure == pytest.approx(figure, abs=0.01)
    assert {checks[kind, level.number].standing for level in analysis.levels if level.number != 4} == {"holds"}


def test_few_answers_and_far_ends_of_a_percentile_are_told(honest: RunData) -> None:
    analysis, _ = found(honest)
    few = replace(analysis.levels[0], completions=150, errors=60, p95_low_s=0.7 * analysis.levels[0].p95_s)
    none = replace(analysis.levels[1], completions=120, errors=120, p95_s=math.nan, p95_low_s=math.nan)
    checks = {(c.kind, c.level): c for c in health.of_levels(replace(analysis, levels=(few, none)))}
    assert (checks["tail", 1].standing, checks["tail", 1].figure) == ("broken", pytest.approx(4.5))
    assert (checks["blur", 1].standing, checks["blur", 1].figure) == ("broken", pytest.approx(0.3))
    assert checks["blur", 2].standing == "unknown"
    assert np.isnan(checks["blur", 2].figure)
    assert checks["work", 1].standing == "unknown", "two levels tell no line"
