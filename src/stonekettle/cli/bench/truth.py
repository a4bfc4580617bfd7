"""The analysis against systems whose truth is known, in every condition that practice is full of, in virtual time."""

from __future__ import annotations

import os
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace

import numpy as np

from stonekettle.cli.bench import Figure
from stonekettle.cli.bench.conditions import CONDITIONS, Case, make
from stonekettle.core import analysis
from stonekettle.core.bottleneck import LimitingResource
from stonekettle.core.histogram import percentile_s
from stonekettle.core.load_profile import LoadProfile, Segment
from stonekettle.core.objectives import ComfortLimit, Objective
from stonekettle.core.orders import as_planned
from stonekettle.core.run_data import RunData
from stonekettle.core.saturation import Saturation
from stonekettle.core.types import Estimate
from stonekettle.practice.twin import simulate

LONG_RUN_COMPLETIONS = 10_000
RUNS, RUNS_QUICK = 60, 4
COMFORT = ("ordinary", "few users", "short levels", "mixes", "heavy tails", "periodic job")
"""Where the comfort limit is judged: its truth takes long runs."""
STANDING = ("pauses", "periodic job")
"""Where all servers stand still, or have other work, now and then: there a pause is one."""
UNSTABLE = (*STANDING, "lock", "time limits", "errors under overload")
"""Where the system is another after an overload, or stands still regularly."""
LEAST_COVERED = 0.80
CLAIMED = ("reached", "peaked")


@dataclass(frozen=True)
class Judged:
    """An estimate beside the truth: its relative error, whether its interval covers, and how wide that is."""

    error: float
    covered: bool
    width: float

    @classmethod
    def of(cls, found: Estimate, real: float) -> Judged:
        return cls(abs(found.value / real - 1), found.low <= real <= found.high, (found.high - found.low) / real)


@dataclass(frozen=True)
class Outcome:
    """What the analysis said about a case, beside the truth. None where nothing was claimed or is to be judged."""

    kind: str
    answered: bool
    claimed: bool
    throughput: Judged | None = None
    users: Judged | None = None
    ceiling: Judged | None = None
    comfort: Judged | None = None
    limit_right: bool | None = None
    little_flags: int = 0
    paused: bool = False
    changed: bool = False
    """Whether something was said to have changed that had not."""
    change_found: bool | None = None
    levels: int = 0


def measure(*, quick: bool) -> list[Figure]:
    """Accuracy over 60 random systems in each condition (4 with ``quick``)."""
    jobs = [(kind, seed) for seed in range(RUNS_QUICK if quick else RUNS) for kind in CONDITIONS]
    with ProcessPoolExecutor(min(2, os.cpu_count() or 1)) as pool:
        outcomes = list(pool.map(_examine, jobs, chunksize=4))
    return figures_of(outcomes)


def _examine(job: tuple[str, int]) -> Outcome:
    return judge(make(*job), comfort=job[0] in COMFORT)


def judge(case: Case, *, comfort: bool = True) -> Outcome:
    """Analyse one simulated run and compare with the truth; ``comfort`` false leaves out what takes long runs."""
    run = simulate(case.config, case.journeys, case.profile, seed=case.seed + 1)
    goals = [Objective(1, "response", case.goal_s, 95.0)]
    found = analysis.analyse(run, as_planned(case.profile), goals, 0.05)
    point, limit = found.saturation, found.comfort
    shape = point if isinstance(point, Saturation) else None
    claimed = shape is not None and shape.status in CLAIMED
    return Outcome(
        kind=case.kind,
        answered=shape is not None,
        claimed=claimed,
        throughput=Judged.of(shape.throughput, case.real.throughput) if shape and shape.throughput else None,
        users=Judged.of(shape.load, case.real.users)
        if shape and shape.load and shape.status == "reached" and case.real.users and not case.real.peak
        else None,
        ceiling=Judged.of(shape.ceiling.throughput, case.real.throughput) if shape and shape.ceiling else None,
        comfort=_judge_comfort(case, limit) if comfort and isinstance(limit, ComfortLimit) else None,
        limit_right=_limit_right(case, found.limiting),
        little_flags=sum(check.broken for check in found.little),
        paused=any(check.pause_s > 0 for check in found.little),
        levels=len(found.levels),
        changed=case.real.changes is None and case.kind not in UNSTABLE and bool(found.changes),
        change_found=any(change.kind == case.real.changes for change in found.changes) if case.real.changes else None,
    )


def _limit_right(case: Case, found: object) -> bool | None:
    if case.real.limiting is None:
        return None
    if not isinstance(found, LimitingResource):
        return False
    if case.kind == "far":
        return found.cause == "none"
    named = found.resource.key if found.resource else found.cause
    if case.kind == "nearly tied" and found.resource is not None:
        # Within its tenth either is right.
        return found.cause == "hardware"
    return named == case.real.limiting


def _judge_comfort(case: Case, limit: ComfortLimit) -> Judged | None:
    if limit.status != "found" or limit.load is None:
        return None
    real = true_comfort(case, limit.load.value)
    return Judged.of(limit.load, real) if real is not None else None


def taken_at_its_word(run: RunData) -> RunData:
    """The run with nothing known of what its generator did."""
    return replace(
        run,
        overdue=np.zeros(run.seconds),
        blind=np.zeros(run.seconds),
        stalls=np.zeros((0, 2)),
        blind_sum_s=np.zeros_like(run.blind_sum_s),
        low_histograms=run.histograms,
    )


def true_comfort(case: Case, guess: float) -> float | None:
    """The load at which the true 95th percentile meets the goal: long runs around a ``guess``, until it lies between
    two, and log-linear interpolation."""
    users = max(1, round(guess))
    excess = {users: _excess(case, users)}
    for _ in range(12):
        over = [n for n, e in excess.items() if e > 0]
        under = [n for n, e in excess.items() if e <= 0]
        low, high = max(under, default=None), min(over, default=None)
        if low is not None and high is not None and high - low <= max(1, 0.06 * high):
            return low + (high - low) * -excess[low] / (excess[high] - excess[low])
        if low is None and high is not None:
            if high == 1:
                return None
            users = max(1, min(high - 1, round(high * 0.92)))
        elif high is None and low is not None:
            users = max(low + 1, round(low * 1.08))
        elif low is not None and high is not None:
            users = round((low + high) / 2)
        excess[users] = _excess(case, users)
    return None


def _excess(case: Case, users: int) -> float:
    """The log of the true 95th percentile at so many users over the goal."""
    cycle = sum(s.think.mean_s for j in case.journeys for s in j.steps) / sum(len(j.steps) for j in case.journeys)
    rate = min(case.real.throughput, users / (cycle + case.goal_s / 4))
    settle = 4 * (cycle + users / rate)
    duration = settle + LONG_RUN_COMPLETIONS / rate
    run = simulate(case.config, case.journeys, LoadProfile((Segment.hold(users, duration),)), seed=99, cpu_noise=0)
    counted = np.arange(run.seconds) >= settle
    return float(np.log(percentile_s(run.histograms.merged(counted), 95) / case.goal_s))


def figures_of(outcomes: Sequence[Outcome]) -> list[Figure]:
    """The table of figures beside their targets (method.md says where these come from)."""
    loaded = [o for o in outcomes if o.kind != "far"]
    far = [o for o in outcomes if o.kind == "far"]
    healthy = [o for o in outcomes if o.kind not in STANDING]
    changing = sorted({o.kind for o in outcomes if o.change_found is not None})
    return [
        *(_condition(kind, [o for o in outcomes if o.kind == kind]) for kind in CONDITIONS),
        *(
            _accuracy(f"{kind}: comfort limit", [o.comfort for o in outcomes if o.kind == kind], 0.03, 0.12)
            for kind in COMFORT
        ),
        _accuracy("all: throughput limit", [o.throughput for o in loaded], 0.012, 0.04),
        _accuracy("all: saturation point N*", [o.users for o in loaded], 0.015, 0.06),
        _accuracy("all: comfort limit", [o.comfort for o in outcomes], 0.03, 0.12),
        _accuracy("ordinary: ceiling by the utilisation law", _ceilings(outcomes, "ordinary"), 0.012, 0.04),
        _accuracy("few users: ceiling by the utilisation law", _ceilings(outcomes, "few users"), 0.015, 0.06),
        share("false claims far from saturation", [o.claimed for o in far], 0.0, 0.01),
        share("saturation missed", [not o.claimed for o in loaded], 0.0, 0.08),
        *(
            share(f"{kind}: the change is found", [o.change_found for o in outcomes if o.kind == kind], 0.9, 1.0)
            for kind in changing
        ),
        share(
            "changes said of systems that did not", [o.changed for o in outcomes if o.kind not in UNSTABLE], 0.0, 0.02
        ),
        share("no answer at all", [not o.answered for o in outcomes], 0.0, 0.02),
        share(
            "levels flagged by Little's law",
            [i < o.little_flags for o in outcomes for i in range(o.levels)],
            0.0,
            0.015,
        ),
        share("runs with a level flagged by Little's law", [o.little_flags > 0 for o in outcomes], 0.0, 0.03),
        share("runs said to have stood still that did not", [o.paused for o in healthy], 0.0, 0.03),
    ]


def _ceilings(outcomes: Sequence[Outcome], kind: str) -> list[Judged | None]:
    return [o.ceiling for o in outcomes if o.kind == kind]


def _condition(kind: str, outcomes: Sequence[Outcome]) -> Figure:
    """One condition in a line: the limit and N*, how often each is claimed, and what is named."""
    if not outcomes:
        return Figure(kind, "(n 0)", "", None)
    limit, users = [o.throughput for o in outcomes], [o.users for o in outcomes]
    right = [o.limit_right for o in outcomes if o.limit_right is not None and (o.claimed or o.kind == "far")]
    parts = [
        f"X {_figures(limit)}",
        f"N* {_figures(users)}",
        f"not claimed {np.mean([not o.claimed for o in outcomes]):.0%}",
        f"no answer {np.mean([not o.answered for o in outcomes]):.0%}",
        f"limit right {np.mean(right):.0%}" if right else "",
        f"n {len(outcomes)}",
    ]
    enough = [_covered(found) >= LEAST_COVERED for found in (limit, users) if any(found)]
    named = not right or float(np.mean(right)) >= 0.95
    return Figure(kind, "; ".join(filter(None, parts)), "covered 80 %, named 95 %", all(enough) and named)


def _figures(values: Sequence[Judged | None]) -> str:
    present = [v for v in values if v is not None]
    if not present:
        return "–"
    errors = np.percentile([v.error for v in present], [50, 90])
    width = float(np.median([v.width for v in present]))
    return f"{errors[0]:.1%} / {errors[1]:.1%}, covered {_covered(values):.0%}, width {width:.0%}"


def _covered(values: Sequence[Judged | None]) -> float:
    return float(np.mean([v.covered for v in values if v is not None]))


def _accuracy(name: str, values: Sequence[Judged | None], median: float, p90: float) -> Figure:
    present = [v for v in values if v is not None]
    if not present:
        return Figure(f"{name}, median / p90 error", "(n 0)", "", None)
    found = np.percentile([v.error for v in present], [50, 90])
    return Figure(
        f"{name}, median / p90 error",
        f"{_figures(values)} (n {len(present)})",
        f"at most {median:.1%} / {p90:.1%}, covered 80 %",
        bool(found[0] <= median and found[1] <= p90 and _covered(values) >= LEAST_COVERED),
    )


def share(name: str, values: Sequence[bool | None], low: float, high: float) -> Figure:
    present = [v for v in values if v is not None]
    share = sum(present) / len(present) if present else 0.0
    target = f"at most {high:.1%}" if low == 0 else f"at least {low:.0%}"
    return Figure(name, f"{share:.1%} ({sum(present)} of {len(present)})", target, bool(low <= share <= high))
