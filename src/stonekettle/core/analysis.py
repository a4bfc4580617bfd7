"""What did this run find? Every question of the core, asked in order."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from stonekettle.core import bottleneck, health, laws, levels, objectives, saturation
from stonekettle.core.load_profile import LoadProfile
from stonekettle.core.run_data import RunData
from stonekettle.core.types import Declined

VERSION = 1
"""Raised whenever the same data would give other findings."""

ENOUGH_SHARE = 0.5
"""Levels that lost over half their seconds to a strained generator carry no claim."""
UNTRUSTED = "not trustworthy"


@dataclass(frozen=True)
class Analysis:
    """All findings of one run. A :class:`Declined` stands where the data carry no answer."""

    version: int
    levels: tuple[levels.Level, ...]
    generator: health.GeneratorHealth
    little: tuple[laws.LittleCheck, ...]
    demands: tuple[laws.Demand, ...]
    saturation: saturation.Saturation | Declined
    comfort: objectives.ComfortLimit | Declined
    breaking: objectives.BreakingPoint | Declined
    limiting: bottleneck.LimitingResource | Declined
    first_errors: tuple[objectives.FirstError, ...]
    trustworthy: bool


def analyse(run: RunData, profile: LoadProfile, goals: Sequence[objectives.Objective], error_limit: float) -> Analysis:
    """Analyse ``run`` against its planned ``profile`` and objectives.

    ``error_limit`` is the error ratio (0..1) that defines the breaking point.
    """
    measured = levels.measure(run, profile.levels())
    generator = health.assess(run)
    checks = tuple(laws.little(level) for level in measured)
    demands = tuple(
        found
        for resource in run.resources
        if resource.kind != "memory" and (found := laws.demand(resource, measured)) is not None
    )
    trustworthy = _trustworthy(measured, generator, checks)
    pools = {resource.key for resource in run.resources if resource.is_pool}
    hardware = [d for d in demands if d.key not in pools]
    if trustworthy:
        point = saturation.find(measured, hardware)
        comfort = objectives.comfort_limit(run, measured, goals)
        breaking = objectives.breaking_point(run, measured, error_limit)
        shape = point if isinstance(point, saturation.Saturation) else None
        limiting: bottleneck.LimitingResource | Declined = bottleneck.identify(run, measured, shape, demands, generator)
        if shape is None and not measured:
            limiting = Declined("too few levels")
    else:
        point = comfort = breaking = limiting = Declined(UNTRUSTED)
        if measured:
            limiting = bottleneck.identify(run, measured, None, demands, generator)
    return Analysis(
        VERSION,
        measured,
        generator,
        checks,
        demands,
        point,
        comfort,
        breaking,
        limiting,
        objectives.first_errors(run),
        trustworthy,
    )


def _trustworthy(
    measured: Sequence[levels.Level],
    generator: health.GeneratorHealth,
    checks: Sequence[laws.LittleCheck],
) -> bool:
    """Fit generators, enough seconds left, and Little's law not grossly broken at many levels."""
    if generator.verdict == "strained":
        return False
    if not measured:
        return True
    thin = sum(lv.seconds_left_out > ENOUGH_SHARE * (lv.seconds_used + lv.seconds_left_out) for lv in measured)
    broken = sum(check.gross or check.late for check in checks)
    return max(thin, broken) * 3 <= len(measured)
