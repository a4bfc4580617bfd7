"""What does more of a component bring: how much throughput, by which law, and what gives out next?

The throughput at the limit, C(n), is measured with n at several n. Four laws are asked of it: linear, C = λn; a share
that only one at a time can do, λn/(1 + σ(n − 1)) (Amdahl 1967); what each costs every other besides,
λn/(1 + σ(n − 1) + κn(n − 1)) (Gunther 1993); and a limit that all share, λ·min(n, c). Three or four points do not
choose among laws with two constants, so all are believed in by how well they tell the points (Bayesian model averaging,
Hoeting 1999): constants are drawn from what is usual, each draw weighs by its likelihood, and what is foretold is the
weighted quantiles of all.

Where meters tell of the component, the utilisation law tells with each n besides at which throughput its hardware is
full, A(n), more exactly than the limit does, and also where the limit is another: the laws are asked of A(n) then, and
of C(n) only what it lacks of A(n). Every other component that is metered caps all, where it is full. A limit that all
share and no run has come to is believed in as far as response times tell of it (:mod:`hidden`).
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.random import Generator
from scipy import special

from stonekettle.core.analysis import Analysis
from stonekettle.core.bottleneck import LimitingResource
from stonekettle.core.hidden import Rest, evidence, rest_of
from stonekettle.core.objectives import Z_90, ComfortLimit
from stonekettle.core.pooling import random_effects
from stonekettle.core.types import CoreInputError, Declined, Estimate, FloatArray, IntArray, Reason

Law = Literal["linear", "contention", "coherency", "shared limit"]
LAWS: tuple[Law, ...] = ("linear", "contention", "coherency", "shared limit")
HARDWARE_LAWS: tuple[Law, ...] = ("linear", "contention", "coherency")
DRAWS = 4_000
SIGMA, SIGMA_WITH_KAPPA = 0.12, 0.08
"""Usual contention: the means of exponential distributions."""
KAPPA = (3e-4, 0.05)
"""Usual coherency, log-uniform."""
LEAST_ERROR, LEAST_OWN_ERROR = 0.02, 0.012
"""Of a measured limit and of where hardware is full, as a share: laws are no more exact than that."""
PRIOR: Mapping[Law, float] = {"linear": 0.3, "contention": 0.15, "coherency": 0.3, "shared limit": 0.25}
"""Contention alone is coherency with next to none of it, and so is there twice."""
OWN = 0.5
BESIDE: Mapping[Law, float] = {"contention": 0.02, "coherency": 0.02, "shared limit": 0.46}
"""That a component's own hardware tells its limit, where it is metered, or a law beside it: what limits without being
work for that hardware is mostly a lock or a pool, which does so much and no more."""
COMMON_ERROR = 0.012
"""By which all that was measured may be off together, as where utilisation is told a little too high."""
HEARD = 0.3
"""From such a probability on a limit that no run has come to is spoken of."""
HIDDEN = 0.015
"""That all share a limit beyond what was measured, before response times are asked: of itself too little to be told."""
ASKED = 25
"""So many such limits are held against response times."""
MOST_EVIDENCE = 6.0
"""Response times tell that there is something, and never more surely than limits that were measured."""
SHOWS = 0.97
"""A law beside the component's own hardware keeps the limit, with the most of it, under such a share of its own."""
LACKS = 0.93
"""A limit under such a share of what the component's hardware bears is another one."""
CAP_ERROR = 0.04
WIDEST = 1.25
"""What is foretold with a larger high over low is not told."""
FURTHEST, FURTHEST_UNMETERED = 2.0, 1.5
"""As multiples of the most that was measured; with components that nothing meters less far."""
FADED = 0.5
"""Where one more brings a smaller share of what the first ones brought each, adding has stopped to pay."""
LEAST_VALUES = 3


@dataclass(frozen=True)
class Limit:
    """The limit of one run: steps per second with standard error (a share of it), or ``at_least`` so many where the
    run did not reach it. ``own`` is where the hardware of what is scaled is full (log of steps/s, its error),
    ``comfort`` the load up to which objectives held, ``held`` the highest one at which they all did still, ``rest``
    what hardware leaves unexplained of its response times; None where that is not known."""

    rate: float
    error: float
    at_least: bool
    own: tuple[float, float] | None = None
    comfort: Estimate | None = None
    held: float | None = None
    rest: Rest | None = None


@dataclass(frozen=True)
class Point:
    """All runs with ``n``: their limit together (at 90 %), or ``at_least`` so much where no run reached it; where the
    hardware of what is scaled is full, and the load up to which objectives held, or at which they still did, where
    that is known; and of each run what hardware leaves unexplained of its response times."""

    n: float
    capacity: Estimate
    at_least: bool
    runs: int
    own: Estimate | None = None
    comfort: Estimate | None = None
    held: float | None = None
    rests: tuple[Rest, ...] = ()

    @property
    def error(self) -> float:
        """The relative standard error, as far as laws go."""
        return max(LEAST_ERROR, _error_of(self.capacity)) if not self.at_least else LEAST_ERROR


@dataclass(frozen=True)
class Cap:
    """A component of ``key`` other than the one that is scaled is full at a ``rate`` (steps/s, relative ``error``)."""

    key: str
    rate: float
    error: float


@dataclass(frozen=True)
class Foretold:
    """The limit with ``n`` (5, 50 and 95 %); what gives out there: "" the scaled component itself, "shared" a limit
    that all share and no meter sees, or another component, with how sure that is. ``wide`` where the data leave too
    much room for it to be told."""

    n: float
    capacity: Estimate
    limit: str
    sure: float
    wide: bool


def limit_of(analysis: Analysis, scaled: str) -> Limit | Declined:
    """The limit that a run's findings tell, and where the hardware of the ``scaled`` component is full."""
    point = analysis.saturation
    comfort, held = None, None
    if isinstance(analysis.comfort, ComfortLimit):
        comfort = analysis.comfort.load
        held = analysis.comfort.tested if analysis.comfort.status == "holds" else None
    full = [told for _, component, told in _ceilings(analysis) if component == scaled]
    own = min(((math.log(value), error) for value, error in full), default=None)
    rest = rest_of(analysis)
    if isinstance(point, Declined):
        # Where the load did not come as ordered, the limit is not known; when the hardware is full still is.
        # One level alone may have done more by chance.
        most = float(np.median(sorted(level.completion_rate for level in analysis.levels)[-3:] or [0.0]))
        told = point.reason in (Reason.GENERATOR, Reason.BLURRED) and own is not None and most > 0
        return Limit(most, 0.0, True, own, comfort, held) if told else point  # such response times are not the system's
    if point.throughput is not None and point.status in ("reached", "peaked"):
        rate = point.throughput
        return Limit(rate.value, rate.standard_error / rate.value, False, own, comfort, held, rest)
    return Limit(point.reached, 0.0, True, own, comfort, held, rest)


def caps_of(runs: Sequence[Analysis], scaled: str) -> tuple[Cap, ...]:
    """Where the hardware of the other components is full, by all runs together."""
    found: dict[str, list[tuple[float, float]]] = {}
    for one in runs:
        for key, component, (value, error) in _ceilings(one):
            if component != scaled:
                found.setdefault(key, []).append((math.log(value), max(CAP_ERROR, error) ** 2))
    caps = []
    for key, told in found.items():
        log, error = random_effects(*np.array(told).T)
        caps.append(Cap(key, math.exp(log), max(CAP_ERROR, error)))
    return tuple(sorted(caps, key=lambda cap: cap.rate))


def _ceilings(analysis: Analysis) -> Iterator[tuple[str, str, tuple[float, float]]]:
    """Each hardware resource, its component, and at which rate it is full (steps/s, with its relative error)."""
    evidence = analysis.limiting.evidence if isinstance(analysis.limiting, LimitingResource) else ()
    owners = {one.key: one.component for one in evidence}
    for demand in analysis.hardware_demands:
        if demand.ceiling is not None and demand.ceiling.value > 0 and demand.key in owners:
            error = demand.ceiling.standard_error / demand.ceiling.value
            yield demand.key, owners[demand.key], (demand.ceiling.value, error)


def points_of(limits: Sequence[tuple[float, Limit]]) -> tuple[Point, ...]:
    """The runs of each n together: the mean of the logs of their limits, as uncertain as they differ from run to run;
    of runs that did not reach it the highest rate counts, where none did."""
    points = []
    for n in sorted({n for n, _ in limits}):
        runs = [limit for at, limit in limits if at == n]
        reached = [(math.log(one.rate), one.error) for one in runs if not one.at_least]
        most = max(limit.rate for limit in runs)
        comfort = [
            (math.log(one.comfort.value), one.comfort.standard_error / one.comfort.value)
            for one in runs
            if one.comfort is not None
        ]
        points.append(
            Point(
                n,
                _together(reached) or Estimate(most, most, math.inf),
                not reached,
                len(runs),
                _together([one.own for one in runs if one.own is not None]),
                _together(comfort),
                max((one.held for one in runs if one.held is not None), default=None),
                tuple(one.rest for one in runs if one.rest is not None),
            )
        )
    return tuple(points)


def _together(told: Sequence[tuple[float, float]]) -> Estimate | None:
    """Logs with their errors; None of nothing."""
    if not told:
        return None
    logs, errors = np.array(told).T
    return _interval(*random_effects(logs, np.maximum(errors, LEAST_OWN_ERROR) ** 2))


def _interval(log: float, error: float) -> Estimate:
    value, times = math.exp(log), math.exp(Z_90 * error)
    return Estimate(value, value / times, value * times)


class _Growth:
    """Draws of a law's constants, and what one does alone by them: C(n) of each draw for any n. ``first`` is the n that
    counts as one, ``most`` the highest that was measured."""

    def __init__(self, law: Law, base: tuple[float, Estimate, float], first: float, most: float, random: Generator):
        self.law, self._first = law, first
        self.constants = np.zeros((DRAWS, 2))
        if law == "contention":
            self.constants[:, 0] = random.exponential(SIGMA, DRAWS)
        elif law == "coherency":
            self.constants[:, 0] = random.exponential(SIGMA_WITH_KAPPA, DRAWS)
            self.constants[:, 1] = np.exp(random.uniform(math.log(KAPPA[0]), math.log(KAPPA[1]), DRAWS))
        elif law == "shared limit":
            # Of one beyond what was measured limits tell nothing: :class:`_Beyond`.
            self.constants[:, 0] = np.exp(random.uniform(0, math.log(most / first), DRAWS))
        n, told, error = base
        alone = told.value * np.exp(error * random.standard_normal(DRAWS))
        self._alone = alone / self._shape(np.array([n]))[:, 0]

    def _shape(self, n: FloatArray) -> FloatArray:
        x = n[None, :] / self._first
        first, second = self.constants[:, :1], self.constants[:, 1:]
        if self.law == "shared limit":
            return np.asarray(np.minimum(x, first))
        return np.asarray(x / (1 + first * (x - 1) + second * x * (x - 1)))

    def __call__(self, n: FloatArray) -> FloatArray:
        """Steps per second with each n, shape (draws, k)."""
        return np.asarray(self._alone[:, None] * self._shape(n))


class _Beyond:
    """Draws of a limit that all share (steps/s), from the ``most`` that was measured to so many ``times`` that."""

    def __init__(self, most: float, times: float, random: Generator) -> None:
        self.rates = most * np.exp(random.uniform(0, math.log(times), DRAWS))
        self._ends = most, times * most

    def __call__(self, n: FloatArray) -> FloatArray:
        return np.asarray(np.broadcast_to(self.rates[:, None], (DRAWS, n.size)))

    def evidence(self, rests: Sequence[Rest]) -> FloatArray:
        """What response times say for each draw, shape (draws,)."""
        asked = np.geomspace(*self._ends, ASKED)
        return np.minimum(MOST_EVIDENCE, np.interp(self.rates, asked, evidence(rests, asked)))


@dataclass(frozen=True)
class _Own:
    """What the component's hardware bears: of the draws of its laws, one after the other, those ``chosen``."""

    growths: Sequence[_Growth]
    chosen: IntArray

    def __call__(self, n: FloatArray) -> FloatArray:
        return np.asarray(np.concatenate([grown(n) for grown in self.growths])[self.chosen])

    def shares(self, weights: FloatArray) -> list[float]:
        """What of the weights of the chosen draws is by each law."""
        law = self.chosen // DRAWS
        return [float(weights[law == k].sum()) for k in range(len(self.growths))]


@dataclass(frozen=True)
class _Part:
    """A law beside the component's own hardware, and how it grows (None: none), and what each of its draws weighs."""

    law: Law | None
    growth: _Growth | _Beyond | None
    weights: FloatArray


class Scaled:
    """Draws of all laws, weighed by what was measured, for asking what any n would bring. Raises
    :class:`CoreInputError` with under three n, where none reached its limit, or for an n not above 0."""

    def __init__(self, points: Sequence[Point], caps: Sequence[Cap] = (), *, metered: bool = True, seed: int = 1):
        self.points, self.caps = tuple(sorted(points, key=lambda point: point.n)), tuple(caps)
        reached = [point for point in self.points if not point.at_least]
        if len(self.points) < LEAST_VALUES:
            raise CoreInputError(f"values: a law needs {LEAST_VALUES} values measured, not {len(self.points)}.")
        if not reached:
            raise CoreInputError("load: no run reached its limit, so nothing tells how it grows. Let the load go on.")
        if not self.points[0].n > 0:
            raise CoreInputError(f"values: {self.points[0].n:g} is not above 0.")
        self._first, most = self.points[0].n, self.points[-1].n
        self.told_to = most * (FURTHEST if metered else FURTHEST_UNMETERED)
        random = np.random.default_rng(seed)
        errors = np.array([cap.error for cap in caps])
        drawn = np.exp(errors[:, None] * random.standard_normal((len(caps), DRAWS)))
        self._caps = np.array([cap.rate for cap in caps])[:, None] * drawn
        self._common = np.exp(COMMON_ERROR * random.standard_normal(DRAWS))
        base = (reached[0].n, reached[0].capacity, reached[0].error)
        self._laws = {law: _Growth(law, base, self._first, most, random) for law in LAWS}
        self._own = self._grown(most, random)
        last = self.points[-1].own or self.points[-1].capacity
        self._beyond = _Beyond(last.value, self.told_to / most, random)
        self._parts = self._weighed()

    def _grown(self, most: float, random: Generator) -> _Own | None:
        """How what the component's hardware bears grows, where it is metered with every n: draws by their weights."""
        told = [(point.n, point.own) for point in self.points if point.own is not None]
        if len(told) < len(self.points):
            return None
        at, ends = np.array([n for n, _ in told]), [own for _, own in told]
        errors = np.array([max(LEAST_OWN_ERROR, _error_of(own)) for own in ends])
        laws = HARDWARE_LAWS
        growths = [_Growth(law, (at[0], ends[0], float(errors[0])), self._first, most, random) for law in laws]
        off = np.array([(np.log(grown(at)) - np.log([own.value for own in ends])) / errors for grown in growths])
        weights = np.exp(-0.5 * (off**2)[:, :, 1:].sum(axis=2)) * np.array([PRIOR[law] for law in laws])[:, None]
        weights = weights.ravel()
        chosen = random.choice(weights.size, DRAWS, p=weights / weights.sum())
        return _Own(growths, chosen)

    def _weighed(self) -> list[_Part]:
        """Each law with the likelihood of the points by it."""
        at = np.array([point.n for point in self.points])
        errors = np.array([point.error for point in self.points])
        told = np.log([point.capacity.value for point in self.points])
        beyond = np.array([point.at_least for point in self.points])
        ways: list[tuple[Law | None, _Growth | _Beyond | None, float]] = [
            (law, self._laws[law], prior) for law, prior in (PRIOR if self._own is None else BESIDE).items()
        ]
        if self._own is not None:
            ways += [(None, None, OWN), ("shared limit", self._beyond, HIDDEN)]
        logs = []
        for _, growth, prior in ways:
            off = (told - np.log(self._limits(growth, at))) / errors
            each = np.where(beyond, special.log_ndtr(-off), -0.5 * off**2).sum(axis=1)
            if growth is self._beyond:
                each = each + self._beyond.evidence(self.points[-1].rests)
            elif self._own is not None and growth is not None:
                # What binds beside the hardware has to show: beyond what was measured limits do not speak for it.
                each = np.where((growth(at[-1:]) < SHOWS * self._limits(None, at[-1:]))[:, 0], each, -np.inf)
            logs.append(each + math.log(prior))
        most = max(float(one.max()) for one in logs)
        return [_Part(law, growth, np.exp(one - most)) for (law, growth, _), one in zip(ways, logs, strict=True)]

    def _limits(self, growth: _Growth | _Beyond | None, n: FloatArray) -> FloatArray:
        """C(n) of each draw by a law beside the component's own hardware (None: by that alone), shape (draws, k)."""
        bounds = [np.broadcast_to(self._caps.min(axis=0)[:, None], (DRAWS, n.size))] if self.caps else []
        bounds += [self._own(n)] if self._own is not None else []
        bounds += [growth(n)] if growth is not None else []
        return np.asarray(np.min(bounds, axis=0))

    @property
    def laws(self) -> dict[Law, float]:
        """How probable each law is."""
        sums = dict.fromkeys(LAWS, 0.0)
        for part in self._parts:
            if part.law is not None:
                sums[part.law] += float(part.weights.sum())
                continue
            assert self._own is not None  # what has no law is by hardware
            for law, share in zip(HARDWARE_LAWS, self._own.shares(part.weights), strict=True):
                sums[law] += share
        return {law: value / sum(sums.values()) for law, value in sums.items()}

    @property
    def ahead(self) -> Estimate | None:
        """A limit that all share, that no run has come to, and that response times tell of (steps/s, at 90 %)."""
        part = next((one for one in self._parts if one.growth is self._beyond), None)
        if part is None or part.weights.sum() < HEARD * sum(one.weights.sum() for one in self._parts):
            return None
        low, value, high = _quantiles(self._beyond.rates, part.weights, (0.05, 0.5, 0.95))
        return Estimate(value, low, high)

    def foretold(self, n: float) -> Foretold:
        """What ``n`` would bring."""
        at = np.array([n])
        weights = np.concatenate([part.weights for part in self._parts])
        limits = np.concatenate([self._limits(part.growth, at)[:, 0] * self._common for part in self._parts])
        low, value, high = _quantiles(limits, weights, (0.05, 0.5, 0.95))
        limit, sure = self._limiting(at)
        return Foretold(n, Estimate(value, low, high), limit, sure, high > WIDEST * low)

    def _limiting(self, at: FloatArray) -> tuple[str, float]:
        """What most draws, by weight, say gives out, and by how much of all weight."""
        shares: dict[str, float] = {}
        for part in self._parts:
            free = part.growth(at)[:, 0] if part.growth is not None else np.full(DRAWS, np.inf)
            own = self._own(at)[:, 0] if self._own is not None else np.full(DRAWS, np.inf)
            limit = np.minimum(free, own)
            capped = self._caps.min(axis=0) < limit if self.caps else np.zeros(DRAWS, bool)
            first = self._caps.argmin(axis=0) if self.caps else np.zeros(DRAWS, int)
            if part.law == "shared limit":
                shared = free <= own
                if isinstance(part.growth, _Growth):
                    shared = shared & (part.growth.constants[:, 0] < at[0] / self._first)
            else:
                shared = free < LACKS * own if self._own is not None else np.zeros(DRAWS, bool)
            for k, cap in enumerate(self.caps):
                shares[cap.key] = shares.get(cap.key, 0.0) + float(part.weights[capped & (first == k)].sum())
            for name, mine in (("shared", ~capped & shared), ("", ~capped & ~shared)):
                shares[name] = shares.get(name, 0.0) + float(part.weights[mine].sum())
        name = max(shares, key=lambda key: shares[key])
        return name, shares[name] / sum(shares.values())

    def faded_from(self) -> float | None:
        """The n from which one more brings under half of what the first ones brought each."""
        grid = np.arange(math.ceil(self._first), math.floor(self.told_to) + 1, dtype=np.float64)
        if grid.size < 2:
            return None
        weights = np.concatenate([part.weights for part in self._parts])
        limits = np.concatenate([self._limits(part.growth, grid) for part in self._parts])
        more = np.diff(limits, axis=1) / (limits[:, :1] / grid[0])
        for k, n in enumerate(grid[:-1].tolist()):
            if _quantiles(more[:, k], weights, (0.5,))[0] < FADED:
                return float(n)
        return None


def efficiency(point: Point, first: Point) -> Estimate | None:
    """C(n)/C(n₀) over n/n₀; None where a limit was not reached."""
    if point.at_least or first.at_least:
        return None
    times = point.n / first.n
    error = 0.0 if point is first else math.hypot(_error_of(point.capacity), _error_of(first.capacity))
    return _interval(math.log(point.capacity.value / first.capacity.value / times), error)


def _error_of(told: Estimate) -> float:
    """The relative standard error."""
    return math.log(told.high / told.low) / 2 / Z_90 if told.low > 0 else 1.0


def _quantiles(values: FloatArray, weights: FloatArray, shares: Sequence[float]) -> list[float]:
    order = np.argsort(values)
    at = np.cumsum(weights[order])
    return [float(values[order[min(int(np.searchsorted(at, share * at[-1])), order.size - 1)]]) for share in shares]
