"""Random systems with a known truth, a condition at a time: the well-behaved ones, and what practice is full of."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from random import Random
from typing import Any

import numpy as np

from stonekettle.core.distribution import Law, LawName
from stonekettle.core.load_profile import LoadProfile, Segment
from stonekettle.practice import truth as known
from stonekettle.practice.config import Component, PracticeConfig, Route, Visit
from stonekettle.practice.twin import TwinJourney, TwinStep, simulate

ROUTE = "GET /"
PEAK_COMPLETIONS = 5_000
PEAK_AROUND = np.linspace(0.7, 1.3, 5)
"""Where a peak is looked for, as shares of N*."""
CHECK_AT = 0.25
"""A check level returns to such a share of the highest load."""


@dataclass(frozen=True)
class Real:
    """What is true of a system: its limit of successes per second, N*, and what sets it (None: not judged).

    A ``peak`` is where throughput falls beyond; ``changes`` what an analysis should find besides."""

    throughput: float
    users: float | None
    limiting: str | None
    peak: bool = False
    changes: str | None = None


@dataclass(frozen=True)
class Case:
    """A random system, the load against it, and an objective."""

    kind: str
    seed: int
    config: PracticeConfig
    journeys: tuple[TwinJourney, ...]
    profile: LoadProfile
    goal_s: float
    real: Real

    @property
    def checked(self) -> bool:
        """Whether it returns to a lower level in the end."""
        last = self.profile.segments[-1]
        return len(self.profile.segments) > 1 and last.end < self.profile.peak


@dataclass
class _Draft:
    """A system on the way to its case: well-behaved until a condition changes it."""

    random: Random
    config: PracticeConfig
    bottleneck: str
    think: Law
    limit_s: float | None = None
    journeys: tuple[TwinJourney, ...] | None = None
    reach: tuple[float, float] = (1.4, 1.9)
    hold_s: tuple[float, float] = (15, 60)
    least_hold_s: float = 0.0
    check: bool | None = None
    goal: tuple[float, float] = (4, 9)

    def change(self, **changes: Any) -> None:
        self.config = self.config.with_component(self.bottleneck, **changes)

    @property
    def component(self) -> Component:
        return self.config.component(self.bottleneck)

    @property
    def truth(self) -> known.Truth:
        mix, think_s = known.mix_of(self.walks)
        return known.compute(self.config, mix, think_s)

    @property
    def walks(self) -> tuple[TwinJourney, ...]:
        return self.journeys or (TwinJourney("visit", 1.0, (TwinStep(ROUTE, self.think, self.limit_s),)),)


def make(kind: str, seed: int) -> Case:
    """The system number ``seed`` of a condition: 2–4 multi-server stations at 20–300 req/s, think time 0.5–8 s, 6–12
    levels of 15–60 s, but for what the condition changes."""
    random = Random(f"{kind}-{seed}")
    shape = CONDITIONS[kind]
    draft = _well_behaved(random)
    real = shape(draft)
    truth = draft.truth
    real = real or Real(truth.throughput_limit, truth.users, truth.limiting)
    profile = _profile(draft, real.users or truth.users)
    if draft.check if draft.check is not None else seed % 2:
        users = max(1, round(CHECK_AT * profile.peak))
        hold = _held(profile.segments[0])
        profile = LoadProfile((*profile.segments, Segment.hold(users, hold)))
    goal = truth.light_response_s * random.uniform(*draft.goal)
    case = Case(kind, seed, draft.config, draft.walks, profile, goal, real)
    return _after(case)


def _after(case: Case) -> Case:
    """What is true only of a certain course of load, or has no closed form."""
    if case.kind in ("time limits", "errors under overload"):
        return replace(case, real=_peak_by_long_runs(case))
    if case.kind == "drift":
        return _drifting(case)
    if case.kind == "warming":
        return _warming(case)
    return case


def _well_behaved(random: Random) -> _Draft:
    limit = 20 * 15 ** random.random()
    think = 0.5 * 16 ** random.random()
    return _system(random, limit, Law("exponential", think), servers=(1, 8))


def _system(
    random: Random, limit: float, think: Law, *, servers: tuple[int, int], second: tuple[float, float] = (0.2, 0.85)
) -> _Draft:
    count = random.randint(2, 4)
    components, visits = [], []
    bottleneck = random.randrange(count)
    for i in range(count):
        cpus = random.randint(*servers)
        share = 1.0 if i == bottleneck else random.uniform(*second)
        components.append(Component(f"c{i}", cpus=cpus))
        visits.append(Visit(f"c{i}", share * cpus / limit * 1000))
    config = PracticeConfig(tuple(components), (Route("GET", "/", tuple(visits)),))
    return _Draft(random, config, f"c{bottleneck}", think)


def _profile(draft: _Draft, users: float) -> LoadProfile:
    random = draft.random
    levels = random.randint(6, 12)
    step = max(1, round(users * random.uniform(*draft.reach) / levels))
    truth = draft.truth
    cycle = truth.think_s + truth.light_response_s
    hold = max(random.uniform(*draft.hold_s), draft.least_hold_s, min(90.0, 130 / (step / cycle)))
    top = max(levels, 4) * step
    return LoadProfile((Segment.climb(step, top, step, round(hold)),))


def _held(climb: Segment) -> float:
    return climb.duration_s / climb.stairs


def _ordinary(draft: _Draft) -> None:
    """N* of 30 and more."""
    while draft.truth.users < 30:
        draft.think = Law("exponential", draft.think.mean_s * 1.5)


def _few(draft: _Draft) -> None:
    """Fewer than 30 users at saturation."""
    random = draft.random
    limit = 8 * 10 ** random.random()
    made = _system(random, limit, draft.think, servers=(1, 3))
    draft.config, draft.bottleneck = made.config, made.bottleneck
    response = sum(v.cpu_ms for v in draft.config.routes[0].visits) / 1000
    users = max(random.uniform(3, 29), 1.3 * limit * response)
    draft.think = Law("exponential", users / limit - response)


def _slow(draft: _Draft) -> None:
    """Responses near 5 s."""
    random = draft.random
    made = _system(random, 1.0, draft.think, servers=(8, 40))
    whole = sum(v.cpu_ms for v in made.config.routes[0].visits) / 1000
    factor = random.uniform(2, 5) / whole
    visits = tuple(replace(v, cpu_ms=v.cpu_ms * factor) for v in made.config.routes[0].visits)
    draft.config = replace(made.config, routes=(Route("GET", "/", visits),))
    draft.bottleneck = made.bottleneck
    draft.hold_s = (40, 90)


def _tied(draft: _Draft) -> None:
    """Two stations nearly tied."""
    random = draft.random
    made = _system(random, 20 * 15 ** random.random(), draft.think, servers=(1, 8), second=(0.9, 0.99))
    draft.config, draft.bottleneck = made.config, made.bottleneck


def _tails(draft: _Draft) -> None:
    """Few services take most of the time."""
    law: LawName = draft.random.choice(("hyperexponential", "pareto"))
    draft.config = replace(draft.config, service_law=law, service_variation=3.0)


def _mixes(draft: _Draft) -> None:
    """Journeys whose steps ask different stations."""
    random = draft.random
    names = [c.name for c in draft.config.components]
    scale = {v.component: v.cpu_ms for v in draft.config.routes[0].visits}
    routes, journeys = [], []
    for j in range(random.randint(2, 3)):
        steps = []
        for s in range(random.randint(1, 4)):
            path = f"/{j}-{s}"
            asked = random.sample(names, random.randint(1, len(names)))
            visits = tuple(Visit(name, scale[name] * random.uniform(0.3, 2.0)) for name in asked)
            routes.append(Route("GET", path, visits))
            steps.append(TwinStep(f"GET {path}", draft.think))
        journeys.append(TwinJourney(f"j{j}", random.uniform(1, 4), tuple(steps)))
    draft.config = replace(draft.config, routes=tuple(routes))
    draft.journeys = tuple(journeys)
    draft.bottleneck = draft.truth.limiting.partition(".")[0]


def _thinking(draft: _Draft) -> None:
    """Think times that are fixed, uniform or log-normal."""
    mean, random = draft.think.mean_s, draft.random
    draft.think = random.choice(
        (Law("fixed", mean), Law("uniform", mean, 0.5 * mean), Law("lognormal", mean, variation=1.5))
    )


def _sharing(draft: _Draft) -> Real:
    """Processors shared by everybody, and two visits at once."""
    draft.config = replace(
        draft.config,
        components=tuple(replace(c, sharing=True) for c in draft.config.components),
        routes=tuple(
            replace(r, visits=(r.visits[0], replace(r.visits[1], beside=True), *r.visits[2:]))
            for r in draft.config.routes
        ),
    )
    truth = draft.truth
    a, b = (v.cpu_ms / 1000 for v in draft.config.routes[0].visits[:2])
    # The longer of two exponential times.
    together = a + b - 1 / (1 / a + 1 / b)
    response = truth.light_response_s - (a + b) + together
    return Real(truth.throughput_limit, truth.throughput_limit * (response + truth.think_s), truth.limiting)


def _far(draft: _Draft) -> None:
    """A load of a quarter to three fifths of N*."""
    draft.reach = (0.25, 0.6)
    draft.least_hold_s = min(90.0, 12 * draft.think.mean_s)


def _pool(draft: _Draft) -> None:
    """A pool that keeps the hardware behind it at 30–65 %."""
    servers = draft.component.cpus + 4
    draft.change(cpus=servers, pool=max(1, round(servers * draft.random.uniform(0.3, 0.65))))


def _hidden_pool(draft: _Draft) -> Real:
    _pool(draft)
    draft.change(pool_metered=False)
    truth = draft.truth
    unseen = truth.limiting.endswith("connections")
    return Real(truth.throughput_limit, truth.users, "unmetered" if unseen else truth.limiting)


def _lock(draft: _Draft) -> Real:
    """A lock whose holder is the slower, the more wait for it: throughput falls beyond its peak."""
    random = draft.random
    lock_s = 1 / draft.truth.throughput_limit / random.uniform(1.3, 2.0)
    draft.bottleneck = draft.config.routes[0].visits[0].component
    draft.change(lock_ms=1000 * lock_s, lock_growth=random.uniform(0.01, 0.03))
    # A few users: with many, a system falls out of its good state only after hours.
    draft.think = Law("exponential", random.uniform(15, 60) * lock_s)
    # Room for the lock alone to be what gives out.
    draft.config = replace(draft.config, components=tuple(replace(c, cpus=2 * c.cpus) for c in draft.config.components))
    truth = draft.truth
    most = int(3 * truth.users)
    curve = truth.curve(most)
    at = int(np.argmax(curve.throughput))
    # Beyond the peak by enough for it to show.
    fallen = np.flatnonzero((curve.throughput < 0.8 * curve.throughput[at]) & (curve.users > at))
    users = float(curve.users[fallen[0]]) if fallen.size else float(most)
    draft.reach = (1.2, 1.6)
    return Real(float(curve.throughput[at]), users, "contention", peak=True)


def _late_errors(draft: _Draft) -> Real:
    """A share of visits fails after the work was done, at the first component or the last."""
    random = draft.random
    truth, share = draft.truth, random.uniform(0.05, 0.35)
    visits = draft.config.routes[0].visits
    failing = random.choice((visits[0], visits[-1])).component
    draft.config = draft.config.with_component(failing, fails=share)
    reached, demand, spent = 1.0, {}, 0.0
    for visit in visits:
        spent += reached * visit.cpu_ms / 1000
        demand[visit.component] = reached * visit.cpu_ms / 1000
        reached *= 1 - share if visit.component == failing else 1.0
    most = {f"{name}.cpu": draft.config.component(name).cpus / d for name, d in demand.items()}
    first = min(most, key=most.__getitem__)
    return Real(most[first] * (1 - share), most[first] * (spent + truth.think_s), first)


def _overload_errors(draft: _Draft) -> Real:
    """Over so many inside, a share of the visits fails after its work."""
    random = draft.random
    servers = draft.component.cpus
    draft.change(fails=random.uniform(0.3, 0.8), fails_over=round(servers * random.uniform(2, 5)) + 2)
    truth = draft.truth
    return Real(truth.throughput_limit, truth.users, truth.limiting)


def _refusals(draft: _Draft) -> None:
    """Over so many inside, everybody is refused at once."""
    truth = draft.truth
    # Whoever waits further on is inside as well: room for all that a full system has in work, and for a queue.
    inside = truth.throughput_limit * truth.light_response_s
    draft.change(refuse_over=round(inside * draft.random.uniform(2, 4) + 3 * draft.component.cpus))


def _time_limits(draft: _Draft) -> Real:
    """Who waits too long goes away, and is served all the same."""
    draft.limit_s = draft.truth.light_response_s * draft.random.uniform(5, 10)
    draft.reach = (1.5, 2.2)
    truth = draft.truth
    return Real(truth.throughput_limit, truth.users, truth.limiting)


def _warm(draft: _Draft) -> None:
    """A cache that is cold at first."""
    draft.check = True
    draft.change(cold_factor=draft.random.uniform(1.5, 3.0))


def _drift(draft: _Draft) -> None:
    """Work grows by 30 % during the run."""
    draft.check = True


def _periodic(draft: _Draft) -> Real:
    """A job takes the whole component for 1–3 s each 15–40 s."""
    random, servers = draft.random, draft.component.cpus
    every, length = random.uniform(15, 40), random.uniform(1, 3)
    draft.change(job_every_s=every, job_s=length, job_cpus=servers)
    return _interrupted(draft, every, length, "periodic")


def _pauses(draft: _Draft) -> Real:
    """All servers stand still for 0.3–1 s each 20 s."""
    length = draft.random.uniform(0.3, 1.0)
    draft.config = replace(
        draft.config,
        components=tuple(replace(c, pause_every_s=20, pause_s=length) for c in draft.config.components),
    )
    return _interrupted(draft, 20, length, None)


def _interrupted(draft: _Draft, every_s: float, length_s: float, changes: str | None) -> Real:
    truth, able = draft.truth, 1 - length_s / every_s
    lone, think = truth.light_response_s, draft.think.mean_s
    # A lone user meets each one once: who thinks then comes after an exponential time and waits for the rest of it; who
    # is being served waits for all of a pause, and for nothing of a job, which comes after.
    thinking = think / (think + lone)
    wait = thinking * (length_s - think * (1 - math.exp(-length_s / think)))
    wait += (1 - thinking) * length_s if changes is None else 0.0
    response = lone + wait * (think + lone) / (every_s - wait)
    limit = {
        name: station.limit * (able if changes is None or name == f"{draft.bottleneck}.cpu" else 1.0)
        for name, station in ((s.name, s) for s in truth.stations)
    }
    first = min(limit, key=limit.__getitem__)
    return Real(limit[first], limit[first] * (response + truth.think_s), first, changes=changes)


def _short(draft: _Draft) -> None:
    """Levels of 10–15 s."""
    draft.hold_s = (10, 15)


CONDITIONS: Mapping[str, Callable[[_Draft], Real | None]] = {
    "ordinary": _ordinary,
    "few users": _few,
    "heavy tails": _tails,
    "mixes": _mixes,
    "slow": _slow,
    "nearly tied": _tied,
    "think times": _thinking,
    "shared cpus, fork and join": _sharing,
    "short levels": _short,
    "pool": _pool,
    "pool without metrics": _hidden_pool,
    "lock": _lock,
    "errors": _late_errors,
    "errors under overload": _overload_errors,
    "refusals": _refusals,
    "time limits": _time_limits,
    "warming": _warm,
    "drift": _drift,
    "periodic job": _periodic,
    "pauses": _pauses,
    "far": _far,
}


def _drifting(case: Case) -> Case:
    """30 % over the whole run; what is true is true at the end of the climb."""
    seconds = case.profile.duration_s
    per_minute = 0.3 / (seconds / 60)
    components = tuple(replace(c, slows_per_minute=per_minute) for c in case.config.components)
    climb, levels = case.profile.segments[0].duration_s, case.profile.segments[0].stairs
    # Of the levels beyond saturation, about the upper third, the middle.
    factor = 1 + 0.3 * climb * (1 - 1.5 / levels) / seconds
    return replace(
        case,
        config=replace(case.config, components=components),
        real=replace(case.real, throughput=case.real.throughput / factor, users=None, changes="slower"),
    )


def _warming(case: Case) -> Case:
    """Warm in the last third of the climb: what is true is true then."""
    name = case.real.limiting.partition(".")[0] if case.real.limiting else ""
    _, think_s = known.mix_of(case.journeys)
    truth = known.compute(case.config, {ROUTE: 1.0}, think_s)
    climb = case.profile.segments[0]
    curve = truth.curve(int(case.profile.peak))
    loads = np.linspace(climb.start, climb.end, climb.stairs)
    visits = sum(float(curve.throughput[int(n) - 1]) * _held(climb) for n in loads)
    config = case.config.with_component(name, warms_over=visits * Random(case.seed).uniform(0.08, 0.2))
    return replace(case, config=config, real=replace(case.real, changes="faster"))


def _peak_by_long_runs(case: Case) -> Real:
    """The highest rate of successes around N*, by long runs at five loads and at two more around the best of these: a
    parabola through the best."""
    _, think_s = known.mix_of(case.journeys)
    truth = known.compute(case.config, {ROUTE: 1.0}, think_s)
    goodput = {int(users): _goodput(case, int(users), truth) for users in np.round(PEAK_AROUND * truth.users)}
    best_at = max(goodput, key=goodput.__getitem__)
    half = float(np.diff(PEAK_AROUND)[0]) / 2
    for users in {max(1, round(best_at * (1 - half))), round(best_at * (1 + half))} - set(goodput):
        goodput[users] = _goodput(case, users, truth)
    loads = np.array(sorted(goodput))
    rates = np.array([goodput[users] for users in loads])
    at = int(np.clip(np.argmax(rates), 1, len(loads) - 2))
    near = slice(at - 1, at + 2)
    curve = np.polyfit(loads[near], rates[near], 2)
    best = float(np.polyval(curve, -curve[1] / (2 * curve[0]))) if curve[0] < 0 else float(rates.max())
    top = float(max(min(best, 1.05 * rates.max()), rates.max()))
    return Real(top, None, case.real.limiting, peak=True)


def _goodput(case: Case, users: int, truth: known.Truth) -> float:
    rate = min(truth.throughput_limit, users / (truth.think_s + truth.light_response_s))
    settle = math.ceil(4 * (truth.think_s + users / rate))
    profile = LoadProfile((Segment.hold(users, settle + PEAK_COMPLETIONS / rate),))
    run = simulate(case.config, case.journeys, profile, seed=98, cpu_noise=0)
    return float(run.succeeded[settle:].mean())
