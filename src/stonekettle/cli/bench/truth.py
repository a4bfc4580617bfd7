"""The analysis against systems whose truth is known: the practice system's twin, at random."""

from __future__ import annotations

import os
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace
from random import Random

import numpy as np

from stonekettle.cli.bench import Figure
from stonekettle.core import analysis
from stonekettle.core.bottleneck import LimitingResource
from stonekettle.core.distribution import Law
from stonekettle.core.histogram import percentile_s
from stonekettle.core.load_profile import LoadProfile, Segment
from stonekettle.core.objectives import ComfortLimit, Objective
from stonekettle.core.orders import as_planned
from stonekettle.core.run_data import RunData
from stonekettle.core.saturation import Saturation
from stonekettle.core.types import Estimate
from stonekettle.practice import truth as known
from stonekettle.practice.config import Component, PracticeConfig, Route, Visit
from stonekettle.practice.twin import TwinJourney, TwinStep, simulate

LONG_RUN_COMPLETIONS = 25_000
ROUTE = "GET /"
KINDS = ("saturated", "far", "pool")


@dataclass(frozen=True)
class Case:
    """A random system, the load against it, and an objective."""

    kind: str
    seed: int
    config: PracticeConfig
    think_s: float
    profile: LoadProfile
    goal_s: float


@dataclass(frozen=True)
class Outcome:
    """What the analysis said about a case, beside the truth. Errors are relative."""

    kind: str
    claimed: bool
    throughput_error: float | None = None
    ceiling_error: float | None = None
    users_error: float | None = None
    users_covered: bool | None = None
    users_width: float | None = None
    comfort_error: float | None = None
    comfort_covered: bool | None = None
    comfort_width: float | None = None
    limit_right: bool = False
    little_flags: int = 0
    levels: int = 0


def measure(*, quick: bool) -> list[Figure]:
    """Accuracy over 150 random systems (60 with ``quick``)."""
    each = {"saturated": 32, "far": 16, "pool": 12} if quick else {"saturated": 80, "far": 44, "pool": 26}
    jobs = [(kind, seed) for kind in KINDS for seed in range(each[kind])]
    with ProcessPoolExecutor(min(2, os.cpu_count() or 1)) as pool:
        outcomes = list(pool.map(_examine, jobs, chunksize=2))
    return figures_of(outcomes)


def _examine(job: tuple[str, int]) -> Outcome:
    case = make_case(*job)
    return judge(case)


def make_case(kind: str, seed: int) -> Case:
    """A system of 2–4 multi-server stations at 20–300 req/s, think time 0.5–8 s, 6–12 levels of
    15–60 s. ``kind``: loaded beyond saturation, far from it, or limited by a pool."""
    random = Random(f"{kind}-{seed}")
    count = random.randint(2, 4)
    limit = 20 * 15 ** random.random()
    think = 0.5 * 16 ** random.random()
    components, visits = [], []
    bottleneck = random.randrange(count)
    for i in range(count):
        servers = random.randint(1, 8)
        share = 1.0 if i == bottleneck else random.uniform(0.2, 0.85)
        service_s = share * servers / limit
        components.append(Component(f"c{i}", cpus=servers))
        visits.append(Visit(f"c{i}", service_s * 1000))
    config = PracticeConfig(tuple(components), (Route("GET", "/", tuple(visits)),))
    if kind == "pool":
        # A pool that keeps the hardware behind it at 30–65 %.
        name = f"c{bottleneck}"
        servers = config.component(name).cpus + 4
        pool = max(1, round(servers * random.uniform(0.3, 0.65)))
        config = config.with_component(name, cpus=servers, pool=pool)
    truth = known.compute(config, {ROUTE: 1.0}, think)
    levels = random.randint(6, 12)
    reach = random.uniform(0.25, 0.6) if kind == "far" else random.uniform(1.4, 1.9)
    step = max(1, round(truth.users * reach / levels))
    hold = max(random.uniform(15, 60), 12 * think if kind == "far" else 0, 130 / (step / (think + 0.5)))
    profile = LoadProfile((Segment.climb(step, step * levels, step, round(min(hold, 90))),))
    goal = truth.light_response_s * random.uniform(4, 9)
    return Case(kind, seed, config, think, profile, goal)


def judge(case: Case, *, comfort: bool = True) -> Outcome:
    """Analyse one simulated run and compare with the truth. The true comfort limit takes long runs;
    ``comfort`` false leaves it out."""
    truth = known.compute(case.config, {ROUTE: 1.0}, case.think_s)
    run = simulate(case.config, journeys(case), case.profile, seed=case.seed + 1)
    goals = [Objective(1, "response", case.goal_s, 95.0)]
    found = analysis.analyse(run, as_planned(case.profile), goals, 0.05)
    point, limiting, limit = found.saturation, found.limiting, found.comfort
    named = limiting.resource.key if isinstance(limiting, LimitingResource) and limiting.resource else None
    claimed = isinstance(point, Saturation) and point.status == "reached"
    outcome = {
        "kind": case.kind,
        "claimed": claimed,
        "limit_right": named == (None if case.kind == "far" else truth.limiting),
        "little_flags": sum(check.broken for check in found.little),
        "levels": len(found.levels),
    }
    if isinstance(point, Saturation) and point.throughput and point.load:
        users = point.load
        outcome |= {
            "throughput_error": abs(point.throughput.value / truth.throughput_limit - 1),
            "users_error": abs(users.value / truth.users - 1),
            "users_covered": users.low <= truth.users <= users.high,
            "users_width": (users.high - users.low) / truth.users,
        }
    if isinstance(point, Saturation) and point.ceiling and case.kind == "saturated":
        outcome["ceiling_error"] = abs(point.ceiling.throughput.value / truth.throughput_limit - 1)
    if comfort and case.kind == "saturated" and isinstance(limit, ComfortLimit) and limit.load:
        outcome |= _judge_comfort(case, limit, limit.load)
    return Outcome(**outcome)  # type: ignore[arg-type]


def _judge_comfort(case: Case, limit: ComfortLimit, users: Estimate) -> dict[str, object]:
    real = true_comfort(case, int(limit.tested)) if limit.status == "found" else None
    if real is None:
        return {}
    return {
        "comfort_error": abs(users.value / real - 1),
        "comfort_covered": users.low <= real <= users.high,
        "comfort_width": (users.high - users.low) / real,
    }


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


def journeys(case: Case) -> list[TwinJourney]:
    return [TwinJourney("visit", 1.0, (TwinStep(ROUTE, Law("exponential", case.think_s)),))]


def true_comfort(case: Case, most: int) -> float | None:
    """The load at which the true 95th percentile meets the goal, by bisection on long runs."""
    low, high = 1.0, float(most)
    if _long_percentile(case, most) <= case.goal_s or _long_percentile(case, 1) > case.goal_s:
        return None
    while high - low > max(1.0, 0.01 * high):
        middle = round((low + high) / 2)
        if _long_percentile(case, middle) > case.goal_s:
            high = middle
        else:
            low = middle
    return (low + high) / 2


def _long_percentile(case: Case, users: int) -> float:
    truth = known.compute(case.config, {ROUTE: 1.0}, case.think_s)
    rate = truth.curve(users).throughput[-1]
    settle = 4 * (case.think_s + users / rate)
    duration = settle + LONG_RUN_COMPLETIONS / rate
    run = simulate(case.config, journeys(case), LoadProfile((Segment.hold(users, duration),)), seed=99, cpu_noise=0)
    counted = np.arange(run.seconds) >= settle
    return percentile_s(run.histograms.merged(counted), 95)


def figures_of(outcomes: Sequence[Outcome]) -> list[Figure]:
    """The table of figures beside their targets (method.md says where these come from)."""
    saturated = [o for o in outcomes if o.kind != "far"]
    hardware = [o for o in outcomes if o.kind == "saturated"]
    far = [o for o in outcomes if o.kind == "far"]
    pools = [o for o in outcomes if o.kind == "pool"]
    return [
        _errors("throughput limit", [o.throughput_error for o in saturated], 0.012, 0.035),
        _errors("throughput ceiling (utilisation law)", [o.ceiling_error for o in hardware], 0.010, 0.030),
        _errors("saturation point N*", [o.users_error for o in saturated], 0.012, 0.035),
        share("interval of N* covers the truth", [o.users_covered for o in saturated], 0.82, 1.0),
        _width("width of the interval of N*", [o.users_width for o in saturated]),
        _errors("comfort limit", [o.comfort_error for o in hardware], 0.045, 0.12),
        share("interval of comfort limit covers", [o.comfort_covered for o in hardware], 0.85, 1.0),
        _width("width of the interval of comfort limit", [o.comfort_width for o in hardware]),
        share("false claims far from saturation", [o.claimed for o in far], 0.0, 0.02),
        share("saturation missed", [not o.claimed for o in saturated], 0.0, 0.08),
        share("limiting resource right, hardware", [o.limit_right for o in hardware], 0.95, 1.0),
        share("limiting resource right, pool", [o.limit_right for o in pools], 0.95, 1.0),
        share("nothing named far from saturation", [o.limit_right for o in far], 0.97, 1.0),
        share(
            "levels flagged by Little's law",
            [i < o.little_flags for o in outcomes for i in range(o.levels)],
            0.0,
            0.015,
        ),
    ]


def _errors(name: str, values: Sequence[float | None], median: float, p90: float) -> Figure:
    known_values = [v for v in values if v is not None]
    if not known_values:
        return Figure(f"{name}, median / p90 error", "(n 0)", "", None)
    found = np.percentile(known_values, [50, 90])
    return Figure(
        f"{name}, median / p90 error",
        f"{found[0]:.1%} / {found[1]:.1%} (n {len(known_values)})",
        f"at most {median:.1%} / {p90:.1%}",
        bool(found[0] <= median and found[1] <= p90),
    )


def share(name: str, values: Sequence[bool | None], low: float, high: float) -> Figure:
    present = [v for v in values if v is not None]
    share = sum(present) / len(present) if present else 0.0
    target = f"at most {high:.1%}" if low == 0 else f"at least {low:.0%}"
    return Figure(name, f"{share:.1%} ({sum(present)} of {len(present)})", target, bool(low <= share <= high))


def _width(name: str, values: Sequence[float | None]) -> Figure:
    present = [v for v in values if v is not None]
    return Figure(name, f"{np.median(present):.1%} (median)" if present else "(n 0)", "", None)
