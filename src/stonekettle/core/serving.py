"""How long would steps take with other numbers of instances?

Of each step the distribution at light load is known. Besides, it waits at each station: not at all while one of its
servers is free, and otherwise for an exponential time; how likely that is and how long it takes on the mean are those
of a queue with m servers (Erlang 1917), times a weight. The weight is what the step took longer at higher levels than
at the lightest one, spread over the stations by non-negative least squares (Lawson & Hanson 1974) with a guess of what
it is where the levels do not tell: so a step that does not come by a station comes not to wait for it.

People who think between steps come as often as the answers let them, X = N / (Z + R(X)); those who come by rate
do so anyway. What is not known for certain (demands, light times, waits, the load itself) is drawn many times, so that
every answer has a distribution.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
import scipy
from scipy import special

from stonekettle.core.objectives import Objective
from stonekettle.core.queueing import have_to_wait
from stonekettle.core.types import CoreInputError, FloatArray

DRAWS = 64
"""The first draw is of everything as it is estimated."""
SAMPLES = 400
WAIT_ERROR = 0.25
"""How far waits are off, as a share, on systems with known truth."""
GUESS, GUESS_ERROR = 1.1, 0.6
"""The weight of a wait that no level tells, and how far off it may be."""
LEAST_RISE_ERROR = 0.05
FULLEST = 0.8
"""Levels at which a station is fuller tell too little of waits: few users cannot queue as long as an open queue would
make them, and many not within the level."""
NEARLY = 0.995
FOR_EVER_S = 1e6
ROUNDS = 12
"""Halvings by which a rate is found: to a four-thousandth of what it can be."""


@dataclass(frozen=True)
class Station:
    """A resource of a component: ``servers`` of each instance, what a step of the mix costs there on the mean
    (``demand_s``, seconds) with its relative standard ``error``, and the share of it that is busy without any step."""

    key: str
    component: str
    servers: float
    demand_s: float
    error: float = 0.0
    background: float = 0.0


@dataclass(frozen=True)
class Step:
    """A step of the mix: its ``share`` of all steps, quantiles of its time at light load (s, shape (q,), in order) with
    their relative standard ``error``, by how many times the mean wait at each station it waits there (shape
    (stations,)), and how many times the mean demand it asks there (the same shape)."""

    name: str
    share: float
    light_s: FloatArray
    waits: FloatArray
    asks: FloatArray
    error: float = 0.0


@dataclass(frozen=True)
class Peak:
    """A load: so many users, or steps per second, which may be off by the relative standard ``error``."""

    kind: str
    value: float
    error: float = 0.0

    def times(self, factor: float) -> Peak:
        return replace(self, value=self.value * factor)


@dataclass(frozen=True)
class Service:
    """How a load is served, by draw: the ``rate`` of steps (1/s), shape (draws,); the utilisation of each station,
    (draws, stations); and how far each goal is used up, (draws, goals): above 1 it is missed."""

    rate: FloatArray
    utilisation: FloatArray
    used_up: FloatArray


@dataclass(frozen=True)
class Seen:
    """A step at a level: the mean it took (s) and how many times it was done."""

    response_s: float
    completions: int


@dataclass(frozen=True)
class SeenLevel:
    """What a level tells of waits: the rate of steps (1/s), the servers of each station in all, shape (stations,), and
    each step of the mix, None where it was not answered."""

    rate: float
    servers: FloatArray
    steps: tuple[Seen | None, ...]


@dataclass(frozen=True)
class System:
    """What was measured: stations, the steps of the mix and the time people think between two (s). ``parts`` are its
    components, in the order in which instances are counted."""

    parts: tuple[str, ...]
    stations: tuple[Station, ...]
    steps: tuple[Step, ...]
    think_s: float

    def __post_init__(self) -> None:
        if not self.stations:
            raise CoreInputError("stations must not be empty")
        if not self.steps or not sum(step.share for step in self.steps) > 0:
            raise CoreInputError("steps must hold one with a share")

    def mixed(self, shares: Sequence[float]) -> System:
        """The same system under another mix of its steps: each brings what it asks."""
        told = np.array(shares) / sum(shares)
        asked = told @ np.array([step.asks for step in self.steps])
        asked = np.where(asked > 0, asked, 1e-9)
        stations = [replace(s, demand_s=s.demand_s * float(a)) for s, a in zip(self.stations, asked, strict=True)]
        # A wait is told in those of the mean step, which now comes by more or less often.
        steps = [
            replace(step, share=float(share), waits=step.waits / asked, asks=step.asks / asked)
            for step, share in zip(self.steps, told, strict=True)
        ]
        return replace(self, stations=tuple(stations), steps=tuple(steps))

    def costing(self, factors: Mapping[str, float]) -> System:
        """The same with the demands at some stations, by key, so many times as large."""
        stations = (replace(s, demand_s=s.demand_s * factors.get(s.key, 1.0)) for s in self.stations)
        return replace(self, stations=tuple(stations))

    def sized(self, factors: Mapping[str, float]) -> System:
        """The same with instances of some components so many times as large."""
        stations = (replace(s, servers=s.servers * factors.get(s.component, 1.0)) for s in self.stations)
        return replace(self, stations=tuple(stations))


class Serving:
    """A system under loads, with its uncertainty drawn once: what differs between two answers is never chance."""

    def __init__(self, system: System, goals: Sequence[Objective], *, draws: int = DRAWS, seed: int = 1) -> None:
        self.system, self.goals = system, tuple(goals)
        self._of_part = np.array([system.parts.index(s.component) for s in system.stations])
        self._per_instance = np.array([s.servers for s in system.stations])
        chance = np.random.default_rng(seed)
        stations, steps = system.stations, system.steps

        def drawn(errors: FloatArray) -> FloatArray:
            """Factors around 1, shape (draws, errors); the first are 1."""
            z = chance.standard_normal((draws, errors.size))
            z[0] = 0.0
            return np.asarray(np.exp(errors * z - errors**2 / 2 * (np.arange(draws) > 0)[:, None]))

        demand = np.array([s.demand_s for s in stations]) * drawn(np.array([s.error for s in stations]))
        self._demand = demand / (1 - np.array([s.background for s in stations]))
        self._background = np.array([s.background for s in stations])
        self._longer = drawn(np.full(len(stations), WAIT_ERROR))
        self._light_off = drawn(np.array([step.error for step in steps]))
        self._load_z = chance.standard_normal(draws)
        self._load_z[0] = 0.0
        self._shares = np.array([step.share for step in steps])
        self._weights = np.array([step.waits for step in steps])
        points = (np.arange(SAMPLES) + 0.5) / SAMPLES
        self._light = np.array(
            [np.interp(points, (np.arange(q.size) + 0.5) / q.size, q) for q in (step.light_s for step in steps)]
        )
        orders = [chance.permutation(SAMPLES) for _ in stations]
        self._chances = -np.log1p(-np.array([points[order] for order in orders]))

    def served(self, peak: Peak, instances: Sequence[int]) -> Service:
        """How a load is served by so many instances of each part."""
        servers = self._servers(instances)
        rate = self._rate(peak, servers)
        use = self._use(rate, servers)
        return Service(rate, use, self._used_up(rate, servers))

    def use(self, peak: Peak, instances: Sequence[int]) -> FloatArray:
        """The utilisation of each station alone, which is told much sooner: shape (draws, stations)."""
        servers = self._servers(instances)
        return self._use(self._rate(peak, servers), servers)

    def missed_at_light(self, sure: float) -> int | None:
        """The goal, by its place, that is used up furthest where nobody waits, if not all hold there in the share
        ``sure`` of the draws."""
        if not self.goals:
            return None
        used_up = self._judged(self._light[None] * self._light_off[:, :, None])
        if np.quantile(used_up.max(axis=1), sure) <= 1:
            return None
        return int(np.quantile(used_up, sure, axis=0).argmax())

    def instances_for(self, rate: FloatArray, share: float) -> FloatArray:
        """So many instances of each part, not whole ones, keep its resources at a ``share`` of their capacity under a
        ``rate`` of steps, shape (draws,): shape (draws, parts), 0 for parts without a resource."""
        room = np.maximum(share - self._background, 1e-3) / (1 - self._background)
        needed = rate[:, None] * self._demand / room / self._per_instance
        found = np.zeros((rate.size, len(self.system.parts)))
        for k, part in enumerate(self._of_part):
            found[:, part] = np.maximum(found[:, part], needed[:, k])
        return found

    def judged_s(self, peak: Peak, instances: Sequence[int], goal: Objective) -> FloatArray:
        """What a goal judges (the percentile or the mean in s, or the score), shape (draws,)."""
        servers = self._servers(instances)
        times = self._times(self._rate(peak, servers), servers)
        chosen = self._chosen(goal)
        weight = self._shares[chosen] / self._shares[chosen].sum()
        if goal.kind == "mean":
            return np.asarray(weight @ times[:, chosen].mean(axis=2).T)
        if goal.kind == "apdex":
            return self._score(times, goal)
        return np.array([_quantile(own[chosen], weight, goal.percent / 100) for own in times])

    def mean_wait_s(self, peak: Peak, instances: Sequence[int]) -> FloatArray:
        """By how much a step of the mix waits at each station (s), as estimated, shape (stations,)."""
        servers = self._servers(instances)
        likely, mean = self._waits(self._rate(peak, servers), servers)
        return np.asarray((self._shares @ self._weights) * (likely * mean)[0])

    def users(self, peak: Peak, instances: Sequence[int]) -> float:
        """So many users make a load, as estimated: N = X(Z + R) (Little 1961)."""
        rate = float(self._rate(peak, self._servers(instances))[0])
        light_s = float(self._shares @ self._light.mean(axis=1))
        return rate * (self.system.think_s + light_s + float(self.mean_wait_s(peak, instances).sum()))

    def _servers(self, instances: Sequence[int]) -> FloatArray:
        each = np.array(instances, dtype=np.float64)[self._of_part]
        return np.asarray(np.maximum(each * self._per_instance, 1e-9))

    def _rate(self, peak: Peak, servers: FloatArray) -> FloatArray:
        """The rate of steps that a load makes, by draw; for users by halving: it falls as answers take longer."""
        load: FloatArray = peak.value * np.exp(peak.error * self._load_z)
        if peak.kind == "rate":
            return np.asarray(load)
        light_s = (self._light.mean(axis=1) * self._light_off) @ self._shares
        most = NEARLY * (servers / self._demand).min(axis=1)
        low, high = np.zeros_like(load), np.minimum(most, load / np.maximum(self.system.think_s + light_s, 1e-9))
        for _ in range(ROUNDS):
            middle = (low + high) / 2
            likely, mean = self._waits(middle, servers)
            response_s = light_s + (likely * mean) @ (self._shares @ self._weights)
            more = middle * (self.system.think_s + response_s) < load
            low, high = np.where(more, middle, low), np.where(more, high, middle)
        return np.asarray((low + high) / 2)

    def _use(self, rate: FloatArray, servers: FloatArray) -> FloatArray:
        own = rate[:, None] * self._demand / servers
        return np.asarray(self._background + (1 - self._background) * own)

    def _waits(self, rate: FloatArray, servers: FloatArray) -> tuple[FloatArray, FloatArray]:
        """At each station how likely a step waits, and for how long it does then (s), both of shape (draws, stations).
        Where it cannot keep up it always waits, and for ever."""
        likely, mean = _waits(rate[:, None], self._demand, servers)
        return likely, mean * self._longer

    def _times(self, rate: FloatArray, servers: FloatArray) -> FloatArray:
        """Times of each step, as many samples of each draw: shape (draws, steps, samples)."""
        likely, mean = self._waits(rate, servers)
        waited = mean[:, :, None] * np.maximum(
            0.0, self._chances[None] + np.log(np.maximum(likely, 1e-300))[:, :, None]
        )
        return np.asarray(self._light[None] * self._light_off[:, :, None] + np.matmul(self._weights, waited))

    def _used_up(self, rate: FloatArray, servers: FloatArray) -> FloatArray:
        if not self.goals:
            return np.zeros((rate.size, 1))
        return self._judged(self._times(rate, servers))

    def _judged(self, times: FloatArray) -> FloatArray:
        found = []
        for goal in self.goals:
            chosen = self._chosen(goal)
            weight = self._shares[chosen] / self._shares[chosen].sum()
            own = times[:, chosen]
            if goal.kind == "mean":
                found.append(own.mean(axis=2) @ weight / goal.limit)
            elif goal.kind == "apdex":
                found.append((1 - self._score(times, goal)) / (1 - goal.limit))
            else:
                over = (own > goal.limit).mean(axis=2) @ weight
                found.append(over / (1 - goal.percent / 100))
        return np.array(found).T

    def _score(self, times: FloatArray, goal: Objective) -> FloatArray:
        chosen = self._chosen(goal)
        weight = self._shares[chosen] / self._shares[chosen].sum()
        own = times[:, chosen]
        met = (own <= goal.target_s).mean(axis=2) + (own <= 4 * goal.target_s).mean(axis=2)
        return np.asarray(met @ weight / 2)

    def _chosen(self, goal: Objective) -> list[int]:
        every = range(len(self.system.steps))
        return [k for k in (every if goal.steps is None else goal.steps) if self._shares[k] > 0]


def judged(goal: Objective, steps: Sequence[Step]) -> bool:
    """Whether a goal can be foretold: of times, and of steps that are in the mix."""
    known = any(steps[k].share > 0 for k in (range(len(steps)) if goal.steps is None else goal.steps))
    return goal.kind != "errors" and known


def light_quantiles(p50_s: float, p95_s: float, p99_s: float, count: int = 200) -> FloatArray:
    """Quantiles of a time (s) of which three percentiles are known, shape (count,): its log goes on in straight lines
    over the score of a normal distribution, below the median as it does above it."""
    scores = special.ndtri((np.arange(count) + 0.5) / count)
    high, higher = special.ndtri(0.95), special.ndtri(0.99)
    p95_s, p99_s = max(p95_s, p50_s), max(p99_s, p95_s, p50_s)
    logs = np.log([p50_s, p95_s, p99_s])
    first = (logs[1] - logs[0]) / high
    last = max((logs[2] - logs[1]) / (higher - high), 0.0)
    told = np.where(
        scores <= high, logs[0] + first * scores, np.minimum(logs[1] + last * (scores - high), logs[2] + 1.0)
    )
    return np.asarray(np.exp(told))


def weights(stations: Sequence[Station], levels: Sequence[SeenLevel], guesses: FloatArray) -> FloatArray:
    """By how many times the mean wait each step waits at each station, shape (steps, stations). ``guesses``, of the
    same shape, are by how many times the mean step it comes by: they count where the levels tell nothing. Levels are
    in order of their load, the lightest first."""
    demand = np.array([s.demand_s / (1 - s.background) for s in stations])
    found = guesses * GUESS
    waited = np.array([_mean_waits(demand, level) for level in levels])
    for k in range(guesses.shape[0]):
        seen = [
            (waits, level.steps[k])
            for waits, level in zip(waited, levels, strict=True)
            if level.steps[k] is not None and np.isfinite(waits).all()
        ]
        if len(seen) < 2:
            continue
        first, base = seen[0]
        assert base is not None  # by the choice above
        rises, columns, errors = [], [], []
        for waits, step in seen[1:]:
            assert step is not None
            rises.append(step.response_s - base.response_s)
            columns.append(waits - first)
            noise = math.hypot(
                step.response_s / math.sqrt(step.completions), base.response_s / math.sqrt(base.completions)
            )
            errors.append(math.hypot(noise, LEAST_RISE_ERROR * step.response_s))
        error, doubt = np.array(errors), np.maximum(GUESS_ERROR * found[k], 0.05)
        rows = np.concatenate([np.array(columns) / error[:, None], np.diag(1 / doubt)])
        told = np.concatenate([np.array(rises) / error, found[k] / doubt])
        found[k] = scipy.optimize.nnls(rows, told)[0]
    return found


def _waits(rate: FloatArray, demand_s: FloatArray, servers: FloatArray) -> tuple[FloatArray, FloatArray]:
    """How likely a step has to wait at a station, and for how long then on the mean (s). A server that is not a whole
    one is a slower one; a station that cannot keep up is waited for for ever."""
    whole = np.maximum(1.0, np.round(servers))
    slower = demand_s * whole / servers
    busy = rate * slower
    over = busy >= NEARLY * whole
    likely = have_to_wait(np.where(over, 0.0, busy), whole)
    return np.where(over, 1.0, likely), np.where(over, FOR_EVER_S, slower / np.where(over, 1.0, whole - busy))


def _mean_waits(demand_s: FloatArray, level: SeenLevel) -> FloatArray:
    """The mean wait at each station (s); NaN where one was too full to tell."""
    if (level.rate * demand_s > FULLEST * level.servers).any():
        return np.full(demand_s.size, np.nan)
    likely, mean = _waits(np.array(level.rate), demand_s, level.servers)
    return np.asarray(likely * mean)


def _quantile(times: FloatArray, weight: FloatArray, share: float) -> float:
    """The quantile of several steps together, of shape (steps, samples), each with its weight."""
    flat = times.ravel()
    order = np.argsort(flat)
    passed = np.cumsum(np.repeat(weight / times.shape[1], times.shape[1])[order])
    return float(flat[order[min(int(np.searchsorted(passed, share)), flat.size - 1)]])
